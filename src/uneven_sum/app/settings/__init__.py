"""The settings, keys among them."""
