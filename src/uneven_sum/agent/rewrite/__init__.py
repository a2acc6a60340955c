"""Puts probes into a syntax tree."""
