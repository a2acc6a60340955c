"""Recorded loops: what each pass assigned, what is kept of it, and what its series show."""
