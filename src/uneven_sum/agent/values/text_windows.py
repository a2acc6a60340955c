"""A window of a long text for the reader, and a search through all of it.

Control characters are made visible, so that a place in the shown window is not one in the text itself.
"""

from __future__ import annotations

import re
from typing import Any

SIZE = 1_000_000  # characters of a window


def visible(text: str) -> str:
    """The text with escapes in the place of control characters."""
    return "".join(c if c.isprintable() or c in "\n\t" else repr(c)[1:-1] for c in text)


def window(text: str, around: int = 0, size: int = SIZE) -> dict[str, Any]:
    """The part of a text around a character, from the begin of a line where there is one near.

    Gives `text` as it is shown, `first` and `last` (characters of the text, the last one excluded), `line` (the lines
    before it), `lines` (of the whole text) and `size` (characters of the whole text).
    """
    first = max(0, min(around - size // 4, len(text) - size))
    last = min(len(text), first + size)
    if first:
        first = text.rfind("\n", max(0, first - size // 10), first) + 1 or first
    return {
        **{"text": visible(text[first:last]), "first": first, "last": last, "size": len(text)},
        **{"line": text.count("\n", 0, first), "lines": text.count("\n") + 1},
    }


def at_line(text: str, line: int) -> int:
    """Where a line (from 1) begins; the last line where there are fewer."""
    at = 0
    for _ in range(line - 1):
        after = text.find("\n", at) + 1
        if not after:
            break
        at = after
    return at


def find(text: str, wanted: str, first: int, last: int, shown: int, size: int = SIZE) -> dict[str, Any]:
    """The next place of `wanted`, in any case of its letters, after a place in the window that is shown; from the top
    where there is none.

    `first`, `last`: the window; `shown`: the place in it, in characters as shown.  Gives `at` (as shown in its window;
    -1: it is nowhere in the text), `width` (of what was found, as shown), `line` (from 1), and `window` where it is
    another one.
    """
    pattern = re.compile(re.escape(wanted), re.IGNORECASE)
    found = pattern.search(text, _unshown(text, first, last, shown)) or pattern.search(text)
    if found is None:
        return {"at": -1}
    start, end = found.span()
    told: dict[str, Any] = {"line": text.count("\n", 0, start) + 1, "width": len(visible(text[start:end]))}
    if not (first <= start and end <= last):
        told["window"] = window(text, start, size)
        first = told["window"]["first"]
    return {**told, "at": len(visible(text[first:start]))}


def _unshown(text: str, first: int, last: int, shown: int) -> int:
    """The place in the text of a place in the shown window."""
    part = text[first:last]
    if part.replace("\n", "").replace("\t", "").isprintable():
        return first + shown
    for at, c in enumerate(part):
        if shown <= 0:
            return first + at
        shown -= len(visible(c))
    return last
