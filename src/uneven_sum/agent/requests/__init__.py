"""Answers the host's requests."""
