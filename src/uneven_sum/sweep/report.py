"""What a sweep has shown: for people, as Markdown, as JSON."""

from __future__ import annotations

import os

import msgspec

from ..client import notes
from ..client.sources import short_place
from ..protocol.names import reason
from ..safe_text import visible, visible_json
from .faults import Fault, Summary
from .one import FINE, Ran

SCHEMA = 1
WORDS = {"tripped": "tripped", "found": "with findings", "died": "died", "status": "ended with a status of their own"}
WORDS |= {"slow": "took too long", "bad": "did not start"}
MOST = 20  # rows of a table of results


def counted(found: Summary, so_far: bool = False) -> str:
    """`300 runs: 281 fine, 19 tripped.`; `so_far`: more are to come."""
    parts = [f"{found.fine:,} fine"]
    parts += [f"{found.counts[word]:,} {WORDS[word]}" for word in WORDS if found.counts.get(word)]
    more = " so far" if so_far else ""
    return f"{found.ran:,} run{'s' if found.ran != 1 else ''}{more}: {', '.join(parts)}."


def as_text(found: Summary) -> str:
    parts = [f"{_fault(number, one)}\n" for number, one in enumerate(found.faults, 1)]
    faults = len(found.faults)
    end = f" {faults} different fault{'s' if faults != 1 else ''}." if faults else ""
    return visible("\n".join([*parts, counted(found) + end + "\n"]))


def _fault(number: int, one: Fault) -> str:
    first = one.smallest
    runs = f"{len(one.rows):,} run{'s' if len(one.rows) != 1 else ''}"
    lines = [f"{number}. {runs}, {where_of(one)}", *(f"   {line}" for line in first.headline.splitlines())]
    lines += [f"   {text}" for text in one.apart]
    numbers = ", ".join(str(ran.row) for ran in one.rows[:12]) + (", …" if len(one.rows) > 12 else "")
    lines.append(
        f"   {'rows' if len(one.rows) > 1 else 'row'} {numbers}; the smallest is row {first.row}: {inputs_of(first)}"
    )
    return "\n".join(lines)


def where_of(one: Fault) -> str:
    """`error at model.py:9`."""
    if one.outcome in ("tripped", "found"):
        return f"{reason(one.fault[0])} at {short_place(one.fault[1], int(one.fault[2]))}"
    return {"died": "died", "slow": "took too long", "bad": "did not start"}.get(one.outcome, "ended by itself")


def inputs_of(ran: Ran) -> str:
    """`alpha = 0.1, gauge = sill`; the arguments where there are no columns."""
    return ", ".join(f"{name} = {value}" for name, value in ran.values.items()) or " ".join(ran.args)


def as_report(found: Summary, rows: list[Ran], script: str) -> str:
    """In Markdown: the counts, a section for each fault, the results that the user has named."""
    lines = [f"# Sweep of {os.path.basename(script)}", "", counted(found), ""]
    for number, one in enumerate(found.faults, 1):
        lines += [f"## {number}. {len(one.rows)} runs: {where_of(one)}", "", one.smallest.headline, ""]
        lines += [
            *(f"- {text}" for text in one.apart),
            f"- smallest: row {one.smallest.row}, {inputs_of(one.smallest)}",
            "",
        ]
    named = [ran for ran in rows if ran.results][:MOST]
    if named:
        columns = [*named[0].values, *named[0].results]
        table = [["row", *columns], *([str(r.row), *r.values.values(), *r.results.values()] for r in named)]
        lines += ["## Results", "", notes.table(table), ""]
    return visible("\n".join(lines))


def as_json(found: Summary) -> str:
    """One JSON object, as documented in docs/sweep.md."""
    faults: list[dict[str, object]] = []
    told: dict[str, object] = {
        "schema": SCHEMA,
        "runs": found.ran,
        FINE: found.fine,
        "outcomes": found.counts,
        "faults": faults,
    }
    for one in found.faults:
        first = one.smallest
        smallest = {"row": first.row, "args": first.args, "inputs": first.values, "headline": first.headline}
        rows = [ran.row for ran in one.rows]
        faults.append(
            {"outcome": one.outcome, "fault": one.fault, "rows": rows, "apart": one.apart, "smallest": smallest}
        )
    return visible_json(msgspec.json.format(msgspec.json.encode(told), indent=2).decode())
