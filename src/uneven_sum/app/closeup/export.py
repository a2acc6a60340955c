"""What the Close-up compares, computes on demand, and writes to files."""

from __future__ import annotations

import os
import time
from typing import TYPE_CHECKING

from ...client import BadUse, notes
from ...client.sources import place_words
from ..plotting import image_export
from ..plotting.charts import DRAW
from ..shell.controller import Controller, background
from ..widgets.dialogs import Choice, Choose

if TYPE_CHECKING:
    from .screen import CloseUp


class Export(Controller["CloseUp"]):
    """A controller of the Close-up."""

    screen: CloseUp

    @background(group="dialog")
    async def action_compare(self) -> None:
        client = self.screen.bench.client
        if client is None:
            return
        text = await self.screen.prompt(
            "Compare with what?", "", "an expression, a file.npy or .csv; nothing: itself at the last pause"
        )
        if text is None:
            return
        limits = await self.screen.prompt("Beyond which tolerances?", "0, 0", "absolute, relative")
        if limits is None:
            return
        try:
            atol, rtol = [float(t) for t in [*limits.replace(",", " ").split(), "0", "0"][:2]]
        except ValueError:
            self.screen.say(f"{limits} are no two numbers.", bad=True)
            return
        other = text.strip() or "·before"
        found = await self.screen.ask(client.compare(self.screen.expression, self.screen.frame, other, atol, rtol))
        if found is None:
            return
        shown = "itself at the last pause" if other == "·before" else other
        kept = [f for f in self.screen.told["facts"] if not f[0].startswith("≠")]
        self.screen.told["facts"] = [["≠ beside", shown], *([f"≠ {a}", b] for a, b in found["facts"]), ["", ""], *kept]
        self.screen.facts()
        grid = self.screen.grid()
        if found["at"] and grid is not None and not self.screen.slice:
            await grid.go(found["at"][0], found["at"][1] if len(found["at"]) > 1 else 0)
        self.screen.say("no cell differs" if found["differ"] == 0 else f"compared with {shown}")

    @background(group="dialog", exclusive=True)
    async def action_matrix(self) -> None:
        client = self.screen.bench.client
        if client is None or not self.screen.told.get("matrix"):
            return
        found = await self.screen.ask(client.matrix(self.screen.expression, self.screen.frame))
        if found is not None:
            names = {n for n, _ in found}
            self.screen.told["facts"] = [f for f in self.screen.told["facts"] if f[0] not in names] + [["", ""], *found]
            self.screen.facts()
            self.screen.say("")

    async def action_own_text(self) -> None:
        """The object's own text, by its `__str__`: its code runs in a trial."""
        await self._add_asked(f"str({self.screen.expression})", "own text")

    @background(group="dialog")
    async def action_property(self) -> None:
        """A property of the object: its code runs in a trial."""
        names = self.screen.told.get("properties") or []
        if not names:
            self.screen.say("It has no properties.")
            return
        choices = [Choice(n, n) for n in names]
        chosen = await self.screen.app.push_screen_wait(Choose(self.screen.palette, "Read which property?", choices))
        if chosen is not None:
            await self._add_asked(f"{self.screen.expression}.{chosen}", chosen)

    async def _add_asked(self, text: str, name: str) -> None:
        client = self.screen.bench.client
        if client is None:
            return
        found = await self.screen.ask(client.ask(text, self.screen.frame))
        if found is not None:
            self.screen.told["facts"] = [
                [name, found["result"]],
                *[f for f in self.screen.told["facts"] if f[0] != name],
            ]
            self.screen.facts()
            self.screen.say("evaluated in a copy, script unchanged")

    def action_cancel(self) -> None:
        client = self.screen.bench.client
        if client is not None and self.screen.busy_since:
            client.cancel_all()

    @background(group="dialog")
    async def action_export(self) -> None:
        client = self.screen.bench.client
        if client is None:
            return
        plot = self.screen.view in DRAW
        name = "".join(c if c.isalnum() else "_" for c in self.screen.expression).strip("_") or "value"
        value = f"{name}.svg" if plot else f"{name}.csv"
        hint = ".svg, .pdf or .png" if plot else ".csv, .npy or .parquet; .md for the summary"
        text = await self.screen.prompt("Write it to which file?", value, hint)
        if not text:
            return
        path = os.path.abspath(os.path.expanduser(text.strip()))
        if os.path.exists(path):
            choices = [Choice("yes", "write over it"), Choice("no", "leave it")]
            if await self.screen.app.push_screen_wait(Choose(self.screen.palette, f"{path} exists.", choices)) != "yes":
                return
        if plot:
            await self._export_plot(path)
        elif path.endswith(".md"):
            self._export_summary(path)
        else:
            how = {"slice": self.screen.slice, "sort": self.screen.sort, "filter": self.screen.filter}
            found = await self.screen.ask(client.export_grid(self.screen.expression, self.screen.frame, path, **how))
            if found is not None:
                self.screen.say(f"{found['rows']} rows are in {found['path']}.")

    @background(group="dialog")
    async def action_keep(self) -> None:
        """The summary, or the plot that is shown, with the case."""
        bench, plot = self.screen.bench, self.screen.view in DRAW and self.screen.plot_data is not None
        try:
            if plot:
                data = {**(self.screen.plot_data or {}), "log": self.screen.logarithmic}
                name = await image_export.keep(bench.script_path(), self.screen.view, data, self.title_())
                entry = notes.Entry("plot", self.title_(), "", name)
            else:
                entry = notes.of_value(self.screen.expression, self.screen.told)
            self.screen.say(bench.keep_entry(entry))
        except (OSError, ValueError, BadUse, KeyError) as e:
            self.screen.say(f"It could not be saved: {getattr(e, 'strerror', None) or e}", bad=True)

    def _export_summary(self, path: str) -> None:
        from ...charts import summary_markdown

        told = self.screen.told["summary"]
        try:
            with open(path, "w", encoding="utf-8") as f:
                f.write(
                    summary_markdown(
                        self.screen.expression, told["type"], told["text"], self.screen.told["facts"], self.title_()
                    )
                )
        except OSError as e:
            self.screen.say(f"{path} could not be written: {e.strerror}.", bad=True)
            return
        self.screen.say(f"The summary is in {path}.")

    def title_(self) -> str:
        facts = self.screen.bench.facts
        where = f", {place_words(facts.file, facts.line)}" if facts else ""
        loop = facts.loops[0] if facts and facts.loops else None
        passes = f", pass {loop.number}" if loop else ""
        return f"{self.screen.expression} — {self.screen.bench.launch.name}{where}{passes}"

    async def _export_plot(self, path: str) -> None:
        if self.screen.plot_data is None:
            return
        self.screen.busy_since = time.monotonic()
        data = {**self.screen.plot_data, "log": self.screen.logarithmic}
        try:
            await image_export.write(self.screen.view, data, path, self.title_())
        except (OSError, ValueError) as e:
            self.screen.say(f"{path} could not be written: {getattr(e, 'strerror', None) or e}.", bad=True)
            return
        finally:
            self.screen.busy_since = 0.0
        self.screen.say(f"The plot is in {path}.")
