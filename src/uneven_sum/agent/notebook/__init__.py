"""What a notebook's cells find around them: their outputs, `display`, `get_ipython()`, figures."""
