"""What the last shaken runs of a script have shown, for other screens: digits of names, of terms, by pass."""

from __future__ import annotations

import os
from dataclasses import dataclass, field

from ..differing.course import Course
from ..sources import print_of
from .findings import number
from .held import Held
from .runs import Digits

NEAR = 20  # lines in which the statement of a term is looked for


@dataclass
class Known:
    """By file: the CRC-32 of its text then, names with the places that set them, and terms by line and text."""

    prints: dict[str, int] = field(default_factory=dict)
    names: dict[str, dict[str, list[Held]]] = field(default_factory=dict)
    terms: dict[str, dict[tuple[int, str], float]] = field(default_factory=dict)

    @classmethod
    def of(cls, found: Digits) -> Known:
        made = cls()
        for held, name in found.judged.places:
            path = made._path(found.path(held.place.file))
            made.names.setdefault(path, {}).setdefault(name, []).append(held)
        for held in found.judge.held:
            path = made._path(found.path(held.place.file))
            key = (held.place.line, found.judge.text(held.place))
            known = made.terms.setdefault(path, {})
            known[key] = min(held.lowest, known.get(key, held.lowest))
        return made

    def _path(self, path: str) -> str:
        real = os.path.realpath(path)
        if real not in self.prints:
            self.prints[real] = _print(real)
        return real

    def is_of(self, path: str) -> bool:
        """Whether a file still has the text that ran."""
        real = os.path.realpath(path)
        return real in self.prints and self.prints[real] == _print(real)

    def of_name(self, path: str, name: str) -> str:
        """`15.2 digits hold`: the lowest where the name is set; empty where that is not known."""
        held = self.names.get(os.path.realpath(path), {}).get(name, [])
        return f"{number(min(h.lowest for h in held))} digits hold" if held and self.is_of(path) else ""

    def of_term(self, path: str, line: int, text: str) -> str:
        """The same of a term of the statement that ends at a line; of a name, as it was set."""
        known = self.terms.get(os.path.realpath(path), {})
        found = next((known[at, text] for at in range(line, max(0, line - NEAR), -1) if (at, text) in known), None)
        if found is None:
            return self.of_name(path, text)
        return f"{number(found)} digits hold" if self.is_of(path) else ""

    def by_pass(self, path: str, name: str, line: int, passes: int) -> Course | None:
        """The digits of a name by pass of the loop at a line, of which so many passes are known; None where they are
        not."""
        held = self.names.get(os.path.realpath(path), {}).get(name, [])
        fits = [h for h in held if h.place.line > line and h.passes >= passes]
        return fits[0].course if fits and self.is_of(path) else None


def _print(path: str) -> int:
    try:
        with open(path, "rb") as f:
            return print_of(path, f.read())
    except OSError:
        return 0
