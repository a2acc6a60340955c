"""The commands of the editor: keys, labels, explanations, actions."""

from __future__ import annotations

from ..shell.commands import Command

TITLE = "the editor"
COMMANDS = [
    Command("ctrl+s", "save", "all or nothing; asks when the file was changed outside", "save"),
    Command("ctrl+f f3", "find", "a text; f3 finds the next", "find find_next", priority=True),
    Command("ctrl+r", "replace", "a text, everywhere", "replace", priority=True),
    Command("ctrl+l", "go to line", "", "go_to", priority=True),
    Command("ctrl+b", "set breakpoint", "on or off at the cursor line", "breakpoint", priority=True),
    Command("ctrl+n", "next finding", "what is wrong in the text, errors first", "next_finding", priority=True),
    Command("ctrl+z ctrl+y", "undo / redo", ""),
    Command("ctrl+e", "open in $EDITOR", "as the environment's VISUAL or EDITOR says", "own_editor", priority=True),
    Command("ctrl+o", "help", "all keys and words, searchable", "help", priority=True),
    Command("escape", "close", "asks when the text is not saved", "leave", also="ctrl+q", priority=True),
]
