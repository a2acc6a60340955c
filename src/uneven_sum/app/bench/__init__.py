"""The Bench (debugger view): the screen of a running or paused script."""
