"""Lookouts: the breakpoints and tripwires."""
