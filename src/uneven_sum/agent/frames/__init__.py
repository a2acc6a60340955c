"""Calls on the stack: their names, loops and passes, and who handles an exception."""
