"""Calls written down: their arguments as text, and as files beside it."""
