"""Two runs side by side: the first place where their values part."""
