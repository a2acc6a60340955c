"""The command line: `main` is the program."""

from .main import cli, main
from .options import EXAMPLES

__all__ = ["EXAMPLES", "cli", "main"]
