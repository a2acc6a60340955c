"""Shaken runs: inexact results are moved by one unit in the last place, so that the spread of several runs shows the
digits that hold."""
