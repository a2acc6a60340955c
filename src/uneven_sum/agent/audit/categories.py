"""Sorts types into what rules ask about: numbers, arrays, frames, texts."""

from __future__ import annotations

from ..core.type_identity import key_of
from ..values import nonfinite

NUMBERS = frozenset({"number", "float64"})
NOTHING = frozenset({"nothing"})
# By the id of a type, since a metaclass may define `__eq__`; with how many of the packages were loaded.
_known: dict[int, tuple[type, str, int]] = {}
_PLAIN: dict[int, str] = {
    **{key_of(kind): "number" for kind in (float, int)},
    **{key_of(kind): "nothing" for kind in (bool, bytes, type(None))},
    **{key_of(kind): "container" for kind in (list, tuple, dict, set, frozenset)},
    key_of(str): "text",
}


def category(kind: type) -> str:
    """`number` (Python's own), `float64`, `float` (narrower ones), `integer`, `array`, `frame` (series and indices
    too), `text`, `container`, `nothing` or `other`."""
    plain = _PLAIN.get(key_of(kind))
    if plain is not None:
        return plain
    np, pd = nonfinite.module("numpy"), nonfinite.module("pandas")
    known = _known.get(key_of(kind))
    loaded = sum(nonfinite.module(name) is not None for name in ("numpy", "pandas", "polars"))
    if known is None or known[2] != loaded:
        known = _known[key_of(kind)] = (kind, _found(kind, np, pd), loaded)
    return known[1]


def _found(kind: type, np: object, pd: object) -> str:
    numpy: list[tuple[str, str]] = [("float64", "float64"), ("floating", "float"), ("integer", "integer")]
    numpy += [("ndarray", "array"), ("bool_", "nothing")]
    for name, found in numpy if np is not None else ():
        if issubclass(kind, getattr(np, name)):
            return found
    for name in ("Series", "DataFrame", "Index") if pd is not None else ():
        if issubclass(kind, getattr(pd, name)):
            return "frame"
    pl = nonfinite.module("polars")
    if pl is not None and issubclass(kind, (pl.Series, pl.DataFrame)):
        return "frame"
    return "text" if issubclass(kind, str) else "other"
