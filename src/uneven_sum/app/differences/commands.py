"""The commands of the Differences: keys, labels, explanations, actions."""

from __future__ import annotations

from ..shell.commands import Command

TITLE = "the Differences"
COMMANDS = [
    Command("up down", "choose difference", "places in the order in which they first differ"),
    Command("tab", "switch run", "the left or the right one, for enter", "side", priority=True),
    Command("enter", "go there", "runs the chosen script to that place, and pauses", "go"),
    Command("o", "show origin", "the first difference in what the chosen value is made from", "origin"),
    Command("t", "compare terms", "each subexpression, in new runs; again: only what is stored", "terms"),
    Command("n", "set tolerance", "relative and absolute, in new runs: smaller differences do not count", "tolerance"),
    Command("ctrl+k", "save to Notes", "the differences as a text", "keep"),
    Command("r", "run again", "both runs again", "again"),
    Command("x", "end runs", "shows what was compared so far", "end"),
    Command("c", "copy difference", "the place and both values, to the clipboard", "copy"),
    Command("T", "switch theme", "slate (dark) or chalk (light)", "theme"),
    Command("?", "help", "all keys and words, searchable", "help"),
    Command("escape", "back", "", "back", also="q 2"),
]
