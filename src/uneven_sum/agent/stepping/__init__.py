"""Steps, and jumps to another line."""
