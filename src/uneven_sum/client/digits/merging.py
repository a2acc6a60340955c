"""Digits and findings together: what shaken runs confirm, what they add, and their results as rows beside findings."""

from __future__ import annotations

from ...protocol import DIGITS, Finding
from .findings import course, number, placed
from .held import Held
from .judging import Result
from .runs import Digits


def merged(findings: list[Finding], found: Digits) -> list[Finding]:
    """The findings of an audit with those of shaken runs, the weightiest first.  What both have is one finding."""
    kept = list(findings)
    for one in found.findings:
        same = next((f for f in findings if (f.rule, f.file, f.line) == (one.rule, one.file, one.line)), None)
        if same is None:
            kept.append(one)
        else:
            same.evidence = {**same.evidence, **{f"{k}, shaken": v for k, v in one.evidence.items()}}
            same.weight = max(same.weight, one.weight)
            same.question = same.question and one.question
    return sorted(kept, key=lambda f: (-f.weight, f.file, f.line))


def rows(found: Digits) -> list[Finding]:
    """A row for each result, those with the fewest digits first, and for stored values that hold few."""
    results = sorted(found.judged.results, key=lambda r: r.digits)
    shown = [_of_result(found, r) for r in results]
    known = {(f.line, f.term) for f in shown}
    few = sorted((pair for pair in found.judged.places if pair[0].lowest < 8), key=lambda pair: pair[0].lowest)
    return shown + [_of_place(found, held, name) for held, name in few[:20] if (held.place.line, name) not in known]


def _of_result(found: Digits, r: Result) -> Finding:
    value = f" = {r.value}" if r.value else ""
    head = f"{r.text}{value}: {number(r.digits)} digits hold"
    head += f" {r.beside}" if r.beside else ""
    return _row(found, r.held, r.text, head + (", in the worst pass." if r.held.passes > 1 else "."))


def _of_place(found: Digits, held: Held, name: str) -> Finding:
    return _row(found, held, name, f"{name}: {number(held.lowest)} digits hold when it is stored, in the worst pass.")


def _row(found: Digits, held: Held, term: str, head: str) -> Finding:
    place = held.place
    made = Finding(
        rule=DIGITS,
        weight=0.0,
        question=False,
        headline=head,
        file=found.path(place.file),
        line=place.line,
        function="",
        term=term,
        statement="",
        times=held.passes,
        at_pass=held.at_pass if held.passes > 1 and held.at_pass else None,
        pictures=course(held),
        evidence={"lowest": number(held.lowest), "in the last pass": number(held.last)},
    )
    return placed(found.judge.matching.text(0, place.file), made)
