"""What comparing two runs has shown, as JSON and for people."""

from __future__ import annotations

import msgspec

from ..client import notes
from ..client.differing.comparing import Difference, Met
from ..client.differing.runs import STOPPED, Compared, RunOf
from ..client.sources import place_words, short_place, with_cells
from ..protocol.names import shown
from ..safe_text import cut, visible, visible_json

SCHEMA = 1


def as_json(found: Compared) -> str:
    """One JSON object, as documented in docs/differ.md."""
    comparer = found.comparer
    told: dict[str, object] = {
        "schema": SCHEMA,
        "equal": found.equal,
        "first": _difference(found, comparer.first),
        "largest": _difference(found, comparer.largest),
        "path": _difference(found, comparer.first_path),
        "why": found.why,
        "output": None if found.line is None else msgspec.to_builtins(found.line),
        "places": comparer.places,
        "records": comparer.records,
        "differing": comparer.differing,
        "near": {"count": comparer.near, "largest": comparer.nearest},
        "left_out": len(comparer.left_out),
        "ended": {"a": found.a.ended, "b": found.b.ended},
    }
    return visible_json(msgspec.json.format(msgspec.json.encode(with_cells(told)), indent=2).decode())


def _difference(found: Compared, of: Difference | None) -> dict[str, object] | None:
    if of is None:
        return None
    return {"a": _met(found, 0, of.a), "b": _met(found, 1, of.b), "difference": of.size, "path": of.path}


def _met(found: Compared, side: int, met: Met) -> dict[str, object]:
    run = (found.a, found.b)[side]
    return {
        "file": run.folder.back(met.place.file),
        "line": met.place.line,
        "function": found.function(side, met.place) or "<module>",
        "times": met.times,
        "loop": met.loop[0] if met.loop else None,
        "pass": met.loop[1] if met.loop else None,
        "term": found.term(side, met.place),
        "value": met.text,
    }


def as_text(found: Compared) -> str:
    """The sentences, with the terms and both values beside each other."""
    comparer = found.comparer
    parts: list[str] = []
    first = comparer.first
    if first is not None and first.path and first.a is first.b:
        side = 0 if first.a.place in comparer.matching.at[0].values() else 1
        name = "first" if side == 0 else "second"
        parts.append(f"Only the {name} run comes to {_place(found, side, first.a)}.\n{_rows(found, first, side)}")
    elif first is not None and first.path:
        parts.append(f"The runs take different paths from here on:\n{_rows(found, first)}")
    elif first is not None:
        by = f", by {first.size:.3g} of its size" if first.size is not None else ""
        parts.append(f"The values first differ at {_place(found, 0, first.a)}{by}:\n{_rows(found, first)}")
    if comparer.near:
        before = "Before that" if first is not None else "Within the tolerance"
        within = "within the tolerance, " if first is not None else ""
        parts.append(
            f"{before} {comparer.near:,} values differ {within}by up to {comparer.nearest:.3g} of their size.\n"
        )
    if found.why:
        parts.append(found.why + "\n")
    largest = comparer.largest
    if largest is not None and largest.size is not None and first is not None and largest.size > (first.size or 0):
        where = _place(found, 0, largest.a)
        parts.append(
            f"The largest difference is at {where}, by {largest.size:.3g} of its size:\n{_rows(found, largest)}"
        )
    path = comparer.first_path
    if path is not None and first is not path:
        parts.append(f"The runs take different paths at:\n{_rows(found, path)}")
    if comparer.lost:
        parts.append("They do not meet again; what comes after is not compared.\n")
    if found.line is not None:
        rows = [f"  {'(no such line)' if t is None else t}" for t in (found.line.a, found.line.b)]
        parts.append(f"Line {found.line.number} of the output differs:\n" + "\n".join(rows) + "\n")
    parts.append(_counts(found))
    return visible("\n".join(parts))


def as_report(found: Compared) -> str:
    """A report for people, in Markdown: what was run, and what has shown."""
    rows = [["", "first run", "second run"]]
    for title, values in (
        ("script", [run.folder.back(run.launch.program) for run in (found.a, found.b)]),
        ("arguments", [" ".join(run.launch.args) for run in (found.a, found.b)]),
        ("interpreter", [run.launch.python or "" for run in (found.a, found.b)]),
        ("environment", [", ".join(f"{k}={v}" for k, v in run.launch.env.items()) for run in (found.a, found.b)]),
        ("working folder", [run.folder.original for run in (found.a, found.b)]),
        ("ended", [run.ended for run in (found.a, found.b)]),
    ):
        if any(values):
            rows.append([title, *values])
    head = ["# Two runs side by side", "", notes.table(rows), "", "```", as_text(found).rstrip(), "```", ""]
    return visible("\n".join(head))


def _counts(found: Compared) -> str:
    comparer = found.comparer
    stopped = found.a.ended == STOPPED or found.b.ended == STOPPED
    same = "No difference until you ended the runs: " if stopped else "The two runs are equal: "
    out = same if found.equal else ""
    out += f"{comparer.records:,} values at {comparer.places:,} places compared"
    out += f", {comparer.differing:,} differ" if comparer.differing else ""
    left = len(comparer.left_out)
    out += f"; {left:,} {'place' if left == 1 else 'places'} left out, whose values differ in each run" if left else ""
    ends = {"first": found.a, "second": found.b}
    odd = [f"The {name} run ended {run.ended}." for name, run in ends.items() if run.status or not run.ended]
    return out + ".\n" + ("\n".join(odd) + "\n" if odd else "")


def _place(found: Compared, side: int, met: Met) -> str:
    run: RunOf = (found.a, found.b)[side]
    place = short_place(run.folder.back(met.place.file), met.place.line)
    function = found.function(side, met.place)
    where = f" in {shown(function)}" if function else ""
    return f"{place}{where}, {met.when}" if met.when else f"{place}{where}"


def _rows(found: Compared, of: Difference, only: int | None = None) -> str:
    rows = []
    for side, met in enumerate((of.a, of.b)):
        if only is None or side == only:
            text = found.term(side, met.place)
            label = place_words((found.a, found.b)[side].folder.back(met.place.file), met.place.line)
            rows.append(f"  {label.removeprefix('line '):>5}  {cut(text, 70):<40}  {met.text}")
    return "\n".join(rows) + "\n"
