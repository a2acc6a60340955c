"""A drawn plot, with a reading line."""

from __future__ import annotations

from rich.segment import Segment
from rich.style import Style
from textual import events
from textual.message import Message
from textual.strip import Strip
from textual.widget import Widget

from ..plotting.charts import Drawn
from ..shell.theme import Palette


class Plot(Widget, can_focus=True):
    """A drawn plot; a cross-hair by keys or mouse reads the value."""

    DEFAULT_CSS = "Plot { background: $background; height: 1fr; width: 1fr; padding: 0; }"

    class Read(Message):
        """The mouse is on another place of the plot."""

    def __init__(self, palette: Palette, **kwargs: object) -> None:
        super().__init__(**kwargs)  # type: ignore[arg-type]  # a widget's id and classes
        self.palette = palette
        self.drawn: Drawn | None = None
        self.at: tuple[int, int] | None = None
        self._strips: list[Strip] = []

    def show(self, drawn: Drawn) -> None:
        self.drawn = drawn
        self._strips = drawn.canvas.strips(self.palette.ground, self.palette.text)
        self.refresh()

    def render_line(self, y: int) -> Strip:
        if y < len(self._strips):
            strip = self._strips[y]
            if self.at is not None:
                column = self.at[0]
                if 0 <= column < strip.cell_length and y < len(self._strips) - 2:
                    cut = list(strip.divide([column, column + 1, strip.cell_length]))
                    mark = Style(bgcolor=self.palette.tint)
                    middle = [Segment(s.text, (s.style or Style()) + mark) for s in cut[1]]
                    strip = Strip.join([cut[0], Strip(middle), *cut[2:]])
            return strip.adjust_cell_length(self.size.width)
        return Strip.blank(self.size.width)

    def read(self) -> str:
        return self.drawn.read(*self.at) if self.drawn is not None and self.at is not None else ""

    def move(self, columns: int, rows: int) -> None:
        column, row = self.at or (self.size.width // 2, self.size.height // 2)
        self.at = (max(0, min(self.size.width - 1, column + columns)), max(0, min(self.size.height - 1, row + rows)))
        self.refresh()

    def on_mouse_move(self, event: events.MouseMove) -> None:
        self.at = (event.x, event.y)
        self.refresh()
        self.post_message(self.Read())
