"""Keeps a call that went wrong: as a test, or as a small script."""
