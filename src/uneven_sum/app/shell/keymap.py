"""Keys that the user has changed: `[keys.bench]` of the settings says, for a default key, which key replaces it.

A change that cannot hold (no such key, or a key in use) is reported; the key stays as it was.
"""

from __future__ import annotations

import unicodedata
from typing import Any, ClassVar, Protocol, cast

from textual.app import App
from textual.binding import Binding, BindingsMap, BindingType
from textual.keys import Keys as KnownKeys

from ...client import Goal, Launch, settings
from ...client.digits.known import Known
from ...protocol import Finding
from .theme import Palette

# Where Textual's name of a sign is not its name in Unicode.
REPLACED = {
    "solidus": "slash",
    "reverse_solidus": "backslash",
    "commercial_at": "at",
    "hyphen_minus": "minus",
    "plus_sign": "plus",
    "low_line": "underscore",
}


def named(shown: str) -> str:
    """Textual's name of a key as we write it: signs are written as themselves."""
    if len(shown) != 1 or shown.isalnum() or shown == " ":
        return shown
    name = unicodedata.name(shown, shown).lower().replace("-", "_").replace(" ", "_")
    return REPLACED.get(name, name)


NAMES = {named(sign): sign for sign in map(chr, range(33, 0x250)) if not sign.isalnum()}
KNOWN = {k.value for k in KnownKeys} | {"space"}
# What a newcomer tries in order to leave, to move and to get help does so always.
FIXED = {"escape", "up", "down", "left", "right", "pageup", "pagedown", "home", "end", "ctrl+c", "ctrl+q", "ctrl+p"}

Changes = dict[str, dict[str, str]]  # screen -> default key -> present key


def shown(name: str) -> str:
    """A key as we write it."""
    return NAMES.get(name, name)


def is_key(text: str) -> bool:
    """Whether a text is one key: a sign, or a name such as `f2` or `ctrl+t`."""
    name = named(text)
    return (len(text) == 1 and text.isprintable() and text != " ") or name in KNOWN or name in NAMES


def fitting(bindings: BindingsMap, changes: dict[str, str], screen: str) -> tuple[dict[str, str], list[str]]:
    """The changes that can hold on one screen, in Textual's names; and a sentence for each that cannot."""
    told, taken = [], {}
    for old, new in changes.items():
        about = f"keys.{screen}: {old} = {new!r}"
        if named(old) not in bindings.key_to_bindings:
            told.append(f"{about}: {old} does nothing there.")
        elif named(old) in FIXED or named(new) in FIXED:
            told.append(f"{about}: {old if named(old) in FIXED else new} stays what it is.")
        elif not is_key(new):
            told.append(f"{about}: {new!r} is not a key. A key is a sign, or a name such as f2 or ctrl+t.")
        elif old != new:
            taken[named(old)] = named(new)
    # What gives its own key away leaves room for another; repeated, since a refused change keeps its key.
    while True:
        stay = set(bindings.key_to_bindings) - set(taken)
        news = list(taken.values())
        clash = next((o for o, n in taken.items() if n in stay or news.count(n) > 1), None)
        if clash is None:
            return taken, told
        new = taken.pop(clash)
        told.append(f"keys.{screen}: {shown(clash)} = {shown(new)!r}: {shown(new)} does something else already.")


class Application(Protocol):
    """What screens ask of the application."""

    palette: Palette
    digits: Known | None  # of the shaken runs that came last
    closing: int  # the signal that ends the program, or 0

    def show_help(self, screen: Keyed) -> None: ...
    def open_bench(self, launch: Launch, guided: bool = False) -> None: ...
    def open_findings(self, launch: Launch) -> None: ...
    def compare(self, launch: Launch, earlier: dict[str, str]) -> None: ...
    def go_to_place(self, launch: Launch, goal: Goal) -> None: ...
    def go_to_finding(self, launch: Launch, finding: Finding, then: str = "") -> None: ...
    def open_settings(self) -> None: ...
    def to_desk(self) -> None: ...
    def refuse(self, message: str) -> None: ...
    def apply_keys(self, changes: Changes) -> list[str]: ...
    def apply_settings(self, now: settings.Settings, theme: bool) -> list[str]: ...
    def keys_of(self, screen: str) -> set[str]: ...
    def screens(self) -> list[type[Keyed]]: ...


class Keyed:
    """A screen whose keys can be changed.  `KEYS_OF`: its name in the settings; `ACTIONS`: its commands."""

    KEYS_OF = ""
    HEADING: ClassVar[str] = ""
    ACTIONS: ClassVar[Any] = ()
    BINDINGS: ClassVar[list[BindingType]]
    _bindings: BindingsMap
    app: App[object]
    palette: Palette

    def __init__(self, *args: object, **kwargs: object) -> None:
        super().__init__(*args, **kwargs)
        self._as_they_come = self._bindings.copy()
        self._now: dict[str, str] = {}
        self.take_keys(settings.load()[0].keys)

    def take_keys(self, changes: Changes) -> list[str]:
        """Applies what the settings say of this screen's keys; reports what cannot apply."""
        self._now, told = fitting(self._as_they_come, changes.get(self.KEYS_OF, {}), self.KEYS_OF)
        found: dict[str, list[Binding]] = {}
        for key, bindings in self._as_they_come.key_to_bindings.items():
            key = self._now.get(key, key)
            found.setdefault(key, []).extend(b.with_key(key=key, key_display=None) for b in bindings)
        self._bindings.key_to_bindings = found
        return told

    def key(self, as_it_comes: str) -> str:
        """Which key (or keys, with blanks between) does now what these do by default; as we write it."""
        return " ".join(shown(self._now.get(named(k), named(k))) for k in as_it_comes.split(" "))

    def action_of(self, as_it_comes: str) -> str | None:
        """The action of a default key."""
        found = self._as_they_come.key_to_bindings.get(named(as_it_comes))
        return found[0].action if found else None

    def on_screen_suspend(self) -> None:
        self._bottom_line(False)

    def on_screen_resume(self) -> None:
        self._bottom_line(True)

    def _bottom_line(self, acts: bool) -> None:
        """Below a dialog the keys of the bottom line do not act: it is empty."""
        for line in self.query("Keys"):  # type: ignore[attr-defined]  # mixed into screens
            line.act(acts)

    def action_help(self) -> None:
        cast("Application", self.app).show_help(self)
