"""The lines that a script has printed: as many as are kept, wrapped to the width there is, at the end when opened."""

from __future__ import annotations

import textwrap
from collections import deque

from rich.segment import Segment
from rich.style import Style
from textual import events
from textual.geometry import Size
from textual.scroll_view import ScrollView
from textual.strip import Strip

from ...safe_text import cut
from ..shell.theme import Palette

LONGEST = 20_000  # characters of one line that are shown


class OutputLog(ScrollView, can_focus=True):
    """Keeps lines whether it is shown or not; rows are made for the width when it is."""

    DEFAULT_CSS = "OutputLog { background: $panel; scrollbar-size-vertical: 1; scrollbar-size-horizontal: 0; }"

    def __init__(self, palette: Palette, most: int, **kwargs: object) -> None:
        super().__init__(**kwargs)  # type: ignore[arg-type]  # a widget's id and classes
        self.palette = palette
        self.kept: deque[tuple[str, str]] = deque(maxlen=most)  # colour and text
        self.count = 0  # of lines that were ever written
        self.rows: deque[tuple[str, str]] = deque()
        self.wide = 0
        self.follows = True  # shows the end as lines come, until the user scrolls up

    def write(self, lines: list[tuple[str, str]]) -> None:
        """Add lines, each a colour and a text."""
        self.follows = self.follows or self.at_end
        full = len(self.kept) + len(lines) > (self.kept.maxlen or 0)
        self.kept.extend(lines)
        self.count += len(lines)
        if not self.wide:
            return
        if full:
            self._make_rows()
        else:
            for colour, text in lines:
                self._wrap(colour, text)
        self._shown(self.follows)

    def cut_to(self, count: int) -> None:
        """Take the lines away that were written after the first `count`."""
        while self.count > count:
            if self.kept:
                self.kept.pop()
            self.count -= 1
        if self.wide:
            self._make_rows()
            self._shown(True)

    def clear(self) -> None:
        self.kept.clear()
        self.count = 0
        self.rows.clear()
        self._shown(True)

    @property
    def at_end(self) -> bool:
        return self.scroll_offset.y >= self.max_scroll_y - 1

    def on_resize(self, event: events.Resize) -> None:
        wide = max(0, self.scrollable_content_region.width - 2)
        if wide and wide != self.wide:
            self.wide = wide
            self._make_rows()
            self._shown(self.follows)
        elif self.follows:
            self.call_after_refresh(self.scroll_end, animate=False)

    def on_show(self) -> None:
        self.call_after_refresh(self.scroll_end, animate=False)

    def _make_rows(self) -> None:
        self.rows.clear()
        for colour, text in self.kept:
            self._wrap(colour, text)

    def _wrap(self, colour: str, text: str) -> None:
        text = cut(text.expandtabs(8), LONGEST)
        if len(text) <= self.wide:
            self.rows.append((colour, text))
            return
        rows = textwrap.wrap(text, self.wide, drop_whitespace=False, replace_whitespace=False)
        self.rows.extend((colour, row) for row in rows)

    def on_mouse_scroll_up(self) -> None:
        self.follows = False

    def action_scroll_up(self) -> None:
        self.follows = False
        super().action_scroll_up()

    def page(self, by: int) -> None:
        """Scroll by so many pages."""
        self.follows = False
        self.scroll_relative(y=by * max(1, self.size.height - 1), animate=False)

    def action_page_up(self) -> None:
        self.page(-1)

    def action_scroll_home(self) -> None:
        self.follows = False
        super().action_scroll_home()

    def _shown(self, follows: bool) -> None:
        self.virtual_size = Size(self.size.width, len(self.rows))
        if follows:
            self.scroll_end(animate=False, immediate=True)
        self.refresh()

    def render_line(self, y: int) -> Strip:
        number = y + self.scroll_offset.y
        base = Style(color=self.palette.text, bgcolor=self.palette.panel)
        if number >= len(self.rows):
            return Strip.blank(self.size.width, base)
        colour, text = self.rows[number]
        segments = [Segment(" ", base), Segment(text, base + Style(color=colour))]
        return Strip(segments).adjust_cell_length(self.size.width, base)
