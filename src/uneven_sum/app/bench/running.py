"""Starts the script, and shows its events while it runs and when it ends."""

from __future__ import annotations

import asyncio
import time
from dataclasses import replace
from typing import TYPE_CHECKING

from ...client import (
    BadUse,
    Busy,
    CallEnded,
    Client,
    Ended,
    Exited,
    Launch,
    LeftOut,
    Output,
    ProcessEnded,
    ProcessesWait,
    Stopped,
    SyntaxFault,
    Trouble,
    Unwatched,
    Where,
)
from ...client.sources import place_words
from ...protocol import Placed, Recent, RunningTest
from ...protocol.messages import Message
from ..shell.hangup import TERMINAL
from ..widgets.bars import Headline, Trail
from ..widgets.sheet import Sheet
from .cards import Cards
from .controller import Controller, background
from .output_drawer import OutputDrawer
from .recording import Step

if TYPE_CHECKING:
    pass


class Running(Controller):
    """A controller of the Bench."""

    all_tests: Launch | None = None  # while one test of a run of tests runs alone
    test: RunningTest | None = None  # the last that a pause was in

    def given(self) -> Launch:
        """The launch as the user gave it."""
        return self.all_tests or self.bench.launch

    def action_one_test(self) -> None:
        """Run the test of the pause alone, from the start; again: all of them."""
        bench = self.bench
        if self.all_tests is not None:
            bench.launch, self.all_tests = self.all_tests, None
            bench.notify("All tests run again.")
        elif self.test is None:
            bench.notify("A test runs alone after a pause in it: run the script by pytest or unittest.")
            return
        else:
            self.all_tests, bench.launch = bench.launch, replace(bench.launch, args=self.test.arguments)
            bench.notify(f"Only {self.test.name} runs; {bench.key('J')} runs all tests again.")
        bench.action_again()

    @background(exclusive=True, group="start")
    async def start(self, steps: list[Step] | None = None) -> None:
        bench = self.bench
        if bench.client is not None:
            await self.drop()
        bench.runs += 1
        bench.show_state("starting")
        bench.query_one(Headline).show(f"Starting {bench.launch.name} …", "run")
        bench.recording.steps = steps or []
        client = Client(replace(bench.launch, pause_on=bench.launch.pause_on | {"start"}) if steps else bench.launch)
        how = {"lookouts": bench.book.wanted(), "switches": bench.book.switches, "over": bench.appearance.over}
        try:
            placed = await self.started(client, how)
        except BadUse as e:
            await client.end()
            text = e.picture() if isinstance(e, SyntaxFault) else str(e)
            if bench.runs == 1:
                bench.uneven.refuse(text)
            else:
                self.over(text, "error")
            return
        bench.client = client
        for text in bench.book.placed(placed):
            bench.notify(text)
        bench.breakpoints.draw_marks()
        for place in bench.book.accepted:
            await client.accept(*place)
        for what in bench.book.accepted_as:
            await client.accept_as(what)
        await self.feed(client)
        bench.began = time.perf_counter()
        bench.show_state("running")
        bench.query_one(Headline).show(f"{bench.launch.name} is running.", "run")
        bench.watcher = asyncio.create_task(self.watch(client))

    async def started(self, client: Client, how: Message) -> list[Placed]:
        """Start the script with the recordings of the case; a loop that is gone gives a message."""
        bench = self.bench
        counts, always = bench.book.counting, bench.recording.always().get("always")
        found = await client.start(
            **how, record=bench.recording.recorded(), always=always, counts=counts, watches=bench.watches
        )
        for text in client.not_recorded:
            bench.notify(text, severity="warning")
        return found

    async def feed(self, client: Client) -> None:
        """Standard input from a file, where one was chosen."""
        bench = self.bench
        if bench.launch.stdin_file is None:
            return
        try:
            with open(bench.launch.stdin_file, encoding="utf-8", errors="replace") as f:
                await client.write_input(f.read())
            await client.write_input(None)
        except OSError as e:
            bench.notify(f"{bench.launch.stdin_file} cannot be read: {e.strerror}.", severity="warning")

    async def drop(self) -> None:
        bench = self.bench
        if bench.watcher is not None:
            bench.watcher.cancel()
        if bench.client is not None:
            await bench.client.end()
        bench.client = None

    async def watch(self, client: Client) -> None:
        bench = self.bench
        while True:
            event = await client.next_event()
            if client is not bench.client:
                return
            try:
                await self.take(event, client)
            except BadUse as e:
                if client.alive and not client.running:  # else it ended, or continued, while it was being read
                    bench.notify(str(e), severity="warning")
            except Exception as e:  # an internal error must not freeze the Bench
                bench.notify(f"Internal error: {type(e).__name__}: {e}", severity="error", timeout=20)
            if isinstance(event, Exited):
                return

    async def take(self, event: object, client: Client) -> None:
        bench = self.bench
        if isinstance(event, Output):
            bench.query_one(OutputDrawer).write(event.category, event.text)
        elif isinstance(event, Stopped):
            bench.ran, self.test = event.ran, event.facts.test or self.test
            at_start = client.start_point() == event.point  # also on the way to another place
            bench.query_one(OutputDrawer).back_at(event.point, at_start)
            if await bench.recording.take_step(client, event.facts):
                return
            bench.book.count(event.met)
            bench.point, bench.no_point = event.point, event.no_point
            await bench.verifying.look_at_run(event.facts, client)
            await bench.show_values_of_pause(event.facts, client)
            await bench.cells.show(client)
            await client.seen()
            bench.stepping.slow_step()
            await bench.stepping.next_step()
            bench.recording.at_finding(event.facts)
        elif isinstance(event, CallEnded):
            await bench.asking.call_ended(event, client)
        elif isinstance(event, Where) and bench.state == "running":
            self.sampled(event)
        elif isinstance(event, Busy):
            bench.query_one(Headline).show(event.message, "run")
        elif isinstance(event, Unwatched):
            bench.book.left_alone(event)
            bench.query_one(OutputDrawer).write("console", f"{event.sentence}\n")
            bench.notify(event.sentence, severity="warning")
        elif isinstance(event, ProcessesWait):
            bench.processes.now_waiting(event)
        elif isinstance(event, ProcessEnded):
            bench.processes.ended(event)
        elif isinstance(event, LeftOut):
            bench.query_one(OutputDrawer).write("console", f"{event.text}\n")
        elif isinstance(event, Trouble):
            bench.notify(f"Internal error; the script is not affected: {event.message}", severity="warning")
        elif isinstance(event, Ended) and event.exit_status:
            bench.facts, bench.last_words, bench.exit_place = None, event.said, (event.file, event.line)
        elif isinstance(event, Exited):
            self.exited(event)

    def exited(self, event: Exited) -> None:
        bench = self.bench
        if event.signal == "SIGHUP" and not event.by_us:  # with the terminal; the run ends where it was
            bench.ended = TERMINAL + (bench.ended if bench.facts is not None else "while it ran")
            return
        if event.by_us:
            left = bench.client.session.left if bench.client is not None else []
            still = f" Still running, in a session of its own: {', '.join(left)}." if left else ""
            self.over(f"Script stopped.{still} {bench.key('R')} reruns it.", "end")
        elif event.died:
            self.over(f"{event.sentence} {bench.key('R')} runs it again.", "died")
        elif event.exit_status:
            how = f"by {bench.last_words}" if bench.last_words else f"with status {event.exit_status}"
            self.over(f"The script has ended {how}. {bench.key('R')} runs it again.", "died")
            file, line = bench.exit_place
            if line:
                bench.show_source(file, line)
        else:
            self.over(f"The script has ended. {bench.key('R')} runs it again.", "end")

    def over(self, text: str, reason: str) -> None:
        bench = self.bench
        bench.facts, bench.frames = None, []
        bench.ended = text.partition(". ")[0].removeprefix("The script ").rstrip(".")
        bench.show_state("ended")
        bench.query_one(Headline).show(text, reason)
        bench.query_one(Sheet).show_place(0, 0, "")
        bench.query_one(Sheet).show_notes([])
        bench.query_one(Trail).show([], 0)
        bench.query_one(Cards).show([], bench.about)
        bench.recording.show_strip(Recent())

    def runs_on(self, said: str) -> None:
        """What was shown is gone, and the script runs."""
        bench = self.bench
        bench.facts, bench.frames = None, []
        bench.show_state("running")
        bench.query_one(Headline).show(said, "run")
        bench.query_one(Sheet).show_place(0, 0, "")
        bench.query_one(Trail).show([], 0)

    def sampled(self, where: Where) -> None:
        bench = self.bench
        bench.sources.show_text(where.file)
        bench.query_one(Sheet).show_place(where.line, where.line, "in", move=True)
        at = place_words(where.file, where.line)
        told = [at.capitalize()]
        for loop in where.loops[::-1]:
            if loop.number:
                of = f" of {loop.of}" if loop.of is not None else ""
                told.append(f"pass {loop.number}{of} of the loop at {place_words(loop.file, loop.line)}")
        bar = next((_bar(loop.number, loop.of) for loop in where.loops[::-1] if loop.of and loop.number), "")
        said = f"{bench.launch.name} is running. {', '.join(told)}.\n{bar}".rstrip()
        if where.waits:
            said = f"{bench.launch.name} waits for input at {at}. {bench.key('d')} opens a line to type it."
        bench.query_one(Headline).show(said, "run")
        bench.show_state("running")


def _bar(done: int, of: int, width: int = 40) -> str:
    full = min(width, int(width * done / of)) if of else 0
    return "━" * full + "╌" * (width - full) + f" {100 * done // max(of, 1)} %"
