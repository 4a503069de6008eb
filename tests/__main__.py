"""``python -m tests``: see `tests.running`, which the processes of the pool can load and a main module they cannot."""

import sys

from tests.running import main

if __name__ == "__main__":
    sys.exit(main())
