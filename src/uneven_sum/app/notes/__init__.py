"""Notes: saved evidence, and the report."""
