"""The commands of the Desk: keys, labels, explanations, actions."""

from __future__ import annotations

from ..shell.commands import Command

TITLE = "the Desk"
COMMANDS = [
    Command("up down", "choose case", "recent ones, then the shipped", "along(-1) along(1)"),
    Command("enter", "run", "with pauses, on the Bench", "run(True)"),
    Command("8 a", "audit", "runs to the end, and lists finite results that cannot be trusted", "audit audit"),
    Command("9", "compare runs", "with another script, a revision, a stored run, or itself", "differences"),
    Command("f", "run without pauses", "no checks, no snapshots: full speed", "run(False)"),
    Command(
        "tab",
        "edit run options",
        "arguments, interpreter, folder, environment, what to pause on, input; escape: back to the list",
    ),
    Command("o", "open script", "by typing a part of its path", "choose_file"),
    Command("m", "open module", "run by its name", "module"),
    Command("i", "choose interpreter", "one of the environments found nearby", "interpreter"),
    Command("n", "next finding", "what is wrong in the text, errors first", "next_finding"),
    Command("e", "edit script", "", "edit"),
    Command("k", "choose checks", "each kind of finding can be off", "kinds"),
    Command("g", "start guide", "the first steps, on a shipped case", "guide"),
    Command("7", "open settings", "theme, limits, formats, keys: for all cases", "settings"),
    Command("T", "switch theme", "slate (dark) or chalk (light)", "theme"),
    Command("?", "help", "all keys and words, searchable", "help"),
    Command("q", "quit", "", "leave", also="ctrl+q ctrl+c"),
    Command("escape", "", "", "leave_field"),
]
