"""What the rows of a Ledger are: passes of a loop, elements of a comprehension, calls of a function."""

from __future__ import annotations

import re

UNIT = {"loop": "pass", "elements": "element", "calls": "call"}
PASS = re.compile(r"\b([Pp])ass(es)?\b")


def in_units(text: str, kind: str) -> str:
    """A sentence about passes for a Ledger of this kind."""
    unit = UNIT.get(kind, "pass")
    if unit == "pass":
        return text

    def word(found: re.Match[str]) -> str:
        return (unit.capitalize() if found[1] == "P" else unit) + ("s" if found[2] else "")

    return PASS.sub(word, text)
