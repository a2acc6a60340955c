"""The commands of the Findings: keys, labels, explanations, actions."""

from __future__ import annotations

from ..shell.commands import Command

TITLE = "the Findings"
COMMANDS = [
    Command("up down", "choose finding", "the weightiest first"),
    Command("enter", "go there", "runs the script to that line and pass, and pauses", "go"),
    Command("w", "try changed line", "goes there, and tries known versions of it in a copy", "try_line"),
    Command("W", "keep call", "goes there, and keeps the call as a test or as a small script", "keep_call"),
    Command("o", "find origin", "goes there, and asks which value's origin to find", "origin"),
    Command("A", "accept", "meant so: it does not count any longer, kept with the case; again: counts", "accept"),
    Command("ctrl+k", "save to Notes", "the finding with its evidence", "keep"),
    Command("e", "edit file", "at the line of the finding", "edit"),
    Command("h", "hide accepted", "or show them again", "hide"),
    Command(
        "d", "check digits", "four runs, three with other last digits: which digits of the results hold?", "digits"
    ),
    Command("r", "audit again", "runs the script again", "again"),
    Command("x", "end run", "shows what was found so far", "end"),
    Command("c", "copy finding", "its sentence and place, to the clipboard", "copy"),
    Command("T", "switch theme", "slate (dark) or chalk (light)", "theme"),
    Command("?", "help", "all keys and words, searchable", "help"),
    Command("escape", "back", "", "back", also="q 2"),
]
