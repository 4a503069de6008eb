"""``python -m pribble``"""

import sys

from pribble.cli import main

sys.exit(main())
