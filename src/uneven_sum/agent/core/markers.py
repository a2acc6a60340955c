"""Names and constants that mark what the rewriting has put into code, and what stands for a missing value."""

from __future__ import annotations

MARK = "\0us:"  # a constant that begins so stands for a probe until the code is compiled
VALUE, OLD, OWNER, INDEX, METER, ELEMENT = "·v", "·w", "·o", "·i", "·m", "·e"
BLOCK, KNOWN_TYPES = "·b", "·t"  # of blocks of arithmetic: see `rewrite/blocks.py`
HIDDEN = ("·", ".", "@")  # begin names that no one has written: ours, those of comprehensions, those of pytest
INNER = ("<listcomp>", "<setcomp>", "<dictcomp>", "<genexpr>")  # names of the calls of comprehensions before 3.12
TRIPS = ("error", "warning", "nonfinite")  # the kinds of trips
MISSING = object()  # no such value
