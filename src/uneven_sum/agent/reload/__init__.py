"""Loads the user's modules with probes, and new source into a running script."""
