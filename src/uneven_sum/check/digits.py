"""The digits that hold, as JSON and for people."""

from __future__ import annotations

import os

import msgspec

from ..client import Launch, accepted, notes, reporting
from ..client.differing.runs import Watch
from ..client.digits.findings import number
from ..client.digits.held import Held
from ..client.digits.judging import Blamed, Result
from ..client.digits.merging import merged
from ..client.digits.runs import Digits, digits
from ..client.sources import lines_of, place_words, short_place, with_cells
from ..protocol.names import shown
from ..safe_text import cut, visible, visible_json
from .check import Outcome
from .finding_text import finding_text

SCHEMA = 1


async def with_digits(launch: Launch, outcome: Outcome, watch: Watch) -> None:
    """Run the shaken runs after an audit, and put what they show beside its findings."""
    found = outcome.digits = await digits(launch, watch=watch)
    outcome.findings = merged(outcome.findings or [], found)
    outcome.notes += found.notes
    if not launch.as_module:
        accepted.mark(os.path.join(launch.cwd or "", launch.program), outcome.findings)


def as_json(found: Digits) -> str:
    """One JSON object, as documented in docs/digits.md."""
    told = {"schema": SCHEMA, **as_dict(found)}
    told |= {"findings": [msgspec.to_builtins(f) for f in found.findings], "notes": found.notes, "ended": found.ended}
    return visible_json(msgspec.json.format(msgspec.json.encode(with_cells(told)), indent=2).decode())


def as_dict(found: Digits) -> dict[str, object]:
    """Results, blame, branches and places."""
    return {
        "results": [_result(found, r) for r in found.judged.results],
        "blame": [_blame(found, b) for b in found.judged.blame],
        "branches": [
            {**_place(found, b.place.file, b.place.line), "text": found.judge.text(b.place), "pass": b.at_pass}
            for b in found.judged.branches
        ],
        "unmeasured": [{"text": text, "type": kind} for text, kind in found.judged.unmeasured],
        "places": [
            {
                **_place(found, held.place.file, held.place.line),
                "name": name,
                "digits": round(held.lowest, 1),
                "pass": held.at_pass or None,
            }
            for held, name in found.judged.places
        ],
    }


def _place(found: Digits, file: str, line: int) -> dict[str, object]:
    return {"file": found.path(file), "line": line}


def _result(found: Digits, r: Result) -> dict[str, object]:
    told = {"text": r.text, "value": r.value or None, "digits": round(r.digits, 1), "beside": r.beside}
    return {**_place(found, r.place.file, r.place.line), **told}


def _blame(found: Digits, b: Blamed) -> dict[str, object]:
    place = b.held.place
    finding = next(f for f in found.findings if f.line == place.line and f.term == found.judge.text(place))
    operands = [
        {"text": text, "digits": round(digits, 1)}
        for text, digits in zip(found.judge.operand_texts(b.node), b.held.drop.operand_digits)
    ]
    return {
        **_place(found, place.file, place.line),
        "function": finding.function,
        "term": finding.term,
        "pass": b.at_pass or None,
        "digits": round(b.digits, 1),
        "operands": operands,
    }


def as_report(launch: Launch, found: Digits) -> str:
    """A report for people, in Markdown: how it was run, the results with their digits, a section for each finding."""
    entries = [notes.Entry("digits", "the digits that hold", f"```\n{results_text(found)}```\n")]
    entries += [notes.of_finding(f, lines_of(f.file)) for f in found.findings]
    return visible(reporting.report(launch, entries, " ".join([*found.notes, found.ended]).strip()))


def as_text(found: Digits) -> str:
    """The results with their digits, what was lost where, and what rounding decides."""
    parts = [results_text(found)]
    parts += [finding_text(f) for f in found.findings]
    lost = sorted((h for h, _ in found.judged.places if h.lowest < 8), key=lambda h: h.lowest)
    names = {id(h): n for h, n in found.judged.places}
    if lost:
        rows = [f"  {number(h.lowest):>4}  {cut(names[id(h)], 40):<20} {_where(found, h)}" for h in lost[:12]]
        parts.append("Stored with the fewest digits:\n" + "\n".join(rows) + "\n")
    parts += [note + "\n" for note in found.notes]
    if found.ended:
        parts.append(found.ended + "\n")
    return visible("\n".join(parts))


def results_text(found: Digits) -> str:
    """A line for each result: its digits, its text, its value."""
    results = found.judged.results
    if not results and found.judged.unmeasured:
        return "No results of number types that are moved were seen.\n"
    if not results:
        return "No results were seen: nothing is printed, written or drawn, and no name at the top is left unused.\n"
    width = min(40, max(len(r.text) for r in results))
    rows = [
        f"  {number(r.digits):>4}  {cut(r.text, width):<{width}}  {r.value}  ({at}{', ' if r.beside else ''}{r.beside})"
        for r in results
        for at in [place_words(found.path(r.place.file), r.place.line)]
    ]
    return "Digits that hold:\n" + "\n".join(rows) + "\n"


def _where(found: Digits, held: Held) -> str:
    function = found.judge.matching.text(0, held.place.file).function_at(held.place.line)
    where = short_place(found.path(held.place.file), held.place.line) + (f" in {shown(function)}" if function else "")
    return where + (f", pass {held.at_pass:,}" if held.passes > 1 and held.at_pass else "")
