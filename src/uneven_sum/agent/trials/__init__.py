"""Evaluation in a copy of the process, and in the script itself."""
