"""Breakpoints of the user: where they stand, when they count, and whether their texts can be used."""
