"""The tests: they drive the public interface, the command line and the examples.

Generated cases are the same in every run, so that a run says something about the change and not about luck;
``PRIBBLE_EXPLORE=N make test`` tries others, N times as many.
"""

import os

from hypothesis import settings

settings.register_profile("steady", derandomize=True, deadline=None)
if not os.environ.get("PRIBBLE_EXPLORE"):
    settings.load_profile("steady")
