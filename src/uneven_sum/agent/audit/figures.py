"""Numbers in sentences of findings."""

from __future__ import annotations

from typing import Any

from ..core.markers import MISSING
from ..values.safe_read import read_attribute


def full(value: object) -> str:
    """A number with all digits that it has."""
    if hasattr(value, "item") and getattr(value, "ndim", 0) == 0:
        value = value.item()
    return repr(value)


def short(value: object) -> str:
    """At most six significant digits."""
    if hasattr(value, "item") and getattr(value, "ndim", 0) == 0:
        value = value.item()
    return f"{value:.6g}" if isinstance(value, float) else f"{value:,}" if isinstance(value, int) else str(value)[:60]


def listed(values: list[object], most: int = 3) -> str:
    """`6, 18, 31 …`"""
    shown = ", ".join(str(v) if not isinstance(v, str) else repr(v) for v in values[:most])
    return shown + (" …" if len(values) > most else "")


def many(count: int, word: str) -> str:
    """`1 cell`, `3 cells`."""
    return f"{count:,} {word}{'' if count == 1 else 's'}"


def seen(value: object, name: str, default: object = None) -> Any:
    """An attribute that can be read without running the script's code; else the default."""
    found = read_attribute(value, name)
    return default if found is MISSING else found
