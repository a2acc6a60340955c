"""The Desk (start screen): scripts, their run options, and the guide's case."""
