"""`python -m uneven_sum`."""

from .cli import main

main()
