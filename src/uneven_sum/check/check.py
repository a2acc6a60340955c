"""Runs a script without a screen."""

from __future__ import annotations

import os
import time
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from ..client import Client, Ended, Exited, Found, Launch, Output, Stopped, Tripped, Unwatched
from ..protocol import TRIPS, Facts, Finding

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
    left: list[str] = field(default_factory=list)  # processes that the script has started to outlive it
    unwatched: list[Unwatched] = field(default_factory=list)  # what ran without probes
    findings: list[Finding] | None = None  # of an audit
    digits: Digits | None = None  # of shaken runs
    notes: list[str] = field(default_factory=list)  # what it did not look at

    @property
    def our_status(self) -> int:
        """Our own exit status: 0 fine, 1 something tripped, 3 the script ended with a status of its own."""
        if self.pauses or any(not f.accepted for f in self.findings or ()):
            return 1
        return 0 if self.exit_status == 0 else 3


async def check(launch: Launch) -> Outcome:
    """Runs to the first trip, or to the end when `launch.go_on`.  BadUse when it cannot be run."""
    client = Client(launch)
    outcome = Outcome()
    began = time.perf_counter()
    ended = False
    try:
        await client.start(always={"branches": False} if launch.passes else None)
        began = time.perf_counter()
        while True:
            event = await client.next_event()
            if isinstance(event, Stopped):
                if event.facts.reason in TRIPS:
                    outcome.pauses.append(event.facts)
                    break
                await client.go_on()
            elif isinstance(event, Tripped):
                outcome.pauses.append(event.facts)
            elif isinstance(event, Found):
                outcome.findings = event.findings
                if not launch.as_module:
                    from ..client import accepted  # with a parser of TOML, which takes long to import

                    accepted.mark(os.path.join(launch.cwd or "", launch.program), event.findings)
            elif isinstance(event, Output) and event.category == "console":
                outcome.notes += event.text.splitlines()
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
    if outcome.pauses and outcome.outcome != "died":
        outcome.outcome = "tripped"
    return outcome
