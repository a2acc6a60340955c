"""A figure that a cell has drawn, as a picture of the terminal; saved as the file that it is."""

from __future__ import annotations

import os

from rich.color import Color
from rich.segment import Segment
from rich.style import Style
from textual.app import ComposeResult
from textual.binding import Binding
from textual.screen import ModalScreen
from textual.strip import Strip
from textual.widget import Widget

from ...charts import half_blocks
from ...client import BadUse, notes
from ...client.edits import write_whole
from ..shell.theme import Palette
from ..widgets.bars import Keys, TopLine
from ..widgets.bench_view import BenchView
from ..widgets.dialogs import Prompt
from ..widgets.notice import Notice

KEYS = [("s", "save figure"), ("ctrl+k", "save to Notes"), ("escape", "close")]


class Picture(Widget):
    """Draws a picture as large as there is room."""

    DEFAULT_CSS = "Picture { height: 1fr; width: 100%; }"

    def __init__(self, palette: Palette, data: bytes) -> None:
        super().__init__()
        self.palette, self.data = palette, data
        self.drawn: tuple[tuple[int, int], list[Strip]] = ((0, 0), [])

    def render_line(self, y: int) -> Strip:
        size = (self.size.width, self.size.height)
        if self.drawn[0] != size:
            self.drawn = size, self._strips(*size)
        strips = self.drawn[1]
        return strips[y] if y < len(strips) else Strip.blank(self.size.width, Style(bgcolor=self.palette.ground))

    def _strips(self, width: int, height: int) -> list[Strip]:
        try:
            rows = half_blocks(self.data, width, height)
        except ValueError as e:
            return [Strip([Segment(f" It cannot be shown: {e}.", Style(color=self.palette.error))])]
        ground = Style(bgcolor=self.palette.ground)
        lead = Segment(" " * ((width - len(rows[0])) // 2), ground)
        return [
            Strip(
                [
                    lead,
                    *(
                        Segment("▀", Style(color=Color.from_rgb(*top).name, bgcolor=Color.from_rgb(*low).name))
                        for top, low in row
                    ),
                ]
            ).adjust_cell_length(width, ground)
            for row in rows
        ]


class FigureView(ModalScreen[None]):
    """`number`: of the cell; `data`: PNG."""

    BINDINGS = [
        Binding("escape", "dismiss", "close"),
        Binding("s", "save", "save figure"),
        Binding("ctrl+k", "keep", "save to Notes"),
    ]

    def __init__(self, bench: BenchView, palette: Palette, number: int, data: bytes, script: str) -> None:
        super().__init__()
        self.bench, self.palette, self.number, self.data, self.script = bench, palette, number, data, script

    def compose(self) -> ComposeResult:
        yield TopLine(self.palette)
        yield Picture(self.palette, self.data)
        yield Notice(self.palette)
        yield Keys(self.palette)

    def on_mount(self) -> None:
        self.query_one(TopLine).show(f"figure of cell {self.number}", os.path.basename(self.script))
        self.query_one(Keys).show(KEYS)

    def action_save(self) -> None:
        self.run_worker(self._save(), group="dialog")

    async def _save(self) -> None:
        ask = Prompt(self.palette, "To which file?", f"cell_{self.number}.png", ".png")
        path = await self.app.push_screen_wait(ask)
        if path:
            try:
                write_whole(os.path.abspath(os.path.expanduser(path)), self.data)
                self.notify(f"The figure is in {path}.")
            except BadUse as e:
                self.notify(str(e), severity="warning")

    def action_keep(self) -> None:
        """Beside the notes of the case; the report shows it."""
        name = f"cell-{self.number}-{len(notes.load(self.script)) + 1}.png"
        folder = notes.pictures(self.script)
        try:
            folder.mkdir(parents=True, exist_ok=True)
            write_whole(str(folder / name), self.data)
            title = f"figure of cell {self.number}"
            self.notify(self.bench.keep_entry(notes.Entry("plot", title, picture=name)))
        except (BadUse, OSError) as e:
            self.notify(str(e), severity="warning")
