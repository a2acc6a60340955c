"""Where a value came from, on the Bench: asks, follows, shows the chosen step in the sheet, goes there."""

from __future__ import annotations

import asyncio
import re
import time
from collections.abc import Awaitable, Callable
from typing import TYPE_CHECKING

from ...client import BadUse, Goal
from ...client.differing.folders import TooLarge
from ...client.origin.chain import Chain, Question, Searches, follow, follow_printed, question
from ...client.origin.places_in import places_in
from ...protocol.origin import MadeFrom, Place, Step
from ...safe_text import cut
from ..widgets.dialogs import Prompt, Sure
from ..widgets.options import Options
from ..widgets.sheet import Sheet
from .controller import Controller, background
from .origin_drawer import OriginDrawer
from .output_drawer import OutputDrawer
from .source_texts import stamp

if TYPE_CHECKING:
    from .screen import Bench

HINT = 'a name, an element: flow[211], a printed line: "total: nan"; then, if you like: expected value > 0'
EXPECTED = re.compile(r",?\s+expected\s+(?=\S)")


class Origins(Controller):
    """A controller of the Bench."""

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        self.searches: Searches | None = None
        self.asked: Question | None = None
        self.under_way = self.shown = False
        self.stamps: dict[str, tuple[float, int]] = {}  # of the files that the searches run
        self.expected = ""  # a condition over `value`

    @property
    def drawer(self) -> OriginDrawer:
        return self.bench.query_one(OriginDrawer)

    @background(group="origin", exclusive=True)
    async def action_origin(self, text: str = "") -> None:
        """Ask for the origin of a value of the chosen call.  `text`: what is offered."""
        bench = self.bench
        if bench.client is None or bench.state != "paused":
            bench.notify("The origin of a value is asked for at a pause.")
            return
        if self.searches is not None:
            self.searches.cancel()  # of a question before this one
        offered = text or self._usual()
        given = await bench.app.push_screen_wait(Prompt(bench.palette, "Origin of which value?", offered, HINT))
        if not given or bench.client is None:
            return
        text, *expected = EXPECTED.split(given, maxsplit=1)
        self.expected = expected[0] if expected else ""
        if text.startswith(('"', "'")):
            await self._follow_line(text.strip("\"'"))
            return
        try:
            asked = self.asked = await question(bench.client, text, bench.frame_number())
        except BadUse as e:
            bench.notify(str(e), severity="warning")
            return
        self._open(asked.place.text)
        await self._search(lambda one: follow(one, asked.place, asked.end, tell=self.drawer.show), [])

    async def _follow_line(self, part: str) -> None:
        """The origin of what a line of the output shows."""
        number = self.bench.query_one(OutputDrawer).number_of(part)
        if not number:
            self.bench.notify(f"No line of the output that is kept holds {part}.", severity="warning")
            return
        self.asked = None
        self._open(f"line {number} of the output")
        await self._search(lambda one: follow_printed(one, number, tell=self.drawer.show), [])

    def _usual(self) -> str:
        """The value that is most likely meant: the pointed one, the culprit's operand, one of the line."""
        bench = self.bench
        sheet, facts = bench.query_one(Sheet), bench.facts
        if sheet.pointed is not None:
            return next(iter(places_in(sheet.pointed[2])), "")
        if facts is not None and facts.culprit is not None:
            texts = [one.text for one in facts.culprit.operands] or [facts.culprit.text]
            places = [place for text in texts for place in places_in(text)]
            if places:
                return places[0]
        line = bench.query_one(OutputDrawer).bad_line()
        if facts is not None and facts.reason == "end" and line:
            return f'"{cut(line, 50)}"'
        return next((place for text in bench.values.candidates() for place in places_in(text)), "")

    def _open(self, text: str) -> None:
        bench = self.bench
        bench.action_close()
        drawer = self.drawer
        drawer.add_class("open")
        drawer.chosen, drawer.opened = self.show_step, self.open_row
        drawer.used = self.ask_use
        drawer.query_one(Options).focus()
        drawer.begin(text)

    async def _search(self, follows: Callable[[Searches], Awaitable[Chain]], before: list[Step]) -> None:
        """Show a chain as it is found.  `before`: its steps that are known."""
        drawer, began = self.drawer, time.monotonic()
        ticking = self.bench.set_interval(0.5, lambda: drawer.wait(time.monotonic() - began))
        self.under_way = True
        try:
            await self._ready()
            assert self.searches is not None
            self.searches.expected = self.expected
            chain = await follows(self.searches)
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

    async def _ready(self) -> None:
        """Start the interpreter of the searches, anew after a change of a file or of the typed input.  BadUse where it
        cannot be started."""
        stamps = {path: stamp(path) for path in self.bench.known_files()}
        typed = self.bench.query_one(OutputDrawer).typed
        if self.searches is not None and (stamps != self.stamps or typed != self.searches.given):
            await self.forget()
        if self.searches is not None:
            return
        self.stamps, self.searches = stamps, Searches(self.bench.launch, given=typed)
        try:
            await self.searches.start()
        except TooLarge as e:
            await self.forget()
            sure = Sure(self.bench.palette, f"{e} Run the script in the folder itself?", "run it there", "do not")
            if not await self.bench.app.push_screen_wait(sure):
                raise BadUse("No search: the folder is too large to copy.") from None
            self.searches = Searches(self.bench.launch, in_place=True, given=typed)
            await self.searches.start()

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
            self.bench.notify(f"{operand.text} has no origin to follow.")
        else:
            self.follow_operand(step, operand.place)

    @background(group="origin", exclusive=True)
    async def follow_operand(self, step: Step, place: Place) -> None:
        steps = self.drawer.chain.steps
        before = steps[: steps.index(step) + 1]
        await self._search(lambda one: follow(one, place, step.then, tell=self.drawer.show, before=before), before)

    def ask_use(self, step: Step, last: Step) -> None:
        """`n`: the next use of a step's value, unless a search is under way."""
        if self.under_way:
            self.bench.notify("A search is under way; escape ends it.")
        else:
            self.find_use(step, last)

    @background(group="origin", exclusive=True)
    async def find_use(self, step: Step, last: Step) -> None:
        """Where the value of a step is read next, after its last use that is shown."""
        drawer, searches = self.drawer, self.searches
        if searches is None or step.place is None or not step.place.name:
            self.bench.notify(
                "The uses of what a call returned are those of the name that gets it: see the step above."
            )
            return
        began = time.monotonic()
        ticking = self.bench.set_interval(0.5, lambda: drawer.wait(time.monotonic() - began))
        self.under_way = True
        try:
            drawer.show_use(step, await searches.use(step.place, last.then))
            drawer.end("n shows the use after this one.")
        except BadUse as e:
            drawer.end(str(e))
        finally:
            self.under_way = False
            ticking.stop()

    def go_to(self, step: Step) -> None:
        """Run the script again, to just before the step, and pause."""
        file, line, count = str(step.then["file"]), int(step.then["at"][0]), int(step.then["count"])
        self.bench.recording.rerun_to_finding(Goal(file, line, count))

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
