"""The Close-up (inspector): one value."""
