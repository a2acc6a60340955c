"""A list to choose from, whose chosen entry has a sign: a background alone is not seen everywhere."""

from __future__ import annotations

from rich.segment import Segment
from textual.strip import Strip
from textual.widgets import OptionList

SIGN = "›"


class Options(OptionList):
    """Entries begin with an empty column, in which the sign is."""

    DEFAULT_CSS = """
    Options > .option-list--option { padding: 0 1; }
    Options > .option-list--option-highlighted { padding: 0 1; }
    """

    def render_line(self, y: int) -> Strip:
        strip = super().render_line(y)
        line = self.scroll_offset.y + y
        if line >= len(self._lines) or self._lines[line] != (self.highlighted, 0):
            return strip
        style = next((s.style for s in strip if s.style is not None), None)
        return Strip.join([Strip([Segment(SIGN, style)], 1), strip.crop(1)])
