"""Runs a script four times: as it is, and three times with its inexact results moved by one unit in the last place."""

from __future__ import annotations

import tempfile
from collections.abc import Callable
from dataclasses import dataclass, field, replace

from ...host.launch import Launch
from ...host.sockets import scratch_prefix
from ...protocol import Finding
from ...safe_text import cut
from ..differing.places import Matching, Text
from ..differing.runs import STOPPED, Feed, RunOf, Watch, all_of, home, prepared
from .findings import findings
from .judging import Judge, Judged
from .spread import Spread

SEEDS = (0, 1, 2, 3)  # 0: nothing is moved


@dataclass
class Digits:
    """`runs`: the plain one first.  `ended`: a sentence where a run did not come to its end; else empty."""

    runs: list[RunOf]
    judge: Judge
    judged: Judged
    findings: list[Finding] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    ended: str = ""

    def path(self, file: str) -> str:
        """The user's file for one of the copy."""
        return self.runs[0].folder.back(file)


async def digits(
    launch: Launch,
    named: frozenset[str] = frozenset(),
    in_place: bool = False,
    given: str | None = None,
    say: Callable[[str], None] = lambda text: None,
    watch: Watch | None = None,
) -> Digits:
    """Run to the ends, and judge.  `named`: names whose values are results, too; `given`: what each run reads from
    standard input.  BadUse when the script cannot be run."""
    launch = replace(launch, env={"PYTHONHASHSEED": "0", **launch.env})
    with tempfile.TemporaryDirectory(prefix=scratch_prefix()) as scratch:
        runs = prepared([launch] * len(SEEDS), scratch, in_place, say)
        spreads = []
        for shaken in runs[1:]:
            texts = tuple({r.launch.program: Text.read(r.launch.program)} for r in (runs[0], shaken))
            spreads.append(Spread(Matching((texts[0], texts[1]), (home(runs[0]), home(shaken)))))
        feeds: list[list[Feed]] = [[(s, 0) for s in spreads], [(spreads[0], 1)], [(spreads[1], 1)], [(spreads[2], 1)]]
        await all_of(runs, feeds, scratch, given, SEEDS, watch)
        for spread in spreads:
            if watch is None or not watch.stopped.is_set():
                spread.finish()
        judge = Judge(spreads, named)
        judged = judge.judge()
        found = Digits(runs, judge, judged)
        found.findings = findings(judge, judged, found.path)
        _remarks(found, spreads)
        return found


def _remarks(found: Digits, spreads: list[Spread]) -> None:
    plain = found.runs[0]
    if STOPPED in plain.ended:
        found.ended = "The runs were ended before the script was; what was seen until then is shown."
        return
    if plain.status or not plain.ended:
        said = plain.ended.replace(plain.folder.copy, plain.folder.original).rstrip(".")
        found.ended = f"The script ended {said or 'early'}; what was seen until then is shown."
    for run in found.runs[1:]:
        if run.status != plain.status and run.ended:
            said = run.ended.replace(run.folder.copy, run.folder.original).rstrip(".")
            note = f"A run with other last digits ended otherwise: {said}."
            if note not in found.notes:
                found.notes.append(note)
    if found.judged.unmeasured:
        of = ", ".join(f"{cut(text, 40)} ({kind})" for text, kind in dict.fromkeys(found.judged.unmeasured))
        found.notes.append(f"Not measured, since numbers of these types are not moved: {of}.")
    if any(s.lost for s in spreads):
        found.notes.append(
            "Runs with other last digits went another way and did not come back: digits hold until there."
        )
