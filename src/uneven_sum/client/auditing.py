"""An audit: a run of its own, without pauses, whose rules report where a finite result cannot be trusted."""

from __future__ import annotations

import contextlib
import os
import time
from collections.abc import Callable
from dataclasses import dataclass, field, replace

import msgspec

from ..host.launch import BadUse, Launch
from ..protocol import TRIPS, Facts, Finding
from ..safe_text import cut
from . import accepted
from .all_findings import AllFindings
from .client import Client
from .differing.folders import Folder
from .events import Ended, Exited, Found, Output, Stopped, Tripped, Where
from .keeping.copies import in_copy

Progress = Callable[[Where], None]


@dataclass
class Audit:
    """`findings`: the weightiest first.  `ended`: how the run ended, a sentence; empty where it came to its end.
    `notes`: what was not looked at."""

    launch: Launch
    findings: list[Finding] = field(default_factory=list)
    ended: str = ""
    notes: list[str] = field(default_factory=list)
    seconds: float = 0.0
    watched: list[Facts] | None = None  # what pauses a run that is watched; None: there was no such run
    _client: Client | None = None
    _all: AllFindings = field(default_factory=AllFindings)

    @property
    def script(self) -> str:
        return os.path.join(self.launch.cwd or os.getcwd(), self.launch.program)

    async def run(self, progress: Progress) -> None:
        """Run to the end.  BadUse when the script cannot be run."""
        launch = self.launch.to_its_end(audit=self.launch.audit or [])
        client = self._client = Client(launch)
        began, errors = time.monotonic(), ""
        last: Ended | None = None
        try:
            await client.start()
            await self._feed(client)
            while True:
                event = await client.next_event()
                if isinstance(event, Found):
                    self._take(event)
                elif isinstance(event, Output):
                    errors = (errors + event.text)[-2_000:] if event.category == "stderr" else errors
                    self.notes += event.text.splitlines() if event.category == "console" else []
                elif isinstance(event, Where):
                    progress(event)
                elif isinstance(event, Stopped):
                    await client.go_on()
                elif isinstance(event, Ended):
                    last = event
                elif isinstance(event, Exited):
                    if event.died:
                        self.ended = event.sentence
                    break
            if last is not None and last.exit_status:
                self.ended = f"The script ended {_how(last, errors)}; what was found until then is shown."
        finally:
            self.seconds = time.monotonic() - began
            self._client = None
            await client.end()

    async def watch(self) -> None:
        """Run once more, watched, in a copy of the folder: an audit looks at finite results only.  BadUse when the
        script cannot be run so."""
        watched = replace(self.launch.to_its_end(), pause_on=set(TRIPS), checks=True, go_on=True)
        async with in_copy(watched, {}) as (launch, folder):
            await self._watch(launch, folder)

    async def _watch(self, launch: Launch, folder: Folder) -> None:
        client = self._client = Client(launch)
        found: list[Facts] = []
        try:
            await client.start()
            await self._feed(client)
            while not isinstance(event := await client.next_event(), Exited):
                if isinstance(event, (Tripped, Stopped)) and event.facts.reason in TRIPS:
                    event.facts.file = folder.back(event.facts.file)
                    found.append(event.facts)
                if isinstance(event, Stopped):
                    await client.go_on()
            self.watched = found
        finally:
            self._client = None
            await client.end()

    async def _feed(self, client: Client) -> None:
        """Standard input from the chosen file; else it is at its end, since nobody types."""
        if self.launch.stdin_file is not None:
            try:
                with open(self.launch.stdin_file, encoding="utf-8", errors="replace") as f:
                    await client.write_input(f.read())
            except OSError as e:
                self.ended = f"{self.launch.stdin_file} cannot be read: {e.strerror}."
        await client.write_input(None)

    async def stop(self) -> None:
        """End the run; what was found so far stays."""
        client = self._client
        if client is None:
            return
        with contextlib.suppress(BadUse):
            await client.session.processes.take_findings()
            body = await client.session.request("unevenSum/findings")
            self._take(Found(msgspec.convert(body["findings"], list[Finding])))
        self.ended = "The audit was ended before the script was."
        await client.end()

    def _take(self, told: Found) -> None:
        self._all.take(told)
        self.findings = self._all.merged()
        if not self.launch.as_module:
            accepted.mark(self.script, self.findings)


def _how(ended: Ended, errors: str) -> str:
    """`by ValueError: …`: what `sys.exit` was given, else the last line on standard error."""
    said = ended.said or next((cut(line.strip(), 200) for line in errors.splitlines()[::-1] if line.strip()), "")
    return f"by {said}" if said else f"with status {ended.exit_status}"
