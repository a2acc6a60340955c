"""One run of a sweep: what it came to."""

from __future__ import annotations

import asyncio
import os
import time
from dataclasses import replace

import msgspec

from ..client import BadUse, Client, Ended, Exited, Found, Launch, ProcessEnded, Stopped, Tripped
from ..client.all_findings import AllFindings
from ..client.keeping.copies import in_copy
from ..client.verify import Result, results
from ..protocol import TRIPS, Facts, Finding

# tripped, found (by an audit), died, status (ended with one of its own), slow (over the limit), bad (did not start)
FINE = "finished"


class Ran(msgspec.Struct):
    """`fault`: what tells one fault from another, the reason, the place, the function and the culprit; empty where
    nothing is wrong.  `results`: what the user has named, as text."""

    row: int
    args: list[str]
    values: dict[str, str] = {}
    outcome: str = FINE
    fault: list[str] = []
    headline: str = ""
    seconds: float = 0.0
    results: dict[str, str] = {}


async def run_row(launch: Launch, row: Ran, wanted: list[str], limit: float | None, own_folder: bool) -> Ran:
    """Run the script for one row, to the first trip or its end.  It raises nothing but what cancels it."""
    made = replace(launch, args=row.args, capture=True, keep_case=False, pause_at_end=bool(wanted))
    began = time.perf_counter()
    try:
        if own_folder:
            async with in_copy(made, {}) as (copy, folder):
                await asyncio.wait_for(_run(copy, row, wanted), limit)
                row.fault = [folder.back(part) for part in row.fault]
        else:
            await asyncio.wait_for(_run(made, row, wanted), limit)
    except TimeoutError:
        row.outcome, row.headline = "slow", f"It takes more than {limit:g} s."
        row.fault = ["slow"]
    except BadUse as e:
        row.outcome, row.headline, row.fault = "bad", str(e), ["bad", str(e)]
    row.seconds = round(time.perf_counter() - began, 3)
    return row


async def _run(launch: Launch, row: Ran, wanted: list[str]) -> None:
    client = Client(launch)
    audited = AllFindings()
    try:
        await client.start()
        await client.write_input(None)
        while True:
            event = await client.next_event()
            if isinstance(event, Stopped):
                if event.facts.reason in TRIPS:
                    _tripped(row, event.facts)
                    return
                if event.facts.reason == "end":
                    found, _ = await results(client, [Result(text) for text in wanted])
                    row.results = dict(found)
                await client.go_on()
            elif isinstance(event, Tripped):  # in a process that the script has started
                _tripped(row, event.facts)
                return
            elif isinstance(event, ProcessEnded) and event.message:
                row.outcome, row.headline = "died", event.message
                row.fault = ["died", "process", event.message.partition(" crashed: ")[2]]
                return
            elif isinstance(event, Found):
                audited.take(event)
                if audited.merged():
                    _found(row, audited.merged()[0])
            elif isinstance(event, Ended) and event.exit_status and row.outcome == FINE:
                row.outcome, row.headline = "status", f"It ends with status {event.exit_status}. {event.said}".strip()
                row.fault = ["status", str(event.exit_status), event.said]
            elif isinstance(event, Exited):
                if event.died:
                    row.outcome, row.headline = "died", event.sentence
                    row.fault = ["died", event.signal or "", event.sentence.partition(" Its last")[0]]
                return
    finally:
        await client.end()


def _tripped(row: Ran, facts: Facts) -> None:
    row.outcome, row.headline = "tripped", facts.headline
    culprit = facts.culprit.text if facts.culprit is not None else facts.statement
    row.fault = [facts.reason, facts.file, str(facts.line), facts.function, culprit]


def _found(row: Ran, finding: Finding) -> None:
    row.outcome, row.headline = "found", finding.headline
    row.fault = [finding.rule, finding.file, str(finding.line), finding.function, finding.term]


def cores() -> int:
    return len(os.sched_getaffinity(0))
