"""The commands of the Notes: keys, labels, explanations, actions."""

from __future__ import annotations

from ..shell.commands import Command

TITLE = "the Notes"
COMMANDS = [
    Command("ctrl+k", "save to Notes", "on the Bench, a Close-up and the Ledger: what is shown there"),
    Command("w", "write report", "Markdown, its pictures in a folder next to it", "write"),
    Command("t", "add text", "", "text"),
    Command("e", "edit", "the title; of a text, the text", "edit"),
    Command("< >", "move up / down", "the order in the report", "move(-1) move(1)"),
    Command("delete u", "remove / undo", "", "remove undo"),
    Command("?", "help", "all keys and words, searchable", "help"),
    Command("escape", "back to Bench", "", "back", also="2 q"),
]
