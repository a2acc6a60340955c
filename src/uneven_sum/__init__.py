"""Uneven Sum: finds the faulty calculation in a numerical Python script."""

__version__ = "0.1.0"
