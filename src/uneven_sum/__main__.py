"""`python -m uneven_sum`."""

import os
import sys

# A module of the folder that we are called in must not take the place of one of the standard library's.
sys.path[:] = [p for p in sys.path if p not in ("", os.getcwd())]

from .cli import main  # noqa: E402  # after the path is mended

main()
