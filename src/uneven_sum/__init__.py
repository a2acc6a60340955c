"""Uneven Sum: finds the faulty calculation in a numerical Python script."""

import logging

__version__ = "0.1.0"

# Without --log nothing is written: Python's last resort would put our messages on the user's terminal.
logging.getLogger("uneven_sum").addHandler(logging.NullHandler())
