"""The grid of a value: only the visible page is asked for; labels stay, decimals line up, bad cells are marked."""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Sequence

from rich.segment import Segment
from rich.style import Style
from textual import events
from textual.binding import Binding
from textual.message import Message
from textual.strip import Strip
from textual.widget import Widget

from ...protocol.messages import Message as Body
from ..plotting.charts import floats, whole
from ..plotting.number_format import Format, aligned, shown
from ..shell.theme import Palette

Ask = Callable[[dict[str, object]], Awaitable[Body | None]]
WIDEST = 28


class Grid(Widget, can_focus=True):
    """Rows and columns; the cursor is a cell."""

    DEFAULT_CSS = "Grid { background: $background; height: 1fr; width: 1fr; }"
    BINDINGS = [
        Binding("up", "step(-1, 0)", show=False),
        Binding("down", "step(1, 0)", show=False),
        Binding("left", "step(0, -1)", show=False),
        Binding("right", "step(0, 1)", show=False),
        Binding("pageup", "leap(-1)", show=False),
        Binding("pagedown", "leap(1)", show=False),
        Binding("home", "end(0)", show=False),
        Binding("end", "end(1)", show=False),
    ]

    class Moved(Message):
        """The cursor is on another cell."""

    def __init__(self, palette: Palette, ask: Ask, **kwargs: object) -> None:
        super().__init__(**kwargs)  # type: ignore[arg-type]  # a widget's id and classes
        self.palette, self.ask = palette, ask
        self.page: Body | None = None
        self.how = Format()
        self.row = self.column = 0
        self.top = self.left = 0
        self.rows = self.columns = 0
        self._texts: list[list[str]] = []
        self._raw: list[Sequence[str | float]] = []

    @property
    def visible_rows(self) -> int:
        return max(1, self.size.height - self.head)

    @property
    def head(self) -> int:
        """Rows above the cells: the names, and the columns' pictures where there are any."""
        return 2 if self.page is not None and self.page.get("pictures") else 1

    @property
    def visible_columns(self) -> int:
        return max(1, min(40, (self.size.width - 8) // 5))

    async def load(self) -> None:
        """Asks for the page around the cursor and draws it."""
        height, head = self.visible_rows, self.head
        if self.row < self.top:
            self.top = self.row
        elif self.row >= self.top + height:
            self.top = self.row - height + 1
        if self.column < self.left:
            self.left = self.column
        page = await self.ask({"row": self.top, "column": self.left, "rows": height, "columns": self.visible_columns})
        if page is None:
            return
        self.page, self.rows, self.columns = page, page["rows"], page["columns"]
        self.row = max(0, min(self.row, self.rows - 1))
        self.column = max(0, min(self.column, self.columns - 1))
        self._raw = [
            floats(c["data"]) if c["kind"] == "f8" else whole(c["data"]) if c["kind"] == "i8" else c["data"]
            for c in page["cells"]
        ]
        self.format()
        if self.head != head:  # there are fewer rows than it was thought
            await self.load()
            return
        if self.column > self._last_column():
            self.left = self.column if self.left < self.column - 12 else self.left + 1
            if self.left <= self.column:
                await self.load()
                return
        self.post_message(self.Moved())

    def format(self) -> None:
        """Numbers to texts, aligned on the decimal point within each column."""
        if self.page is None:
            return
        self._texts = []
        for cell, raw in zip(self.page["cells"], self._raw):
            texts = [v if isinstance(v, str) else shown(v, self.how) for v in raw]
            texts = ["masked" if m == "m" else t for t, m in zip(texts, cell["marks"])]
            self._texts.append(aligned(texts) if cell["kind"] != "text" else texts)
        self.refresh()

    def _widths(self) -> list[int]:
        assert self.page is not None
        return [
            min(WIDEST, max([len(label), *map(len, texts)]))
            for label, texts in zip(self.page["columnLabels"], self._texts)
        ]

    def needed_width(self) -> int:
        """Columns of the terminal in which all that is loaded can be seen."""
        if self.page is None:
            return 0
        wider = 40 if self.columns > len(self.page["columnLabels"]) else 0
        return self._label_width() + 2 + sum(width + 3 for width in self._widths()) + 1 + wider

    def _label_width(self) -> int:
        assert self.page is not None
        return min(24, max([3, *map(len, self.page["rowLabels"])]))

    def _last_column(self) -> int:
        """The last column that is wholly visible."""
        if self.page is None or not self._texts:
            return self.left
        used, last = self._label_width() + 2, self.left
        for n, width in enumerate(self._widths()):
            used += width + 3
            if used > self.size.width:
                break
            last = self.left + n
        return last

    def render_line(self, y: int) -> Strip:
        p = self.palette
        ground = Style(color=p.text, bgcolor=p.ground)
        if self.page is None:
            return Strip([Segment("", ground)]).adjust_cell_length(self.size.width, ground)
        widths, labels = self._widths(), self._label_width()
        quiet = Style(color=p.quiet, bgcolor=p.panel if y == 0 else p.ground)
        segments = [Segment(" " * (labels + 2), quiet)] if y == 0 else []
        if y == 0:
            for n, (label, width, cell) in enumerate(zip(self.page["columnLabels"], widths, self.page["cells"])):
                here = self.left + n == self.column
                style = Style(color=p.at if here else p.quiet, bgcolor=p.panel, bold=here)
                side = "<" if cell["kind"] == "text" else ">"
                segments.append(Segment(f" {_fit(label, width):{side}{width}}  ", style))
            return Strip(segments).adjust_cell_length(self.size.width, quiet)
        if y < self.head:
            return self._pictures(widths, labels)
        row = y - self.head
        if row >= len(self.page["rowLabels"]):
            return Strip([Segment("", ground)]).adjust_cell_length(self.size.width, ground)
        here = self.top + row == self.row
        style = Style(color=p.at if here else p.quiet, bgcolor=p.ground, bold=here)
        segments.append(Segment(f"{_fit(self.page['rowLabels'][row], labels):>{labels}}  ", style))
        for n, (cell, texts, width) in enumerate(zip(self.page["cells"], self._texts, widths)):
            mark = cell["marks"][row]
            chosen = here and self.left + n == self.column
            colour = {"!": p.nonfinite, "m": p.quiet, "c": p.changed}.get(mark, p.text)
            style = Style(color=colour, bgcolor=p.tint if chosen else p.ground, bold=chosen or mark == "!")
            sign = {"!": "!", "c": "·"}.get(mark, " ")
            text = _fit(texts[row], width)
            lead = 0 if cell["kind"] == "text" else len(text) - len(text.lstrip()) + width - len(text)
            text = f"{' ' * lead}{sign if sign.strip() else ' '}{text.strip()}"
            segments.append(Segment(f"{text:<{width + 1}}", style))
            segments.append(Segment("  ", Style(bgcolor=p.ground)))
        return Strip(segments).crop(0, self.size.width).adjust_cell_length(self.size.width, ground)

    def _pictures(self, widths: list[int], labels: int) -> Strip:
        """Under the names: the histogram of each column, or its most frequent values, and the share missing."""
        p = self.palette
        segments = [Segment(" " * (labels + 3), Style(bgcolor=p.panel))]
        for picture, width in zip(self.page["pictures"] if self.page is not None else [], widths):
            missing = picture["missing"]
            share = f"{max(1, round(100 * missing))}%" if missing else ""
            bars = picture["bars"][: max(0, width - len(share) - (1 if share else 0))]
            gap = " " * (width - len(bars) - len(share))
            segments.append(Segment(bars, Style(color=p.breakpoint, bgcolor=p.panel)))
            segments.append(Segment(gap, Style(bgcolor=p.panel)))
            segments.append(Segment(share[:width], Style(color=p.nonfinite, bgcolor=p.panel, bold=True)))
            segments.append(Segment("   ", Style(bgcolor=p.panel)))
        return Strip(segments).crop(0, self.size.width).adjust_cell_length(self.size.width, Style(bgcolor=p.panel))

    def cell(self) -> tuple[str, str]:
        """The cursor cell: its place in words, and its exact text."""
        if self.page is None or not self._raw:
            return "", ""
        r, c = self.row - self.top, self.column - self.left
        if not (0 <= r < len(self.page["rowLabels"]) and 0 <= c < len(self._raw)):
            return "", ""
        value = self._raw[c][r]
        exact = value if isinstance(value, str) else shown(value, Format("exact"))
        return f"row {self.page['rowLabels'][r]}, {self.page['columnLabels'][c]}", exact

    def row_texts(self) -> list[str]:
        r = self.row - self.top
        return [v if isinstance(v := raw[r], str) else repr(v) for raw in self._raw if 0 <= r < len(raw)]

    async def go(self, row: int, column: int) -> None:
        self.row, self.column = max(0, min(row, self.rows - 1)), max(0, min(column, self.columns - 1))
        if not self.top <= self.row < self.top + self.visible_rows:
            self.top = max(0, min(self.row - self.visible_rows // 3, self.rows - self.visible_rows))
        await self.load()

    async def action_step(self, rows: int, columns: int) -> None:
        row, column = self.row + rows, self.column + columns
        inside = self.top <= row < min(self.rows, self.top + self.visible_rows)
        if inside and self.left <= column <= self._last_column() and column < self.columns:
            self.row, self.column = row, column
            self.refresh()
            self.post_message(self.Moved())
        else:
            await self.go(row, column)

    async def action_leap(self, pages: int) -> None:
        self.top = max(0, min(self.top + pages * self.visible_rows, max(0, self.rows - self.visible_rows)))
        self.row = max(0, min(self.rows - 1, self.row + pages * self.visible_rows))
        await self.load()

    async def action_end(self, which: int) -> None:
        await self.go(0 if not which else self.rows - 1, self.column)

    async def on_resize(self) -> None:
        if self.page is not None:
            await self.load()

    async def on_mouse_scroll_down(self, event: events.MouseScrollDown) -> None:
        self.top = max(0, min(self.top + 3, max(0, self.rows - self.visible_rows)))
        self.row = max(self.row, self.top)
        await self.load()

    async def on_mouse_scroll_up(self, event: events.MouseScrollUp) -> None:
        self.top = max(0, self.top - 3)
        self.row = min(self.row, self.top + self.visible_rows - 1)
        await self.load()

    async def on_click(self, event: events.Click) -> None:
        if self.page is None or event.y < self.head:
            return
        x, column = self._label_width() + 2, self.left
        for width in self._widths():
            if event.x < x + width + 3:
                break
            x += width + 3
            column += 1
        await self.go(self.top + event.y - self.head, column)


def _fit(text: str, width: int) -> str:
    return text if len(text) <= width else text[: max(1, width - 1)] + "…"
