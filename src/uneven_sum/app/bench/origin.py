"""Where a value came from, on the Bench: asks, follows, shows the chosen step in the sheet, goes there."""

from __future__ import annotations

import asyncio
import time
from typing import TYPE_CHECKING

from ...client import BadUse, Goal
from ...client.origin.chain import Chain, Question, Searches, follow, question
from ...protocol.origin import MadeFrom, Place, Step
from ..widgets.dialogs import Prompt
from ..widgets.options import Options
from ..widgets.sheet import Sheet
from .controller import Controller, background
from .origin_drawer import OriginDrawer

if TYPE_CHECKING:
    from .screen import Bench

HINT = "a name, an attribute, or an element: flow[211]"


class Origins(Controller):
    """A controller of the Bench."""

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        self.searches: Searches | None = None
        self.asked: Question | None = None
        self.under_way = self.shown = False

    @property
    def drawer(self) -> OriginDrawer:
        return self.bench.query_one(OriginDrawer)

    @background(group="origin", exclusive=True)
    async def action_origin(self) -> None:
        """Ask for the origin of a value of the chosen call."""
        bench = self.bench
        if bench.client is None or bench.state != "paused":
            bench.notify("The origin of a value is asked for at a pause.")
            return
        text = await bench.app.push_screen_wait(Prompt(bench.palette, "Origin of which value?", self._usual(), HINT))
        if not text or bench.client is None:
            return
        try:
            self.asked = await question(bench.client, text, bench.frame_number())
        except BadUse as e:
            bench.notify(str(e), severity="warning")
            return
        self._open()
        self.drawer.begin(self.asked.place.text)
        await self._follow(self.asked.place, self.asked.end, [])

    def _usual(self) -> str:
        """The value that is most likely meant: the pointed one, the culprit's operand, one of the line."""
        bench = self.bench
        sheet, facts = bench.query_one(Sheet), bench.facts
        if sheet.pointed is not None:
            return sheet.pointed[2]
        if facts is not None and facts.culprit is not None and facts.reason == "nonfinite":
            places = [one.text for one in facts.culprit.operands if "(" not in one.text]
            if places:
                return places[0]
        found = bench.values.candidates()
        return found[0] if found else ""

    def _open(self) -> None:
        bench = self.bench
        bench.action_close()
        drawer = self.drawer
        drawer.add_class("open")
        drawer.chosen, drawer.opened = self.show_step, self.open_row
        drawer.query_one(Options).focus()

    async def _follow(self, place: Place, end: dict[str, object], before: list[Step]) -> None:
        drawer, began = self.drawer, time.monotonic()
        ticking = self.bench.set_interval(0.5, lambda: drawer.wait(time.monotonic() - began))
        self.under_way = True
        try:
            if self.searches is None:
                self.searches = Searches(self.bench.launch)
                await self.searches.start()
            chain = await follow(self.searches, place, end, tell=drawer.show, before=before)
            if self.asked is not None:
                chain.compare(self.asked.value)
        except BadUse as e:
            chain = Chain(before, str(e))
            await self.forget()
        finally:
            self.under_way = False
            ticking.stop()
        drawer.show(chain)
        drawer.end(" ".join(filter(None, (chain.said, chain.note))) or "The search was ended.")

    def show_step(self, step: Step) -> None:
        """The chosen step in the sheet, as a place."""
        bench, self.shown = self.bench, True
        bench.sources.show_text(step.file)
        sheet = bench.query_one(Sheet)
        sheet.fold()
        sheet.show_place(step.line, step.line, "in")

    def open_row(self, step: Step, operand: MadeFrom | None) -> None:
        """Enter: on an operand its own origin is sought; on a step the script goes there."""
        if self.under_way:
            self.bench.notify("A search is under way; escape ends it.")
        elif operand is None:
            self.go_to(step)
        elif operand.place is None:
            self.bench.notify(f"{operand.text} is followed no further.")
        else:
            self.follow_operand(step, operand.place)

    @background(group="origin", exclusive=True)
    async def follow_operand(self, step: Step, place: Place) -> None:
        steps = self.drawer.chain.steps
        await self._follow(place, step.then, steps[: steps.index(step) + 1])

    def go_to(self, step: Step) -> None:
        """Run the script again, to just before the step, and pause."""
        file, line, count = str(step.then["file"]), int(step.then["at"][0]), int(step.then["count"])
        self.bench.recording.rerun_to_finding(Goal(file, line, count), False)

    def closed(self) -> None:
        """The drawer is closed: the sheet shows the paused place again."""
        bench = self.bench
        if bench.facts is not None and bench.state == "paused" and self.shown:
            bench.sources.show_place()
        self.shown = False
        bench.sheet.focus()

    def cancel(self) -> bool:
        """End a search that is under way; whether there was one."""
        if self.under_way and self.searches is not None:
            self.searches.cancel()
        return self.under_way

    async def forget(self) -> None:
        """The interpreter of the searches ends: the script may be another now."""
        searches, self.searches = self.searches, None
        if searches is not None:
            await asyncio.shield(searches.close())
