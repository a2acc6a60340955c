"""Plots of the Close-up: asked for, drawn, zoomed, read."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ..plotting.charts import DRAW, NAMES
from ..shell.controller import Controller, background
from ..widgets.plot import Plot

if TYPE_CHECKING:
    from .screen import CloseUp


class Plotting(Controller["CloseUp"]):
    """A controller of the Close-up."""

    screen: CloseUp

    async def plot(self) -> None:
        client, plot = self.screen.bench.client, self.screen.query(Plot)
        if client is None or not plot:
            return
        widget = plot.first()
        how: dict[str, object] = {
            "kind": self.screen.drawn,
            "width": max(10, widget.size.width - 11),
            "height": widget.size.height,
        }
        how.update(columns=self.screen.chosen, slice=self.screen.slice, log=self.screen.logarithmic)
        if self.screen.range is not None:
            how.update(first=self.screen.range[0], last=self.screen.range[1])
        data = await self.screen.ask(client.plot(self.screen.expression, self.screen.frame, **how))
        if data is not None:
            self.screen.plot_data = data
            self.draw()

    def draw(self) -> None:
        plot = self.screen.query(Plot)
        if not plot or self.screen.plot_data is None or not self.screen.drawn:
            return
        widget = plot.first()
        width, height = max(30, widget.size.width), max(6, widget.size.height)
        widget.show(
            DRAW[self.screen.drawn](
                self.screen.plot_data, width, height, self.screen.palette, self.screen.how, self.screen.logarithmic
            )
        )
        self.read_plot()

    def read_plot(self) -> None:
        plot = self.screen.query(Plot)
        if plot and (self.screen.view in DRAW or plot.first().at is not None):
            read = plot.first().read()
            self.screen.say(
                read
                or f"{NAMES.get(self.screen.view, self.screen.view)}{', log axis' if self.screen.logarithmic else ''}"
            )

    async def action_log(self) -> None:
        if self.screen.view in DRAW:
            self.screen.logarithmic = not self.screen.logarithmic
            await self.plot()

    async def action_zoom(self, factor: float) -> None:
        if self.screen.view not in ("line", "histogram", "scatter") or self.screen.plot_data is None:
            return
        rows = int((self.screen.told.get("grid") or {}).get("rows", 0))
        first, last = self.screen.range or (0, rows)
        plot = self.screen.query_one(Plot)
        middle = (first + last) / 2
        if plot.at is not None and self.screen.view == "line":
            middle = first + (plot.at[0] - 11) / max(1, plot.size.width - 12) * (last - first)
        half = max(4, (last - first) * factor / 2)
        self.screen.range = (max(0, int(middle - half)), min(rows, int(middle + half)))
        await self.plot()

    async def action_pan(self, by: int) -> None:
        plot = self.screen.query(Plot)
        if not plot:
            return
        if self.screen.range is None:
            plot.first().move(by, 0)
            self.read_plot()
            return
        rows = int((self.screen.told.get("grid") or {}).get("rows", 0))
        first, last = self.screen.range
        step = by * max(1, (last - first) // 4)
        step = max(-first, min(step, rows - last))
        self.screen.range = (first + step, last + step)
        await self.plot()

    @background(group="dialog")
    async def action_columns(self) -> None:
        """Which columns are plotted."""
        client = self.screen.bench.client
        if client is None or self.screen.view not in DRAW:
            return
        page = await self.screen.page({"row": 0, "column": 0, "rows": 1, "columns": 200})
        if page is None:
            return
        hint = ", ".join(f"{n} {label}" for n, label in enumerate(page["columnLabels"][:12]))
        text = await self.screen.prompt("Which columns?", ", ".join(map(str, self.screen.chosen)), hint)
        if text is None:
            return
        labels = {label: n for n, label in enumerate(page["columnLabels"])}
        found = []
        for word in [w.strip() for w in text.split(",") if w.strip()]:
            if word in labels:
                found.append(labels[word])
            elif word.isdigit():
                found.append(int(word))
            else:
                self.screen.say(f"There is no column {word}.", bad=True)
                return
        self.screen.chosen = found
        await self.plot()
