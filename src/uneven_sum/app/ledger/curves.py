"""The Ledger's plot by pass, and what is written to files."""

from __future__ import annotations

import os
from typing import TYPE_CHECKING, cast

from ...client import BadUse, notes
from ...client.ledger import SERIES, write_csv
from ...safe_text import cut
from ..plotting import image_export
from ..plotting.charts import line
from ..shell.controller import Controller, background
from ..widgets.dialogs import Choice, Choose
from ..widgets.plot import Plot
from .units import UNIT

if TYPE_CHECKING:
    from ...charts.plot_data import LinePlot
    from .screen import LedgerScreen


class Curves(Controller["LedgerScreen"]):
    """A controller of the Ledger."""

    screen: LedgerScreen

    def plot_data(self, width: int) -> dict[str, object] | None:
        screen = self.screen
        if screen.ledger is None or not screen.ledger.rows:
            return None
        present = screen.present_pass()
        first, last = screen.range or (0, max(present, screen.ledger.numbers[-1]) + 1)
        data = screen.ledger.plot(screen.plotted(), SERIES[screen.how_drawn], width, first, last)
        return {**data, "at": present or None, "named": True}

    def draw_plot(self) -> None:
        screen = self.screen
        found = screen.query(Plot)
        if not found:
            return
        widget = found.first()
        width, height = max(30, widget.size.width), max(6, widget.size.height)
        data = self.plot_data(width * 2 - 22)
        if data is not None:
            widget.show(line(cast("LinePlot", data), width, height, screen.palette, screen.format, screen.logarithmic))
        if screen.plotting:
            self.read_plot()

    def read_plot(self) -> None:
        screen = self.screen
        found = screen.query(Plot)
        if found:
            unit = UNIT[screen.of.kind]
            told = [f"{SERIES[screen.how_drawn]} by {unit}" + (", log axis" if screen.logarithmic else "")]
            read = found.first().read()
            screen.say("   ".join([*told, read] if read else told))

    def on_plot_read(self) -> None:
        self.read_plot()

    def action_log(self) -> None:
        self.screen.logarithmic = not self.screen.logarithmic
        self.draw_plot()

    def action_how(self) -> None:
        """The values, their differences from pass to pass, their ratios."""
        self.screen.how_drawn = (self.screen.how_drawn + 1) % len(SERIES)
        self.draw_plot()

    def action_zoom(self, factor: float) -> None:
        screen, ledger = self.screen, self.screen.ledger
        if ledger is None or not ledger.rows or not screen.query(Plot):
            return
        low, high = ledger.numbers[0], ledger.numbers[-1] + 1
        first, last = screen.range or (low, high)
        plot = screen.query_one(Plot)
        middle = (first + last) / 2
        if plot.at is not None:
            middle = first + max(0, plot.at[0] - 11) / max(1, plot.size.width - 12) * (last - first)
        half = max(4, (last - first) * factor / 2)
        screen.range = (max(low, int(middle - half)), min(high, int(middle + half)))
        if screen.range == (low, high):
            screen.range = None
        self.draw_plot()

    def action_pan(self, by: int) -> None:
        screen, ledger = self.screen, self.screen.ledger
        if ledger is None or not screen.query(Plot):
            return
        if screen.range is None:
            screen.query_one(Plot).move(by, 0)
            self.read_plot()
            return
        first, last = screen.range
        step = by * max(1, (last - first) // 4)
        step = max(ledger.numbers[0] - first, min(step, ledger.numbers[-1] + 1 - last))
        screen.range = (first + step, last + step)
        self.draw_plot()

    @background(group="dialog")
    async def action_columns(self) -> None:
        """Which columns are plotted."""
        screen, ledger = self.screen, self.screen.ledger
        if ledger is None:
            return
        names = [c.name for c in ledger.columns if c.numeric]
        text = await screen.prompt("Which columns?", ", ".join(screen.plotted()), cut(", ".join(names), 60))
        if text is None:
            return
        wanted = [w.strip() for w in text.split(",") if w.strip()]
        unknown = [w for w in wanted if w not in names]
        if unknown:
            screen.say(f"There is no column {unknown[0]} of numbers. There are {', '.join(names)}.", bad=True)
            return
        screen.chosen = wanted
        self.draw_plot()

    # -- files ---------------------------------------------------------------------------------------

    @background(group="dialog")
    async def action_export(self) -> None:
        screen, ledger = self.screen, self.screen.ledger
        if ledger is None:
            return
        plot = screen.plotting
        hint = ".svg, .pdf or .png" if plot else ".csv (the rows as they are shown) or .parquet (all kept ones)"
        name = "passes.svg" if plot else "passes.csv"
        text = await screen.prompt("Write it to which file?", name, hint)
        if not text:
            return
        path = os.path.abspath(os.path.expanduser(text.strip()))
        if os.path.exists(path):
            choices = [Choice("yes", "write over it"), Choice("no", "leave it")]
            if await screen.app.push_screen_wait(Choose(screen.palette, f"{path} exists.", choices)) != "yes":
                return
        try:
            screen.say(await (self._write_plot(path) if plot else self._write_table(path)))
        except (OSError, ValueError, BadUse) as e:
            screen.say(f"{path} could not be written: {getattr(e, 'strerror', None) or e}", bad=True)

    @background(group="dialog")
    async def action_keep(self) -> None:
        """The rows around the cursor, or the plot, with the case."""
        screen, ledger = self.screen, self.screen.ledger
        if ledger is None:
            return
        try:
            if screen.plotting:
                picture = await image_export.keep(screen.bench.script_path(), "line", *self._picture())
                entry = notes.Entry("plot", f"{', '.join(screen.plotted())} by pass", screen.title_(), picture)
            else:
                first = max(0, screen.place - notes.ROWS // 2)
                said = (
                    screen.courses.get((screen.number, screen.run_number, screen.column.name), [])
                    if screen.column
                    else []
                )
                named = [f"`{screen.column.name}` {text}" for text in said] if screen.column else []
                entry = notes.of_ledger(ledger, f"passes of {screen.title_()}", screen.order[first:], named)
            screen.say(screen.bench.keep_entry(entry))
        except (OSError, ValueError, BadUse) as e:
            screen.say(f"It could not be saved: {getattr(e, 'strerror', None) or e}", bad=True)

    def _picture(self) -> tuple[dict[str, object], str]:
        """What the plot shows, and its title.  ValueError when there is nothing yet."""
        screen = self.screen
        data = self.plot_data(400)
        if data is None:
            raise ValueError("there is nothing to draw yet")
        what = SERIES[screen.how_drawn]
        title = f"{', '.join(screen.plotted())}: {what} by pass — {screen.title_()}"
        return {**data, "log": screen.logarithmic}, title

    async def _write_plot(self, path: str) -> str:
        data, title = self._picture()
        await image_export.write("line", data, path, title)
        return f"The plot is in {path}."

    async def _write_table(self, path: str) -> str:
        screen, ledger, client = self.screen, self.screen.ledger, self.screen.bench.client
        assert ledger is not None
        if path.endswith(".parquet"):
            if client is None:
                raise ValueError("the script has ended; .csv can be written")
            told = await client.export_passes(ledger.told.file, ledger.told.line, path, ledger.told.run)
            return f"{told['rows']} rows are in {path}."
        if not path.endswith(".csv"):
            raise ValueError("a table is written as .csv or .parquet")
        with open(path, "w", encoding="utf-8", newline="") as f:
            count = write_csv([ledger], f, lambda _: screen.order)
        return f"{count} rows are in {path}."
