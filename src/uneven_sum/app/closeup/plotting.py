"""Plots of the Close-up: asked for, drawn, zoomed, read."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, cast

from textual import work

from ..plotting.charts import DRAW, NAMES
from ..widgets.plot import Plot

if TYPE_CHECKING:
    from .screen import CloseUp


class Plotting:
    """A part of the Close-up."""

    @property
    def _c(self) -> CloseUp:
        return cast("CloseUp", self)

    async def _plot(self) -> None:
        client, plot = self._c.bench.client, self._c.query(Plot)
        if client is None or not plot:
            return
        widget = plot.first()
        how: dict[str, Any] = {
            "kind": self._c.drawn,
            "width": max(10, widget.size.width - 11),
            "height": widget.size.height,
        }
        how.update(columns=self._c.chosen, slice=self._c.slice, log=self._c.logarithmic)
        if self._c.range is not None:
            how.update(first=self._c.range[0], last=self._c.range[1])
        data = await self._c._ask(client.plot(self._c.expression, self._c.frame, **how))
        if data is not None:
            self._c.plot_data = data
            self._draw()

    def _draw(self) -> None:
        plot = self._c.query(Plot)
        if not plot or self._c.plot_data is None or not self._c.drawn:
            return
        widget = plot.first()
        width, height = max(30, widget.size.width), max(6, widget.size.height)
        widget.show(
            DRAW[self._c.drawn](self._c.plot_data, width, height, self._c.palette, self._c.how, self._c.logarithmic)
        )
        self.read_plot()

    def read_plot(self) -> None:
        plot = self._c.query(Plot)
        if plot and (self._c.view in DRAW or plot.first().at is not None):
            read = plot.first().read()
            self._c.say(read or f"{NAMES.get(self._c.view, self._c.view)}{', log axis' if self._c.logarithmic else ''}")

    async def action_log(self) -> None:
        if self._c.view in DRAW:
            self._c.logarithmic = not self._c.logarithmic
            await self._plot()

    async def action_zoom(self, factor: float) -> None:
        if self._c.view not in ("line", "histogram", "scatter") or self._c.plot_data is None:
            return
        rows = int((self._c.told.get("grid") or {}).get("rows", 0))
        first, last = self._c.range or (0, rows)
        plot = self._c.query_one(Plot)
        middle = (first + last) / 2
        if plot.at is not None and self._c.view == "line":
            middle = first + (plot.at[0] - 11) / max(1, plot.size.width - 12) * (last - first)
        half = max(4, (last - first) * factor / 2)
        self._c.range = (max(0, int(middle - half)), min(rows, int(middle + half)))
        await self._plot()

    async def action_pan(self, by: int) -> None:
        plot = self._c.query(Plot)
        if not plot:
            return
        if self._c.range is None:
            plot.first().move(by, 0)
            self.read_plot()
            return
        rows = int((self._c.told.get("grid") or {}).get("rows", 0))
        first, last = self._c.range
        step = by * max(1, (last - first) // 4)
        step = max(-first, min(step, rows - last))
        self._c.range = (first + step, last + step)
        await self._plot()

    @work(group="dialog")
    async def action_columns(self) -> None:
        """Which columns are plotted."""
        client = self._c.bench.client
        if client is None or self._c.view not in DRAW:
            return
        page = await self._c._page({"row": 0, "column": 0, "rows": 1, "columns": 200})
        if page is None:
            return
        hint = ", ".join(f"{n} {label}" for n, label in enumerate(page["columnLabels"][:12]))
        text = await self._c._prompt("Which columns?", ", ".join(map(str, self._c.chosen)), hint)
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
                self._c.say(f"There is no column {word}.", bad=True)
                return
        self._c.chosen = found
        await self._plot()
