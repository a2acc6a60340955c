"""The Ledger: the passes of a loop as a table and as plots."""

from __future__ import annotations

import os
from collections.abc import Awaitable

from rich.text import Text
from textual.app import ComposeResult
from textual.containers import Horizontal, VerticalScroll
from textual.screen import Screen
from textual.widgets import Static

from ...client import BadUse
from ...client.ledger import Column, Ledger
from ...client.sources import place_words
from ...protocol import LedgerOf
from ...protocol.messages import Message
from ...safe_text import cut
from ..plotting.number_format import Format
from ..shell.commands import bindings, hints
from ..shell.controller import Controlled
from ..shell.keymap import Keyed
from ..shell.theme import Palette
from ..widgets.bars import Keys, TopLine
from ..widgets.bench_view import BenchView
from ..widgets.dialogs import Prompt
from ..widgets.grid import Grid
from ..widgets.notice import Notice
from ..widgets.plot import Plot
from ..widgets.split import put_beside
from . import commands
from .curves import Curves
from .opening import opening_column
from .search import Search
from .trends import Trends
from .units import UNIT, in_units

WORDS = {"loop": "the loop", "elements": "the elements of", "calls": "the calls of"}


class LedgerScreen(Keyed, Controlled, Screen[None]):
    """`ledgers`: what `tab` goes through; the first is shown."""

    DEFAULT_CSS = """
    LedgerScreen #body { height: 1fr; layout: horizontal; }
    LedgerScreen #main { width: 1fr; height: 100%; }
    LedgerScreen #facts { width: 44; height: 100%; background: $panel; padding: 0 1; border-left: solid $rule; }
    LedgerScreen #facts { scrollbar-size-vertical: 1; }
    LedgerScreen #facts Static { background: $panel; }
    LedgerScreen #kept, LedgerScreen #said { height: 1; padding: 0 1; background: $background; }
    LedgerScreen.narrow #body { layout: vertical; }
    LedgerScreen.narrow #main { width: 100%; height: 1fr; }
    LedgerScreen.narrow #facts { width: 100%; height: 7; border-left: none; border-top: solid $rule; }
    """
    KEYS_OF = "ledger"
    HEADING, ACTIONS = commands.TITLE, commands.COMMANDS
    BINDINGS = bindings(commands.COMMANDS)
    CONTROLLERS = (Search, Curves, Trends)

    def __init__(
        self, bench: BenchView, palette: Palette, ledgers: list[LedgerOf], first: Awaitable[Ledger] | None = None
    ) -> None:
        super().__init__()
        self.search = Search(self)
        self.curves = Curves(self)
        self.trends = Trends(self)
        self.controllers = [self.search, self.curves, self.trends]
        self.first = first  # being read already
        self.courses: dict[tuple[int, int, str], list[str]] = {}
        self.bench, self.palette, self.ledgers = bench, palette, ledgers
        self.number = self.run_number = 0
        self.ledger: Ledger | None = None
        self.order: list[int] = []  # rows as they are shown
        self.sort: tuple[str, bool] | None = None
        self.filter = self.sought = self.aimed = ""
        self.beside: int | None = None  # the row that is kept beside
        self.format = Format()
        self.chosen: list[str] = []  # columns that are plotted
        self.how_drawn = 0
        self.logarithmic = False
        self.range: tuple[int, int] | None = None
        self.plotting = False  # the plot alone is shown
        self.drawn_column = ""  # the cursor's when the plot was drawn
        self.with_plot = True  # the plot is shown with the table
        self.at_column = 0

    @property
    def of(self) -> LedgerOf:
        return self.ledgers[self.number]

    def compose(self) -> ComposeResult:
        yield TopLine(self.palette)
        yield Static("", id="kept")
        with Horizontal(id="body"):
            yield Horizontal(id="main")
            with VerticalScroll(id="facts", can_focus=False):
                yield Static("", id="facts-text")
        yield Static("", id="said")
        yield Notice(self.palette)
        yield Keys(self.palette)

    async def on_mount(self) -> None:
        self.set_class(self.app.size.width < 100, "narrow")
        await self.open_()

    def on_resize(self) -> None:
        self.set_class(self.app.size.width < 100, "narrow")
        self.call_after_refresh(self.curves.draw_plot)

    def say(self, text: str, bad: bool = False) -> None:
        self.query_one("#said", Static).update(Text(text, self.palette.error if bad else self.palette.quiet))

    async def prompt(self, question: str, value: str, hint: str) -> str | None:
        return await self.app.push_screen_wait(Prompt(self.palette, question, value, hint))

    # -- one ledger ----------------------------------------------------------------------------------

    async def open_(self) -> None:
        self.run_number, self.filter, self.sort, self.beside, self.chosen = 0, "", None, None, []
        self.range = None
        if await self.read():
            ledger = self.ledger
            assert ledger is not None
            at = self.present_pass()
            self.at_column = opening_column(ledger.columns, self.bench.facts)
            await self._show(len(self.order) - 1 if not at else self._place_of(ledger.nearest(at)))

    def _place_of(self, row: int) -> int:
        return self.order.index(row) if row in self.order else 0

    async def read(self, filter: str | None = None, run: int | None = None) -> bool:
        """Read the passes; False, with a message, when they are refused.  The table then stays."""
        client = self.bench.client
        if client is None or self.bench.state != "paused":
            self.say("The passes are read at a pause.", bad=True)
            return False
        wanted = self.filter if filter is None else filter
        number = self.run_number if run is None else run
        try:
            first, self.first = self.first, None
            told = await (first or client.passes(self.of.file, self.of.line, number, wanted))
        except BadUse as e:
            self.say(str(e), bad=True)
            return False
        self.ledger, self.filter, self.run_number = told, wanted, told.told.run
        self.trends.add_digits(told)
        self.courses = {k: v for k, v in self.courses.items() if k[0] != self.number}
        self.beside = None
        self.set_order()
        self._title()
        if filter is not None:
            facts = told.told.filter
            if facts is not None and facts.failed:
                self.aimed = f"{in_units(f'the filter failed in {facts.failed} passes', self.of.kind)}: {facts.why}"
            await self.to_place(0)
        self.trends.draw_facts()
        return True

    def set_order(self) -> None:
        """The order of the rows."""
        if self.ledger is None:
            return
        self.order = list(range(self.ledger.rows))
        column = next((c for c in self.ledger.columns if self.sort and c.name == self.sort[0]), None)
        if column is not None and self.sort is not None:
            self.order = self.search.sorted_rows(column, self.sort[1])

    def title_(self) -> str:
        return f"{self.of.head}, {place_words(self.of.file, self.of.line)} of {os.path.basename(self.of.file)}"

    def _title(self) -> None:
        ledger = self.ledger
        if ledger is None:
            return
        told = ledger.told
        run = ""
        if told.begun > 1 and told.kind != "calls":
            run = f"run {told.run} of {len(told.runs)}" if len(told.runs) == told.begun else f"run {told.run}, kept"
            around = told.runs[told.run - 1].around if told.run else []
            run += "".join(f", in pass {a['pass']} of line {a['line']}" for a in around[:2])
        self.query_one(TopLine).show(
            f"ledger of {WORDS[told.kind]} {cut(self.of.head, 70)}", run or self.bench.launch.name
        )
        kept = in_units(told.kept, told.kind)
        sort = f"   sorted by {self.sort[0]}{', descending' if self.sort[1] else ''}" if self.sort else ""
        chosen = f"   only where {self.filter}" if self.filter else ""
        file = os.path.basename(self.of.file)
        self.query_one("#kept", Static).update(
            Text(f"{place_words(self.of.file, self.of.line)} of {file}: {kept}{sort}{chosen}", self.palette.quiet)
        )

    def present_pass(self) -> int:
        """The pass that is under way, in the run that is shown; 0 for none."""
        facts, ledger = self.bench.facts, self.ledger
        if facts is None or ledger is None or ledger.told.run != len(ledger.told.runs):
            return 0
        for loop in facts.loops:
            if loop.line == self.of.line and os.path.realpath(loop.file) == os.path.realpath(self.of.file):
                return loop.number
        return 0

    # -- the table -----------------------------------------------------------------------------------

    async def _show(self, place: int = 0) -> None:
        main = self.query_one("#main", Horizontal)
        await main.remove_children()
        self._bottom()
        self.query_one("#facts").display = self.ledger is not None and bool(self.ledger.rows)
        if self.ledger is None or not self.ledger.rows:
            await main.mount(Static(self._nothing(), id="nothing"))
            return
        if self.plotting:
            plot = Plot(self.palette)
            await main.mount(plot)
            plot.focus()
            self.call_after_refresh(self.curves.draw_plot)
            return
        grid = Grid(self.palette, self._page)
        grid.how = self.format
        main.styles.layout = "horizontal"
        await main.mount(grid)
        grid.focus()
        self.call_after_refresh(self._fill, place)

    async def _fill(self, place: int) -> None:
        """The rows of the table, and the plot with them."""
        await self.to_place(place)
        grid, main = self.grid(), self.query_one("#main", Horizontal)
        if self.with_plot and grid is not None and grid.is_attached and not main.query(Plot):
            if not self.has_class("narrow") and await put_beside(main, grid, Plot(self.palette)):
                self.call_after_refresh(self.curves.draw_plot)

    def _nothing(self) -> Text:
        p = self.palette
        out = Text("\n  Nothing is recorded yet.\n\n", p.text)
        if self.ledger is not None and self.filter:
            return Text(f"\n  No kept pass where {self.filter}. f changes the filter.", p.text)
        message = self.of.message
        out.append(f"  {message}\n\n" if message else "", p.quiet)
        out.append("  r", f"bold {p.text}")
        out.append("  goes back to the start, records from there, and returns to this pause.\n", p.quiet)
        return out

    async def _page(self, where: Message) -> dict[str, object] | None:
        """What the grid asks for, from the table that is here."""
        ledger = self.ledger
        if ledger is None:
            return None
        rows = self.order[where["row"] : where["row"] + where["rows"]]
        columns = ledger.columns[where["column"] : where["column"] + where["columns"]]
        present = self.present_pass()
        labels = [f"{ledger.numbers[r]}" + (" beside" if r == self.beside else "") for r in rows]
        labels = [f"{t} now" if ledger.numbers[r] == present else t for t, r in zip(labels, rows)]
        cells = []
        for column in columns:
            values = [column.plain(r) for r in rows]
            signs = "".join(column.facts.marks[r] for r in rows).replace("m", " ")
            kind = "text" if any(isinstance(v, str) and v for v in values) else "mixed"
            cells.append({"kind": kind, "data": values, "marks": signs})
        return {
            "rows": len(self.order),
            "columns": len(ledger.columns),
            "rowLabels": labels,
            "columnLabels": [c.name for c in columns],
            "cells": cells,
        }

    def grid(self) -> Grid | None:
        found = self.query(Grid)
        return found.first() if found else None

    @property
    def place(self) -> int:
        """Of the cursor, among the rows that are shown."""
        grid = self.grid()
        return min(grid.row, max(0, len(self.order) - 1)) if grid is not None else 0

    @property
    def column(self) -> Column | None:
        """The column that the facts describe: the cursor's, or the first that is plotted."""
        plotted = self.plotted() if self.plotting and self.ledger is not None else []
        if plotted and self.ledger is not None:
            return next((c for c in self.ledger.columns if c.name == plotted[0]), None)
        return self._at_cursor()

    def _at_cursor(self) -> Column | None:
        if self.ledger is None or not self.ledger.columns:
            return None
        grid = self.grid()
        at = self.at_column = grid.column if grid is not None and grid.page else self.at_column
        return self.ledger.columns[min(at, len(self.ledger.columns) - 1)]

    async def to_place(self, place: int, column: int | None = None) -> None:
        grid = self.grid()
        if grid is None:
            if self.order and not self.plotting:
                await self._show(place)
            return
        if not self.order:
            await self._show()
            return
        grid.rows, grid.columns = len(self.order), len(self.ledger.columns) if self.ledger else 0
        if grid.page is None:
            grid.column = max(0, min(self.at_column, grid.columns - 1))
        await grid.go(place, grid.column if column is None else column)

    def on_plot_read(self) -> None:
        self.curves.on_plot_read()

    def on_grid_moved(self) -> None:
        ledger, grid = self.ledger, self.grid()
        if ledger is None or grid is None or not self.order:
            return
        self.trends.draw_facts()
        row = self.order[self.place]
        column = self.column
        exact = column.text(row) if column is not None else ""
        aimed, self.aimed = self.aimed, ""
        unit = UNIT[ledger.told.kind]
        where = f"{unit} {ledger.numbers[row]}, {column.name}: {exact or 'not assigned'}" if column else ""
        facts = ledger.told.filter
        chosen = f"{len(self.order)} of {facts.of} kept where {self.filter}" if facts is not None else ""
        self.say("   ".join(t for t in (aimed, where, chosen, self.format.name) if t))
        if column is not None and column.name != self.drawn_column:
            self.drawn_column = column.name
            self.curves.draw_plot()

    def _bottom(self) -> None:
        many = ["tab"] if len(self.ledgers) > 1 else []
        runs = ["[ ]"] if self.ledger is not None and len(self.ledger.told.runs) > 1 else []
        if self.ledger is None or not self.ledger.rows:
            keys = hints(commands.COMMANDS, "f" if self.filter else "r")
        elif self.plotting:
            keys = [
                *hints(commands.COMMANDS, "v", "k", "h", "l", "+ -"),
                ("left right", "pan"),
                *hints(commands.COMMANDS, "x"),
            ]
        else:
            keys = hints(commands.COMMANDS, "enter", "b", "d", "c", "< >", "f", "s", "=", "v", "x")
        self.query_one(Keys).show(
            [*hints(commands.COMMANDS, *many, *runs), *keys, *hints(commands.COMMANDS, "escape", "?")]
        )

    # -- actions -------------------------------------------------------------------------------------

    async def action_view(self) -> None:
        place = self.place
        self._at_cursor()  # the table goes, its column stays
        if self.plotting:
            self.plotting, self.with_plot = False, False
        elif self.with_plot and not self.has_class("narrow"):
            self.plotting = True
        else:
            self.plotting, self.with_plot = self.has_class("narrow"), True
        await self._show(place)

    def plotted(self) -> list[str]:
        """The columns of the plot: as chosen, else the cursor's, else the first that is not the loop's own."""
        if self.ledger is None:
            return []
        numeric = [c.name for c in self.ledger.columns if c.numeric]
        if self.chosen:
            return [n for n in self.chosen if n in numeric]
        column = self._at_cursor()
        first = column.name if column is not None and column.numeric else ""
        later = numeric[1] if len(numeric) > 1 and first == numeric[0] and self.plotting else first
        return [n for n in [later or next(iter(numeric), "")] if n]

    async def action_other(self) -> None:
        if len(self.ledgers) > 1:
            self.number = (self.number + 1) % len(self.ledgers)
            await self.open_()

    async def action_run(self, by: int) -> None:
        if self.ledger is not None and 1 <= self.run_number + by <= len(self.ledger.told.runs):
            place = self.place
            if await self.read(run=self.run_number + by):
                await self._show(min(place, max(0, len(self.order) - 1)))

    async def action_times(self) -> None:
        """Whether the time of each pass is recorded too, from the next run of the loop on."""
        client = self.bench.client
        if client is None:
            return
        on = "seconds" not in self.of.names
        try:
            wanted = {"file": self.of.file, "line": self.of.line, "times": on}
            (self.ledgers[self.number],) = await client.record([wanted])
        except (BadUse, ValueError) as e:
            self.say(str(e), bad=True)
            return
        said = "Each pass is timed too" if on else "Passes are not timed any longer"
        await self.open_()
        self.say(f"{said}. {self.of.message}")

    async def action_jump(self) -> None:
        self.run_worker(self._jump(), group="dialog")

    async def _jump(self) -> None:
        ledger = self.ledger
        if ledger is None:
            return
        text = await self.prompt("Go to which pass?", "", "its number; one that is still to come is run to with P")
        if not text:
            return
        if not text.strip().isdigit():
            self.say(f"{text} is not a pass number.", bad=True)
            return
        number = int(text)
        row = ledger.row_of(number)
        if row is None and ledger.rows:
            row = ledger.nearest(number)
            self.aimed = f"pass {number} was not kept: the nearest"
        if row is not None and row in self.order:
            await self.to_place(self.order.index(row))

    async def action_keep_call(self) -> None:
        """Goes to where this pass begins, and keeps a call there."""
        await self.action_go_to_pass(keep=True)

    async def action_go_to_pass(self, keep: bool = False) -> None:
        """Takes the script to where this pass begins.  `keep`: there a call is kept."""
        ledger = self.ledger
        if ledger is None or not self.order or self.plotting:
            return
        if ledger.told.kind != "loop":
            self.say("One can go to the passes of loops only.")
            return
        number = ledger.numbers[self.order[self.place]]
        around = ledger.told.runs[ledger.told.run - 1].around
        self.dismiss()
        await self.bench.go_to_pass(self.of, number, around, keep)

    async def action_record_again(self) -> None:
        self.dismiss()
        await self.bench.record_from_start(self.of)

    async def action_record_off(self) -> None:
        await self.bench.record_off(self.of)
        self.dismiss()

    def action_style(self) -> None:
        self._set_format(self.format.next_style())

    def action_digits(self, by: int) -> None:
        self._set_format(self.format.more(by))

    def _set_format(self, how: Format) -> None:
        self.format = how
        grid = self.grid()
        if grid is not None:
            grid.how = how
            grid.format()
            self.on_grid_moved()

    def action_copy(self) -> None:
        """The row: its pass and the exact values."""
        ledger = self.ledger
        if ledger is None or not self.order:
            return
        row = self.order[self.place]
        text = "\t".join([str(ledger.numbers[row]), *(c.text(row) for c in ledger.columns)])
        self.bench.copy_text(text)
        self.say(f"Copied: {cut(text, 80)}")

    def action_back(self) -> None:
        self.dismiss()
