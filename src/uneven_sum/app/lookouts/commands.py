"""The commands of the Lookouts: keys, labels, explanations, actions."""

from __future__ import annotations

from ..shell.commands import Command

TITLE = "the Lookouts"
COMMANDS = [
    Command("up down", "choose", "a sentence", "along(-1) along(1)"),
    Command("enter M", "edit", "the sentence in place; it is checked as it is typed", "edit edit"),
    Command("space", "turn on / off", "the chosen one; it is kept", "switch"),
    Command("n", "add breakpoint", "by its sentence", "new"),
    Command("delete", "remove", "the chosen one", "remove", also="backspace"),
    Command("U", "undo removal", "", "undo"),
    Command("N", "turn all on", "", "all(True)"),
    Command("F", "turn all off", "", "all(False)"),
    Command("D", "remove all", "breakpoints and accepted places; U brings them back", "remove_all"),
    Command("g", "show line", "on the Bench", "show_line"),
    Command("?", "help", "all keys and words, searchable", "help"),
    Command("escape", "back to Bench", "", "back", also="2 q"),
]
