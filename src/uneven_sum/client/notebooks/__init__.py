"""Notebooks, and scripts whose cells are marked."""
