"""The registry of kinds: how a type of value is told in one line, in facts, by its parts, and as a grid.

A kind is found by the type itself or its ancestors, by the name of a class (so that its module is not
imported for scripts that do without it), or by a test.  Whatever a kind does runs none of the script's own
code, copies no large array, and what it raises is caught by `values`.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from ..scope import kind_name

TEXT_SHOWN = 120
Summary = dict[str, Any]
Fact = tuple[str, str]  # label, text
Pair = tuple[str, Any]


@dataclass
class Kind:
    """One kind.  `children` gives (name, value) pairs of a page; `plots` are the plots that make sense."""

    line: Callable[[Any], Summary]
    facts: Callable[[Any], list[Fact]] | None = None
    count: Callable[[Any], int] | None = None
    children: Callable[[Any, int, int], list[Pair]] | None = None
    grid: Callable[[Any], Any] | None = None
    plots: Callable[[Any], list[str]] | None = None
    text: Callable[[Any], str] | None = None  # for the reader


BY_TYPE: dict[type, Kind] = {}
BY_NAME: dict[str, Kind] = {}
BY_TEST: list[tuple[Callable[[type], bool], Kind]] = []


def register(kind: Kind, *types: type, names: tuple[str, ...] = (), test: Callable[[type], bool] | None = None) -> None:
    for t in types:
        BY_TYPE[t] = kind
    for name in names:
        BY_NAME[name] = kind
    if test is not None:
        BY_TEST.append((test, kind))


def find(kind: type) -> Kind:
    """The kind of a type; the last resort is `object`'s."""
    for base in type.__dict__["__mro__"].__get__(kind):
        found = BY_TYPE.get(base) if base is not object else None
        found = found or BY_NAME.get(_named(base))
        if found is not None:
            return found
    for test, found in BY_TEST:
        try:
            if test(kind):
                return found
        except Exception:
            continue
    return BY_TYPE[object]


def _named(base: type) -> str:
    module = type.__dict__["__module__"].__get__(base)
    return f"{module}.{type.__dict__['__qualname__'].__get__(base)}"


# -- texts -------------------------------------------------------------------------------------------


def number(value: Any, digits: int = 6) -> str:
    """A float with at most six significant digits; whole floats keep their `.0`."""
    if value != value:
        return "nan"
    if value in (float("inf"), float("-inf")):
        return "inf" if value > 0 else "-inf"
    text = f"{float(value):.{digits}g}"
    return text if any(c in text for c in ".en") else text + ".0"


def clean(text: str, limit: int = TEXT_SHOWN) -> str:
    """Text that is safe to send to a terminal: one line, no control characters, no lone surrogates."""
    cut = text[: limit + 1]
    shown = "".join(c if c.isprintable() else repr(c)[1:-1] for c in cut)
    return shown[:limit] + "…" if len(text) > limit else shown


def plural(count: int, word: str) -> str:
    many = f"{word[:-1]}ies" if word.endswith("y") and word[-2] not in "aeiou" else f"{word}s"
    return f"{count} {word if count == 1 else many}"


def summary(value: Any) -> Summary:
    """`text`, `type`, `shape`, `dtype`, `nonfinite` and `kind` of a value; numbers of arrays as text."""
    from .. import nonfinite

    kind = type(value)
    base: Summary = {"type": kind_name(kind), "shape": None, "dtype": None, "nonfinite": 0, "kind": "object"}
    try:
        base.update(find(kind).line(value))
        if not base["nonfinite"] and base["kind"] != "array":
            base["nonfinite"] = nonfinite.count(value)
    except Exception as e:
        base["text"] = f"{base['type']} that cannot be shown: {type(e).__name__}"
    return base


def text_of(value: Any) -> str:
    """The one-line text of a value."""
    return str(summary(value)["text"])


def element(value: Any) -> str:
    """A value within another, short."""
    if isinstance(value, (list, tuple, dict, set, frozenset)):
        return f"{type(value).__name__} of {length(value)}"
    text = text_of(value)
    return text if len(text) <= 40 else clean(text, 39)


def length(value: Any) -> int:
    """The true length of a collection, whatever a subclass says of it."""
    for base in (list, tuple, dict, set, frozenset):
        if isinstance(value, base):
            return int(base.__len__(value))  # type: ignore[arg-type]
    return 0
