"""Keeps lookouts with their lines when the file is edited, by matching content."""

from __future__ import annotations

import difflib


def follow(old: list[str], new: list[str], line: int) -> int | None:
    """Where a line of the old text is in the new one (both counted from 1); None when it is gone.

    Equal runs of lines carry it over; in a replaced run the line most like it does, if it is like enough.
    """
    if not 1 <= line <= len(old):
        return None
    if old == new:
        return line
    at = line - 1
    matcher = difflib.SequenceMatcher(None, [s.strip() for s in old], [s.strip() for s in new], autojunk=False)
    for tag, first, last, to_first, to_last in matcher.get_opcodes():
        if not first <= at < last:
            continue
        if tag == "equal":
            return to_first + (at - first) + 1
        if tag == "delete":
            return _moved(old, new, at)
        best, where = 0.0, -1
        for n in range(to_first, to_last):
            alike = difflib.SequenceMatcher(None, old[at].strip(), new[n].strip(), autojunk=False).ratio()
            if alike > best:
                best, where = alike, n
        if best >= 0.6:
            return where + 1
        return _moved(old, new, at)
    return None


def _moved(old: list[str], new: list[str], at: int) -> int | None:
    """A line that is elsewhere, once, word for word."""
    wanted = old[at].strip()
    found = [n for n, text in enumerate(new) if text.strip() == wanted]
    return found[0] + 1 if wanted and len(found) == 1 and [s.strip() for s in old].count(wanted) == 1 else None
