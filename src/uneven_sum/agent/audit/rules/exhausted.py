"""`exhausted`: a generator is entered again after its end, and gives nothing."""

from __future__ import annotations

import inspect
import types
from typing import Any

from ...core.type_identity import is_one_of
from .base import Rule

TAKES = (
    "list",
    "sum",
    "max",
    "min",
    "tuple",
    "set",
    "sorted",
    "any",
    "all",
    "dict",
    "fromiter",
    "enumerate",
    "zip",
    "map",
)


class Exhausted(Rule):
    NAME = "exhausted"
    WANTS = ("iter", *(f"call:{name}" for name in TAKES))

    def __init__(self, auditor: Any) -> None:
        super().__init__(auditor)
        self.entered: dict[int, tuple[Any, int, bool]] = {}  # by id: the iterator, where it was entered first

    def iterated(self, value: object, site: int) -> None:
        self._enter(value, site)

    def before(self, function: object, args: tuple[Any, ...], named: dict[str, Any], site: int) -> Any:
        for value in args[:4]:
            self._enter(value, site)

    def _enter(self, value: Any, site: int) -> None:
        kind = type(value)
        if kind is types.GeneratorType:
            ended = inspect.getgeneratorstate(value) == inspect.GEN_CLOSED
        elif is_one_of(kind, map, zip, filter, enumerate):
            ended = None
        else:
            return
        known = self.entered.get(id(value))
        if known is None:
            self.entered[id(value)] = (value, site, bool(ended))
            return
        if ended and not self.auditor.has(self, site):
            place, first = self.auditor.place(site), self.auditor.place(known[1])
            self.auditor.report(
                self,
                site,
                f"{place.text} goes over a generator that is used up: line {first.line} has taken all of it "
                f"({first.text}). Nothing is left here. A list can be gone over twice.",
                0.85,
                evidence={"used up at line": first.line, "by": first.text},
            )
