"""The commands of a sweep: keys, labels, explanations, actions."""

from __future__ import annotations

from ..shell.commands import Command

TITLE = "a sweep"
COMMANDS = [
    Command("enter", "open run", "on the Bench, with its arguments; of a fault its smallest run", "open"),
    Command("tab", "switch list", "faults, all runs that went wrong, runs with their results", "list", priority=True),
    Command("x", "end sweep", "what is done is kept", "end"),
    Command("r", "go on", "with what has not run yet", "go_on"),
    Command("w", "write report", "Markdown, or pages (.pdf)", "write"),
    Command("?", "help", "all keys and words, searchable", "help"),
    Command("q", "quit", "ends the sweep; what is done is kept", "leave", also="escape ctrl+q ctrl+c"),
]
