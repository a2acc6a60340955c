"""Numbers, counts and error messages as text that is safe to show."""

from __future__ import annotations

import json
import math
from typing import Any

from .errors import ForbiddenInCopy

TEXT_SHOWN = 120


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


def to_json(message: object) -> bytes:
    """A message as JSON, which knows no nan and no infinities: where there are some they become text."""
    try:
        return json.dumps(message, allow_nan=False, default=str).encode()
    except ValueError:
        return json.dumps(_without_nan(message), allow_nan=False, default=str).encode()


def _without_nan(part: object) -> object:
    if isinstance(part, dict):
        return {str(_without_nan(key)): _without_nan(value) for key, value in part.items()}
    if isinstance(part, (list, tuple)):
        return [_without_nan(value) for value in part]
    return number(part) if isinstance(part, float) and not math.isfinite(part) else part


def plural(count: int, word: str) -> str:
    many = f"{word[:-1]}ies" if word.endswith("y") and word[-2] not in "aeiou" else f"{word}s"
    return f"{count} {word if count == 1 else many}"


def error_text(e: BaseException) -> str:
    """`ValueError: what it says`, in one safe line; what a copy forbids, with a way to do it."""
    if isinstance(e, ForbiddenInCopy):
        return f"{e}. Start with ! to run it in the script."
    try:
        text = clean(str(e), 300)
    except Exception:
        text = ""
    return f"{type(e).__name__}: {text}" if text else type(e).__name__


def str_of(exc: BaseException) -> str:
    """An exception's message; what its own `__str__` raises is not let out."""
    try:
        return str(exc)
    except Exception:
        return "(a message that cannot be shown)"
