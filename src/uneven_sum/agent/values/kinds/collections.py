"""Lists, tuples, sets, mappings, deques, ranges."""

from __future__ import annotations

import collections
import itertools
import types
from typing import Any

from ...core.text import clean, plural
from .. import nonfinite
from .base import Fact, Kind, Pair, Summary, element, length, register, text_of

LOOKED = 1000
COUNTED = 1_000_000  # elements that facts are of


def _items(value: Any) -> Any:
    """The elements themselves: a subclass's own iteration is not run."""
    for base in (list, tuple, set, frozenset):
        if isinstance(value, base):
            return base.__iter__(value)  # type: ignore[arg-type]  # `base` is the container's type
    return iter(value)


def _size(value: Any) -> int:
    return length(value) if isinstance(value, (list, tuple, dict, set, frozenset)) else len(value)


def _sequence(value: object) -> Summary:
    size = _size(value)
    opening, closing = ("(", ")") if isinstance(value, tuple) else ("[", "]")
    first = [element(v) for v in itertools.islice(_items(value), 5)]
    if size <= 5:
        tail = "," if size == 1 and isinstance(value, tuple) else ""
        return {"text": f"{opening}{', '.join(first)}{tail}{closing}", "kind": "sequence"}
    kinds = {type(v).__name__ for v in itertools.islice(_items(value), LOOKED)}
    word = next(iter(kinds)) if len(kinds) == 1 else "mixed"
    bad = nonfinite.count(value)
    told = f", {bad} not finite" if bad else ""
    return {"text": f"{size} elements {word}{told}: {opening}{', '.join(first)}, …{closing}", "kind": "sequence"}


def _sequence_facts(value: object) -> list[Fact]:
    size = _size(value)
    kinds = collections.Counter(map(type, itertools.islice(_items(value), COUNTED)))
    told = ", ".join(f"{kind.__name__} {count}" for kind, count in kinds.most_common(6)) or "none"
    told += ", …" if len(kinds) > 6 else ""
    part = f" of the first {COUNTED:,}" if size > COUNTED else ""
    facts = [("elements", str(size)), ("types" + part, told)]
    numbers = [v for v in itertools.islice(_items(value), COUNTED) if type(v) is int or type(v) is float]
    fine = [v for v in numbers if v - v == 0]
    if fine:
        mean = element(sum(fine) / len(fine))
        facts.append(("range" + part, f"{element(min(fine))} … {element(max(fine))}, mean {mean}"))
    bad = nonfinite.count(value)
    if bad:
        facts.append(("not finite", str(bad)))
    return facts


def _sequence_children(value: object, start: int, count: int) -> list[Pair]:
    found = itertools.islice(_items(value), start, start + count)
    return [(f"[{n}]", v) for n, v in enumerate(found, start)]


def _tuple(value: Any) -> Summary:
    if not hasattr(type(value), "_fields"):
        return _sequence(value)
    names = type(value)._fields
    shown = ", ".join(f"{n}={element(v)}" for n, v in zip(names[:6], tuple.__iter__(value)))
    return {"text": f"{type(value).__name__}({shown}{', …' if length(value) > 6 else ''})", "kind": "sequence"}


def _tuple_children(value: object, start: int, count: int) -> list[Pair]:
    names = getattr(type(value), "_fields", None)
    found = _sequence_children(value, start, count)
    return [(str(names[start + n]), v) for n, (_, v) in enumerate(found)] if names else found


def _set(value: object) -> Summary:
    first = ", ".join(element(v) for v in itertools.islice(_items(value), 5))
    dots = ", …" if _size(value) > 5 else ""
    return {"text": f"{plural(_size(value), 'element')} {{{first}{dots}}}", "kind": "sequence"}


def _set_children(value: object, start: int, count: int) -> list[Pair]:
    return [(f"({n})", v) for n, v in enumerate(itertools.islice(_items(value), start, start + count), start)]


def pairs(value: Any) -> Any:
    return dict.items(value) if isinstance(value, dict) else value.items()


def _mapping(value: object) -> Summary:
    size = _size(value)
    first = ", ".join(f"{element(k)}: {element(v)}" for k, v in itertools.islice(pairs(value), 4))
    dots = ", …" if size > 4 else ""
    return {"text": f"{plural(size, 'key')} {{{first}{dots}}}", "kind": "mapping"}


def _mapping_facts(value: object) -> list[Fact]:
    keys = {type(k).__name__ for k, _ in itertools.islice(pairs(value), 10_000)}
    values = {type(v).__name__ for _, v in itertools.islice(pairs(value), 10_000)}
    return [
        ("keys", f"{_size(value)} of type {', '.join(sorted(keys)) or 'none'}"),
        ("values", ", ".join(sorted(values)[:6]) or "none"),
    ]


def _mapping_children(value: object, start: int, count: int) -> list[Pair]:
    found = itertools.islice(pairs(value), start, start + count)
    return [(clean(text_of(k), 60), v) for k, v in found]


def _range(value: range) -> Summary:
    return {"text": f"{value!r}, {plural(len(value), 'number')}", "kind": "sequence"}


_SEQUENCE = Kind(_sequence, _sequence_facts, _size, _sequence_children)
register(_SEQUENCE, list, names=("collections.deque", "array.array"))
register(Kind(_tuple, _sequence_facts, _size, _tuple_children), tuple)
register(Kind(_set, _sequence_facts, _size, _set_children), set, frozenset)
register(Kind(_mapping, _mapping_facts, _size, _mapping_children), dict, types.MappingProxyType)
register(Kind(_range, None, len, _sequence_children), range)
