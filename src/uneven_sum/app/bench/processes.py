"""The processes and threads of the script, on the Bench."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING

from ...client import BadUse, ProcessEnded, ProcessesWait
from ...client.sources import place_words
from ...protocol import Facts
from ...protocol.names import in_processes
from ...safe_text import cut
from ..widgets.dialogs import Choice, Choose
from .controller import Controller, background
from .output_drawer import OutputDrawer

if TYPE_CHECKING:
    from ...client import OneProcess


class Processes(Controller):
    """A controller of the Bench."""

    def now_waiting(self, event: ProcessesWait) -> None:
        """Another process has paused while this one is shown."""
        bench, facts = self.bench, self.bench.facts
        if facts is None or bench.state != "paused":
            return
        if event.count > facts.waiting and len(event.same) == len(facts.processes):
            bench.notify(f"{_processes(event.count)} paused besides this one: {bench.key('(')} shows another.")
        facts.waiting, facts.processes, facts.held = event.count, event.same, event.held
        bench.show_headline(facts)
        bench.show_state(bench.state)

    def ended(self, event: ProcessEnded) -> None:
        bench = self.bench
        if event.message:
            bench.query_one(OutputDrawer).write("console", f"{event.message}\n")
            bench.notify(event.message, severity="warning", timeout=20)
        if event.shown:
            bench.running.runs_on(event.message or f"{event.name} has ended. {bench.launch.name} is running.")

    @background(group="dialog")
    async def action_walk_process(self, by: int) -> None:
        """The next or the previous process that is paused."""
        bench = self.bench
        paused = [one for one in bench.client.processes() if one.state != "runs"] if bench.client is not None else []
        here = next((n for n, one in enumerate(paused) if one.state == "shown"), None)
        if not paused or (len(paused) == 1 and here == 0):
            bench.notify("No other process of the script is paused.")
            return
        await self._show(paused[((0 if here is None else here) + by) % len(paused)].pid)

    async def _show(self, pid: int) -> None:
        assert self.bench.client is not None
        try:
            await self.bench.client.show_process(pid)
        except BadUse as e:
            self.bench.notify(str(e))

    @background(group="dialog")
    async def list_processes(self) -> None:
        """All processes of the script; a paused one can be shown."""
        bench = self.bench
        if bench.client is None or not bench.client.alive:
            bench.notify("The script does not run.")
            return
        await bench.client.places_of_processes()
        known = bench.client.processes()
        choices = [Choice(str(one.pid), _label(one, bench.launch.name), one.headline) for one in known]
        chosen = await bench.app.push_screen_wait(Choose(bench.palette, "Processes of the script", choices))
        if chosen is None:
            return
        one = next((p for p in bench.client.processes() if str(p.pid) == chosen), None)
        if one is None or one.state == "runs":
            bench.notify("This process runs: it is shown when it pauses." if one else "This process has ended.")
        elif one.state != "shown":
            await self._show(one.pid)

    @background(group="dialog")
    async def show_threads(self) -> None:
        """The threads of the script; the calls of the chosen one are listed, and one of them shown."""
        bench = self.bench
        if bench.client is None or bench.state != "paused":
            bench.notify("Threads are listed at a pause.")
            return
        try:
            threads = await bench.client.threads()
            choices = [Choice(str(n), name) for n, name in threads]
            chosen = await bench.app.push_screen_wait(Choose(bench.palette, "Threads of the script", choices))
            if chosen is None:
                return
            frames = await bench.client.stack(int(chosen))
        except BadUse as e:
            bench.notify(str(e), severity="warning")
            return
        calls = [
            Choice(str(n), f"{f.name}, {place_words(path, f.line)}", path)
            for n, f in enumerate(frames)
            for path in [str(f.source.get("path", ""))]
        ]
        where = await bench.app.push_screen_wait(Choose(bench.palette, "Its calls, innermost first", calls))
        if where is not None:
            frame = frames[int(where)]
            bench.source.show_source(str(frame.source["path"]), frame.line)


def in_process(facts: Facts) -> str:
    """`In ForkPoolWorker-1 (4711), and in 3 more processes: `; empty for the script's own process."""
    if not facts.processes or not facts.process:
        return ""
    return in_processes(facts.processes, facts.process) + ": "


def top_words(state: str, facts: Facts | None, ran: float) -> str:
    """For the line at the top: the state of the script, which process is shown, how many more are paused."""
    if state != "paused" or facts is None:
        return {"paused": f"paused · ran {ran:.2f} s", "running": "running", "starting": "starting"}.get(state, "ended")
    told = [text for text in (facts.process, facts.task) if text]
    if facts.waiting:
        told.append(f"{facts.waiting} more paused")
    if facts.held:
        told.append(f"{facts.held} held")
    if facts.hand:
        told.append(f"set by you: {cut(', '.join(facts.hand), 50)}")
    if facts.nested:
        told.append(f"in a copy: {cut(facts.nested, 40)}")
    else:
        told.append("at its end" if facts.reason == "end" else f"paused · ran {ran:.2f} s")
    return " · ".join(told)


def _processes(count: int) -> str:
    return "1 process is" if count == 1 else f"{count} processes are"


def _label(one: OneProcess, script: str) -> str:
    seconds = max(0, round(time.time() - one.since))
    state = {
        "runs": "waits for a task" if one.idle else "runs",
        "paused": "paused",
        "held": "held",
        "shown": "paused, shown here",
    }[one.state]
    place, at = one.place or {}, ""
    if place.get("file"):
        at = f", in {place.get('function') or 'module'}, {place_words(str(place['file']), int(place['line']))}"
    return f"{one.name or script}, {state}, for {seconds} s{at}"
