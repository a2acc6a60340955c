"""The commands of the settings: keys, labels, explanations, actions."""

from __future__ import annotations

from ..shell.commands import Command

TITLE = "the settings"
COMMANDS = [
    Command("up down", "choose", "a setting or a key"),
    Command("enter", "change", "takes effect at once"),
    Command("delete", "reset to default", "", "default"),
    Command("?", "help", "all keys and words, searchable", "help"),
    Command("escape", "close", "", "back", also="q"),
]
