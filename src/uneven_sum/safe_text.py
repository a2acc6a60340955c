"""Text that cannot steer a terminal.

Names of classes, fields and files, source text and what a script prints may hold escape sequences, C1 controls, or
controls that turn the direction of writing round.
"""

from __future__ import annotations

import re

# C0 but tab and newline, DEL, C1, line and paragraph separators, bidirectional controls, lone surrogates.
CONTROLS = re.compile("[\x00-\x08\x0b-\x1f\x7f-\x9f\u061c\u200e\u200f\u2028-\u202e\u2066-\u2069\ud800-\udfff]")


def visible(text: str) -> str:
    """The text with each such character as its escape, `\\x1b`."""
    return CONTROLS.sub(lambda found: ascii(found[0])[1:-1], text)


def in_one_line(text: str) -> str:
    """A name, such as a file's, with its newlines and tabs as their escapes, too."""
    return visible(text).replace("\n", "\\n").replace("\t", "\\t")


def visible_json(text: str) -> str:
    """The text of a JSON document with each such character as its JSON escape."""
    return CONTROLS.sub(lambda found: f"\\u{ord(found[0]):04x}", text)


def without(text: str) -> str:
    """The text without such characters: they have no width, so what is aligned stays aligned."""
    return CONTROLS.sub("", text)


def cut(text: str, width: int) -> str:
    """At most so many characters of a text; where it is longer, `…` is the last of them."""
    return text if len(text) <= width else text[: max(0, width - 1)] + "…"
