"""The last step before the terminal: no text that is drawn can steer it, and no window is too narrow."""

from __future__ import annotations

from typing import Any

from rich.segment import Segment
from textual.color import Color
from textual.content import Content
from textual.filter import LineFilter

from ..safe_text import CONTROLS, without


class Harmless(LineFilter):
    """Takes control characters out of every segment."""

    def apply(self, segments: list[Segment], background: Color) -> list[Segment]:
        if not any(CONTROLS.search(s.text) for s in segments):
            return segments
        return [s if s.control else Segment(without(s.text), s.style) for s in segments]


def draw_at_any_width() -> None:
    """Textual (8.2) divides by the width of a text: in a window of a few columns, with a border, it is 0."""
    plain = getattr(Content, "_wrap_and_format", None)
    if plain is None:  # another version
        return

    def wrapped(self: Content, width: int, *args: Any, **named: Any) -> Any:
        room = max(1, width - 2 * named.get("line_pad", 0))
        return plain(self, room + 2 * named.get("line_pad", 0), *args, **named)

    Content._wrap_and_format = wrapped  # type: ignore[method-assign]  # the same arguments


draw_at_any_width()
