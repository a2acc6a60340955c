"""Snapshots: sleeping copies of the script to go back to."""
