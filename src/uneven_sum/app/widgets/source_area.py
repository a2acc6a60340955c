"""The text that is edited, with what is wrong beside the numbers of its lines."""

from __future__ import annotations

from rich.segment import Segment
from rich.style import Style
from textual import events
from textual.strip import Strip

from .fields import TextField

WORDS = 6  # columns before the line numbers


class SourceArea(TextField):
    """`marks`: by line (from 1) a word of at most five letters and its colour."""

    marks: dict[int, tuple[str, str]] = {}

    def mark(self, marks: dict[int, tuple[str, str]]) -> None:
        """Shows other marks."""
        if marks != self.marks:
            self.marks = marks
            self.refresh()

    async def _on_key(self, event: events.Key) -> None:
        """A new line begins where the one before does, a step further in after the head of a block."""
        if event.key != "enter" or self.read_only:
            return
        event.stop()
        event.prevent_default()
        row, column = min(self.selection)
        line = self.document.get_line(row)
        before = line[:column]
        lead = before[: len(before) - len(before.lstrip())]
        step = "\t" if self.indent_type == "tabs" else " " * self.indent_width
        self.replace(
            "\n" + lead + step * before.rstrip().endswith(":"), *self.selection, maintain_selection_offset=False
        )

    @property
    def gutter_width(self) -> int:
        return super().gutter_width + (WORDS if self.show_line_numbers else 0)

    def render_line(self, y: int) -> Strip:
        strip = super().render_line(y)
        found = self.marks.get(y + self.scroll_offset.y + 1)
        if found is None or not self.show_line_numbers:
            return strip
        word, colour = found
        ground = next((s.style.bgcolor for s in strip if s.style is not None), None)
        sign = Segment(f"{word:<{WORDS}}", Style(color=colour, bgcolor=ground, bold=True))
        return Strip.join([Strip([sign], WORDS), strip.crop(WORDS)])
