"""Describes values: in one line, as facts, by their parts, as a grid.  Each kind of value is a file of `kinds`.

Nothing here runs the script's own code, copies a large array, or raises.
"""

from __future__ import annotations

from ..core.text import clean, number, plural
from . import kinds  # noqa: F401  fills the registry
from .kinds.base import Fact, Pair, Summary, find, summary, text_of
from .kinds.objects import attributes, properties

__all__ = [
    "Fact",
    "Pair",
    "Summary",
    "attributes",
    "children",
    "children_count",
    "clean",
    "facts",
    "find",
    "number",
    "plural",
    "properties",
    "summary",
    "text_of",
]


def facts(value: object) -> list[Fact]:
    """The facts of a value for the Close-up: pairs of label and text."""
    kind = find(type(value))
    try:
        return kind.facts(value) if kind.facts is not None else []
    except Exception as e:
        return [("", f"cannot be looked at: {type(e).__name__}: {clean(str(e), 120)}")]


def children_count(value: object) -> int:
    kind = find(type(value))
    try:
        return kind.count(value) if kind.count is not None else 0
    except Exception:
        return 0


def children(value: object, start: int, count: int) -> list[Pair]:
    """A page of a value's parts."""
    kind = find(type(value))
    try:
        return kind.children(value, start, count) if kind.children is not None else []
    except Exception:
        return []
