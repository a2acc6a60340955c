"""The functions that rewritten code calls."""
