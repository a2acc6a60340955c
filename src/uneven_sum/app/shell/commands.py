"""A command of a screen, declared once: its keys, label, explanation and action.

The key bindings, the bottom line, `?`, the palette, the settings and the documentation come from the declarations, in
`commands.py` of each screen.
"""

from __future__ import annotations

from dataclasses import dataclass

from textual.binding import Binding

from .keymap import FIXED, is_key, named

AnyBinding = Binding | tuple[str, str] | tuple[str, str, str]
NO_ACTION = "-"


@dataclass(frozen=True)
class Command:
    """`keys`, separated by spaces, as they are written: none for what is in the palette only.

    `actions`: one for each key; without keys, a method of the screen, with an argument after a colon; empty: an
    explanation only.  `also`: further keys for the first action.  Without a label a command is in no list.
    """

    keys: str
    label: str
    help: str = ""
    actions: str = ""
    also: str = ""
    priority: bool = False

    def single(self) -> list[str]:
        return self.keys.split()

    def bindings(self) -> list[Binding]:
        if not self.keys or not self.actions:
            return []
        actions = self.actions.split()
        pairs = [*zip(self.single(), actions), *((key, actions[0]) for key in self.also.split())]
        found = [(key, action) for key, action in pairs if action != NO_ACTION]
        return [Binding(named(key), action, show=False, priority=self.priority) for key, action in found]


def bindings(commands: list[Command]) -> list[AnyBinding]:
    return [binding for command in commands for binding in command.bindings()]


def hints(commands: list[Command], *keys: str) -> list[tuple[str, str]]:
    """Keys with their labels for the bottom line.  A key may be one of several (`ctrl+f` of `ctrl+f f3`)."""
    labels: dict[str, str] = {}
    for command in commands:
        for name in (command.keys, *command.single()):
            labels.setdefault(name, command.label)
    return [(key, labels[key]) for key in keys]


def changeable(commands: list[Command]) -> list[tuple[str, str, str]]:
    """Each key that can be changed, once, with its label and explanation."""
    found: dict[str, tuple[str, str, str]] = {}
    for command in commands:
        for number, key in enumerate(command.single() if command.label else []):
            if named(key) not in FIXED and is_key(key):
                label = command.label if not number else f"{command.label} ({number + 1})"
                found.setdefault(key, (key, label, command.help))
    return list(found.values())


def listed(commands: list[Command]) -> list[Command]:
    """What `?` lists: all that have keys and a label."""
    return [c for c in commands if c.keys and c.label]
