"""Shaken runs compared: the digits that hold of each result, and the term where they were lost."""
