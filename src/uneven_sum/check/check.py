"""Runs a script without a screen."""

from __future__ import annotations

import os
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from ..client import (
    CellEnded,
    Client,
    Ended,
    Exited,
    Found,
    Launch,
    LeftOut,
    Output,
    ProcessEnded,
    Stopped,
    Tripped,
    Trouble,
    Unwatched,
    before,
)
from ..client.all_findings import AllFindings
from ..client.sources import cells_of, python_of
from ..notebooks import hidden
from ..notebooks.hidden import Hidden
from ..notebooks.sheet import place_of
from ..protocol import TRIPS, Facts, Finding
from .holding import Hold, hold

if TYPE_CHECKING:
    from ..client.digits.runs import Digits


@dataclass
class Outcome:
    """What a run without a screen has shown."""

    outcome: str = "finished"  # tripped, finished, died
    exit_status: int | None = None
    signal: str | None = None
    sentence: str = ""  # how it died
    seconds: float = 0.0
    pauses: list[Facts] = field(default_factory=list)
    dead: list[str] = field(default_factory=list)  # how processes that the script has started have died
    dead_said: bool = False  # while the script ran
    left: list[str] = field(default_factory=list)  # processes that the script has started to outlive it
    unwatched: list[Unwatched] = field(default_factory=list)  # what ran without probes
    findings: list[Finding] | None = None  # of an audit
    digits: Digits | None = None  # of shaken runs
    notes: list[str] = field(default_factory=list)  # what it did not look at
    left_out: list[str] = field(default_factory=list)  # what of a notebook did not run
    failed: list[str] = field(default_factory=list)  # where our own code failed: a pause may be missing
    hidden: list[Hidden] = field(default_factory=list)  # what a notebook shows and the run does not give

    @property
    def said(self) -> bool:
        """Whether there is something to say of what ran, besides pauses."""
        return bool(self.unwatched or self.hidden or self.left_out or self.dead or self.failed)

    @property
    def our_status(self) -> int:
        """Our own exit status: 0 fine, 1 something tripped, 3 the script ended with a status of its own, 70 where our
        own code failed, so that a trip may be missing."""
        differs = any(one.kind != "order" for one in self.hidden)
        if self.pauses or self.dead or differs or any(not f.accepted for f in self.findings or ()):
            return 1
        if self.failed:
            return 70
        return 0 if self.exit_status == 0 else 3


async def check(launch: Launch, say: Callable[[str], None] = lambda text: None, how: Hold | None = None) -> Outcome:
    """Runs to the first trip, or to the end when `launch.go_on`.  `say`: hears at once of a process that has died, for
    which the script may wait for ever; `how`: the script is held at the trip.  BadUse when it cannot be run."""
    client = Client(launch)
    outcome = Outcome()
    began = time.perf_counter()
    ended = False
    ran: dict[int, list[dict[str, object]]] = {}
    found = AllFindings()
    try:
        await client.start(always={"branches": False} if launch.passes else None)
        began = time.perf_counter()
        while True:
            event = await client.next_event()
            if isinstance(event, Stopped):
                if event.facts.reason in TRIPS:
                    outcome.pauses.append(event.facts)
                    left = await hold(client, event.facts, how) if how is not None else None
                    if left is not None:
                        outcome.exit_status, outcome.signal = left.exit_status, left.signal
                    break
                await client.go_on()
            elif isinstance(event, Tripped):
                same = _same_place(outcome.pauses, event.facts)
                if same is not None:
                    same.processes += event.facts.processes
                    continue
                outcome.pauses.append(event.facts)
                if not launch.go_on:
                    break
            elif isinstance(event, ProcessEnded) and event.message:
                outcome.dead.append(event.message)
                if not launch.go_on and launch.audit is None:
                    break
                say(event.message)
                outcome.dead_said = True
            elif isinstance(event, Found):
                found.take(event)
                outcome.findings = found.merged()
            elif isinstance(event, Output) and event.category == "console":
                outcome.notes += [text for text in event.text.splitlines() if text not in outcome.notes]
            elif isinstance(event, Trouble):
                outcome.failed.append(event.message)
            elif isinstance(event, LeftOut):
                outcome.left_out.append(event.text)
            elif isinstance(event, CellEnded):
                ran[event.number] = event.outputs
            elif isinstance(event, Unwatched):
                outcome.unwatched.append(event)
            elif isinstance(event, Ended):
                ended = True
                outcome.exit_status = event.exit_status
                outcome.seconds = event.seconds
            elif isinstance(event, Exited):
                outcome.exit_status, outcome.signal = event.exit_status, event.signal
                if event.died:
                    outcome.outcome, outcome.sentence = "died", event.sentence
                break
    finally:
        if not ended:
            outcome.seconds = time.perf_counter() - began
        await client.end()
        outcome.left = client.session.left
    if outcome.findings is not None and not launch.as_module:
        from ..client import accepted  # with a parser of TOML, which takes long to import

        accepted.mark(os.path.join(launch.cwd or "", launch.program), outcome.findings)
    if launch.is_notebook:
        outcome.hidden = _hidden(os.path.join(launch.cwd or "", launch.program), ran)
    if (outcome.pauses or outcome.dead) and outcome.outcome != "died":
        outcome.outcome = "tripped"
    return outcome


def _same_place(known: list[Facts], facts: Facts) -> Facts | None:
    """What has tripped at the same place in another process."""
    here = (facts.reason, facts.file, facts.line)
    return next((one for one in known if facts.processes and here == (one.reason, one.file, one.line)), None)


def _hidden(path: str, ran: dict[int, list[dict[str, object]]]) -> list[Hidden]:
    """What a notebook's stored outputs and counts say beside a run of its cells."""
    with open(path, "rb") as f:
        stored = hidden.stored(f.read())
    cells = cells_of(path)
    found = [hidden.difference(n, stored[n], hidden.of_run(ran[n])) for n in sorted(ran) if n in stored]
    names = []
    if any(cell.kind == "code" and cell.number not in ran and cell.last >= cell.first for cell in cells):
        for one in before.findings(python_of(path).encode(), path):  # of pyflakes, which takes long to import
            cell = place_of(cells, one.line)
            if one.kind == "undefined" and cell is not None and cell.number not in ran:
                names.append(Hidden(cell.number, "name", one.text))
    return [*names, *hidden.out_of_order(cells), *(one for one in found if one is not None)]
