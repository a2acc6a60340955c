"""What collections and objects hold among the operands of an expression, at any depth.

A sum of a list is nan by an element, `list(grid)` holds what an attribute of `grid` does.  No code of the script runs.
"""

from __future__ import annotations

import collections
import itertools
from collections.abc import Iterable, Iterator
from typing import Any

from ..values import nonfinite
from ..values.kinds.objects import attributes

GIVES_VALUES = ("__iter__", "__getitem__", "__array__", "__float__", "__complex__")  # a class with one of them
VIEWS: tuple[type, ...] = (type({}.keys()), type({}.values()), type({}.items()))
BASES = (list, tuple, set, frozenset, collections.deque)
DEEP = 5
MANY = 100_000  # values that are looked at


def bad_within(value: object) -> list[object]:
    """The numbers, arrays and frames with non-finite cells that a collection or an object holds; empty for others."""
    if _parts(value) is None:
        return []
    try:
        return [held for held in _held(value, 0, itertools.repeat(None, MANY)) if nonfinite.any_bad(held)]
    except RuntimeError:  # another thread changes it
        return []


def _held(value: object, depth: int, left: Iterator[None]) -> Iterator[object]:
    """`left`: as many values as are still looked at, of however many collections."""
    parts = _parts(value)
    if parts is None:
        yield value
    elif depth < DEEP:
        for part, _ in zip(parts, left):
            yield from _held(part, depth + 1, left)


def _parts(value: Any) -> Iterable[object] | None:
    """What a value consists of; None for a number, an array, a frame, and all that gives no values."""
    kind = type(value)
    if kind is float or kind is int or kind is str:
        return None
    for base in BASES:
        if issubclass(kind, base):
            held: Iterator[object] = base.__iter__(value)
            return held
    if issubclass(kind, dict) or kind in VIEWS:
        return list(dict.values(value) if issubclass(kind, dict) else value)
    if hasattr(kind, "typecode") and kind.__module__ == "array":
        return list(value) if value.typecode in "fd" else []
    np = nonfinite.module("numpy")
    if np is not None and kind is np.ndarray and value.dtype.kind == "O":
        return list(value.ravel().tolist())
    if any(hasattr(kind, name) for name in GIVES_VALUES) and not nonfinite.has_look(kind):
        return attributes(value).values()
    return None
