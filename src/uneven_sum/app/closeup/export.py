"""What the Close-up compares, computes on demand, and writes to files."""

from __future__ import annotations

import os
import time
from typing import TYPE_CHECKING, cast

from textual import work

from ...client import BadUse, notes
from ..plotting import image_export
from ..plotting.charts import DRAW
from ..widgets.dialogs import Choice, Choose

if TYPE_CHECKING:
    from .screen import CloseUp


class Keeping:
    """A part of the Close-up."""

    @property
    def _c(self) -> CloseUp:
        return cast("CloseUp", self)

    @work(group="dialog")
    async def action_compare(self) -> None:
        client = self._c.bench.client
        if client is None:
            return
        text = await self._c._prompt(
            "Compare with what?", "", "an expression, a file.npy or .csv; nothing: itself at the last pause"
        )
        if text is None:
            return
        limits = await self._c._prompt("Beyond which tolerances?", "0, 0", "absolute, relative")
        if limits is None:
            return
        try:
            atol, rtol = [float(t) for t in [*limits.replace(",", " ").split(), "0", "0"][:2]]
        except ValueError:
            self._c.say(f"{limits} are no two numbers.", bad=True)
            return
        other = text.strip() or "·before"
        found = await self._c._ask(client.compare(self._c.expression, self._c.frame, other, atol, rtol))
        if found is None:
            return
        shown = "itself at the last pause" if other == "·before" else other
        kept = [f for f in self._c.told["facts"] if not f[0].startswith("≠")]
        self._c.told["facts"] = [["≠ beside", shown], *([f"≠ {a}", b] for a, b in found["facts"]), ["", ""], *kept]
        self._c._facts()
        grid = self._c._grid()
        if found["at"] and grid is not None and not self._c.slice:
            await grid.go(found["at"][0], found["at"][1] if len(found["at"]) > 1 else 0)
        self._c.say("no cell differs" if found["differ"] == 0 else f"compared with {shown}")

    @work(group="dialog", exclusive=True)
    async def action_matrix(self) -> None:
        client = self._c.bench.client
        if client is None or not self._c.told.get("matrix"):
            return
        found = await self._c._ask(client.matrix(self._c.expression, self._c.frame))
        if found is not None:
            names = {n for n, _ in found}
            self._c.told["facts"] = [f for f in self._c.told["facts"] if f[0] not in names] + [["", ""], *found]
            self._c._facts()
            self._c.say("")

    async def action_own_text(self) -> None:
        """The object's own text, by its `__str__`: its code runs in a trial."""
        await self._add_asked(f"str({self._c.expression})", "own text")

    @work(group="dialog")
    async def action_property(self) -> None:
        """A property of the object: its code runs in a trial."""
        names = self._c.told.get("properties") or []
        if not names:
            self._c.say("It has no properties.")
            return
        choices = [Choice(n, n) for n in names]
        chosen = await self._c.app.push_screen_wait(Choose(self._c.palette, "Read which property?", choices))
        if chosen is not None:
            await self._add_asked(f"{self._c.expression}.{chosen}", chosen)

    async def _add_asked(self, text: str, name: str) -> None:
        client = self._c.bench.client
        if client is None:
            return
        found = await self._c._ask(client.ask(text, self._c.frame))
        if found is not None:
            self._c.told["facts"] = [[name, found["result"]], *[f for f in self._c.told["facts"] if f[0] != name]]
            self._c._facts()
            self._c.say("read in a trial: nothing was changed")

    def action_cancel(self) -> None:
        client = self._c.bench.client
        if client is not None and self._c.busy_since:
            client.cancel_all()

    @work(group="dialog")
    async def action_export(self) -> None:
        client = self._c.bench.client
        if client is None:
            return
        plot = self._c.view in DRAW
        name = "".join(c if c.isalnum() else "_" for c in self._c.expression).strip("_") or "value"
        value = f"{name}.svg" if plot else f"{name}.csv"
        hint = ".svg, .pdf or .png" if plot else ".csv, .npy or .parquet; .md for the summary"
        text = await self._c._prompt("Write it to which file?", value, hint)
        if not text:
            return
        path = os.path.abspath(os.path.expanduser(text.strip()))
        if os.path.exists(path):
            choices = [Choice("yes", "write over it"), Choice("no", "leave it")]
            if await self._c.app.push_screen_wait(Choose(self._c.palette, f"{path} exists.", choices)) != "yes":
                return
        if plot:
            await self._export_plot(path)
        elif path.endswith(".md"):
            self._export_summary(path)
        else:
            how = {"slice": self._c.slice, "sort": self._c.sort, "filter": self._c.filter}
            found = await self._c._ask(client.export_grid(self._c.expression, self._c.frame, path, **how))
            if found is not None:
                self._c.say(f"{found['rows']} rows are in {found['path']}.")

    @work(group="dialog")
    async def action_keep(self) -> None:
        """The summary, or the plot that is shown, with the case."""
        bench, plot = self._c.bench, self._c.view in DRAW and self._c.plot_data is not None
        try:
            if plot:
                data = {**(self._c.plot_data or {}), "log": self._c.logarithmic}
                name = await image_export.keep(bench.script_path(), self._c.view, data, self.title_())
                entry = notes.Entry("plot", self.title_(), "", name)
            else:
                entry = notes.of_value(self._c.expression, self._c.told)
            self._c.say(bench.keep_entry(entry))
        except (OSError, ValueError, BadUse, KeyError) as e:
            self._c.say(f"It could not be saved: {getattr(e, 'strerror', None) or e}", bad=True)

    def _export_summary(self, path: str) -> None:
        from ...charts import summary_markdown

        told = self._c.told["summary"]
        try:
            with open(path, "w", encoding="utf-8") as f:
                f.write(
                    summary_markdown(
                        self._c.expression, told["type"], told["text"], self._c.told["facts"], self.title_()
                    )
                )
        except OSError as e:
            self._c.say(f"{path} could not be written: {e.strerror}.", bad=True)
            return
        self._c.say(f"The summary is in {path}.")

    def title_(self) -> str:
        facts = self._c.bench.facts
        where = f", line {facts.line}" if facts else ""
        loop = facts.loops[0] if facts and facts.loops else None
        passes = f", pass {loop.number}" if loop else ""
        return f"{self._c.expression} — {self._c.bench.launch.name}{where}{passes}"

    async def _export_plot(self, path: str) -> None:
        if self._c.plot_data is None:
            return
        self._c.busy_since = time.monotonic()
        data = {**self._c.plot_data, "log": self._c.logarithmic}
        try:
            await image_export.write(self._c.view, data, path, self.title_())
        except (OSError, ValueError) as e:
            self._c.say(f"{path} could not be written: {getattr(e, 'strerror', None) or e}.", bad=True)
            return
        finally:
            self._c.busy_since = 0.0
        self._c.say(f"The plot is in {path}.")
