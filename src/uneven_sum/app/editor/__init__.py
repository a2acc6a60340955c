"""The editor of a file."""
