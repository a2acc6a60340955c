"""Two runs side by side: where they differ."""
