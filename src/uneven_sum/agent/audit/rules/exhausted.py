"""`exhausted`: an iterator is entered again after its end, and gives nothing."""

from __future__ import annotations

import ast
import inspect
import os
import types
from typing import TYPE_CHECKING, Any

from ...core.records import record
from ...core.type_identity import is_one_of
from ...source.cells import place_words
from ..finding import Place
from .base import Rule

if TYPE_CHECKING:
    from ..auditor import Auditor

# These take all that there is.
TAKES = (
    "list",
    "sum",
    "max",
    "min",
    "tuple",
    "set",
    "sorted",
    "dict",
    "fromiter",
    "frozenset",
    "fsum",
    "mean",
    "Counter",
)
MOST = 1_000  # iterators that are kept alive to be known again: the last ones
LAZY = ("any", "all", "enumerate", "zip", "map", "filter")
READS = ("readlines", "read")


@record
class Entered:
    """An iterator: the object, where it was entered first, and whether all of it was taken there."""

    value: object
    site: int
    taken: bool


class Exhausted(Rule):
    """Generators say themselves when they are over; other iterators are over when what took them takes all, or when a
    loop over them that has no `break` is left."""

    NAME = "exhausted"
    WANTS = ("iter", *(f"call:{name}" for name in (*TAKES, *LAZY, *READS)))

    def __init__(self, auditor: Auditor) -> None:
        super().__init__(auditor)
        self.entered: dict[int, Entered] = {}  # by id

    def iterated(self, value: object, site: int) -> None:
        if _is_iterator(value):
            place = self.auditor.place(site)
            self._enter(value, site, _takes_all(place))

    def before(self, function: object, args: tuple[object, ...], named: dict[str, object], site: int) -> Any:
        name = getattr(function, "__name__", "")
        for value in args[:4]:
            if _is_iterator(value):
                self._enter(value, site, name in TAKES)

    def call(self, function: object, args: object, named: object, result: object, site: int) -> None:
        if getattr(function, "__name__", "") in READS:
            owner = getattr(function, "__self__", None)
            if _is_file(owner):
                self._enter(owner, site, True)

    def _enter(self, value: object, site: int, takes_all: bool) -> None:
        known = self.entered.get(id(value))
        if known is None or known.value is not value:
            if len(self.entered) >= MOST:
                del self.entered[next(iter(self.entered))]
            self.entered[id(value)] = Entered(value, site, takes_all)
            return
        ended = (
            inspect.getgeneratorstate(value) == inspect.GEN_CLOSED
            if type(value) is types.GeneratorType
            else known.taken
        )
        if _is_file(value):
            ended = ended and _is_at_end(value)
        if not ended:
            known.taken = known.taken or takes_all
            return
        if known.site == site or self.auditor.has(self, site):
            return
        place, first = self.auditor.place(site), self.auditor.place(known.site)
        kind = "a file that is read to its end" if _is_file(value) else f"a {type(value).__name__} that is used up"
        at = place_words(first.file, first.line)
        self.auditor.report(
            self,
            site,
            f"{place.text} goes over {kind}: {at} has taken all of it ({first.text}). Nothing is left here. "
            f"{'seek(0) goes back to its start.' if _is_file(value) else 'A list can be gone over twice.'}",
            0.85,
            evidence={"used up at line": first.line, "by": first.text},
        )


def _is_iterator(value: object) -> bool:
    kind = type(value)
    if kind is types.GeneratorType or is_one_of(kind, map, zip, filter, enumerate, reversed):
        return True
    if kind.__module__ == "builtins" and kind.__name__.endswith(
        ("_iterator", "keyiterator", "valueiterator", "itemiterator")
    ):
        return True
    return (kind.__module__, kind.__name__) in {("_csv", "reader"), ("csv", "DictReader")} or _is_file(value)


def _is_file(value: object) -> bool:
    return type(value).__module__ in ("_io", "tempfile") and type(value).__name__ in (
        *("TextIOWrapper", "BufferedReader", "StringIO", "_TemporaryFileWrapper"),
    )


def _is_at_end(value: Any) -> bool:
    """Whether a file's place is its end: it may have been set back since."""
    try:
        size = len(value.getvalue()) if type(value).__name__ == "StringIO" else os.fstat(value.fileno()).st_size
        return bool(value.tell() >= size)
    except (OSError, ValueError):
        return True  # `tell` does not work in the midst of a loop over it


def _takes_all(place: Place) -> bool:
    """Whether the loop or comprehension over the term goes on to the end."""
    for outer in place.around:
        if isinstance(outer, (ast.ListComp, ast.SetComp, ast.DictComp)):
            return True
        if isinstance(outer, ast.GeneratorExp):
            around = place.around
            consumer = around[around.index(outer) + 1] if outer in around[:-1] else None
            name = getattr(consumer.func, "id", "") if isinstance(consumer, ast.Call) else ""
            return name in TAKES
        if isinstance(outer, (ast.For, ast.While)):
            inner = [n for s in outer.body for n in ast.walk(s)]
            return not any(isinstance(n, (ast.Break, ast.Return, ast.Raise)) for n in inner)
    return False
