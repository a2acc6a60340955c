"""The last step before the terminal: no text that is drawn can steer it."""

from __future__ import annotations

from rich.segment import Segment
from textual.color import Color
from textual.filter import LineFilter

from ..safe_text import CONTROLS, without


class Harmless(LineFilter):
    """Takes control characters out of every segment."""

    def apply(self, segments: list[Segment], background: Color) -> list[Segment]:
        if not any(CONTROLS.search(s.text) for s in segments):
            return segments
        return [s if s.control else Segment(without(s.text), s.style) for s in segments]
