"""Decides when to pause, and holds the pause."""
