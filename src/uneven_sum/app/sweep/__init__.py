"""The screen of a sweep."""
