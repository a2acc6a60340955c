"""Runs that went wrong, one group for each fault, and what their inputs have in common that no other's have."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

from .one import FINE, Ran

FEW = 6  # values of a column that are told one by one


@dataclass
class Fault:
    """`smallest`: the run with the smallest inputs."""

    outcome: str
    fault: list[str]
    rows: list[Ran] = field(default_factory=list)
    apart: list[str] = field(default_factory=list)

    @property
    def smallest(self) -> Ran:
        return min(self.rows, key=lambda ran: (sum(map(_size, ran.values.values())), ran.row))


@dataclass
class Summary:
    """What a sweep has shown."""

    ran: int = 0
    fine: int = 0
    counts: dict[str, int] = field(default_factory=dict)
    faults: list[Fault] = field(default_factory=list)
    seconds: float = 0.0


def summary(rows: Iterable[Ran]) -> Summary:
    """Same reason, place and culprit is one fault; the one with most runs first."""
    found, well, groups = Summary(), list[Ran](), dict[tuple[str, ...], Fault]()
    for ran in rows:
        found.ran += 1
        found.seconds += ran.seconds
        found.counts[ran.outcome] = found.counts.get(ran.outcome, 0) + 1
        if ran.outcome == FINE:
            found.fine += 1
            well.append(ran)
        else:
            key = (ran.outcome, *ran.fault)
            groups.setdefault(key, Fault(ran.outcome, ran.fault)).rows.append(ran)
    found.faults = sorted(groups.values(), key=lambda fault: -len(fault.rows))
    for fault in found.faults:
        if fault.outcome != "bad":
            fault.apart = apart([ran.values for ran in fault.rows], [ran.values for ran in well])
    return found


def apart(these: Sequence[dict[str, str]], others: Sequence[dict[str, str]]) -> list[str]:
    """What tells the inputs of some runs from those of others: `all 7 have alpha over 0.4`.

    A column tells them apart where its values of both do not mix."""
    if not others or not these:
        return []
    told = []
    for name in these[0]:
        mine, theirs = [one.get(name, "") for one in these], [one.get(name, "") for one in others]
        numbers, rest = _numbers(mine), _numbers(theirs)
        sentence = _by_number(numbers, rest) if numbers and rest else _by_value(mine, theirs)
        if sentence:
            word = f"all {len(these)} have" if len(these) > 1 else "it has"
            told.append(f"{word} {name} {sentence}")
    return told


def _by_number(mine: list[float], theirs: list[float]) -> str:
    if any(map(math.isnan, mine)):
        return "nan" if all(map(math.isnan, mine)) and not any(map(math.isnan, theirs)) else ""
    if min(mine) > max(theirs):
        return f"over {max(theirs):g}"
    if max(mine) < min(theirs):
        return f"under {min(theirs):g}"
    if len(mine) > 1 and not any(min(mine) <= x <= max(mine) for x in theirs):
        return f"between {min(mine):g} and {max(mine):g}"
    same = set(mine)
    return f"{min(mine):g}" if len(same) == 1 and len(mine) > 1 and same.isdisjoint(theirs) else ""


def _by_value(mine: list[str], theirs: list[str]) -> str:
    """A text tells apart only where it comes more than once: the name of a file differs in each run."""
    same = set(mine)
    if len(mine) < 2 or len(same) == len(mine) or len(same) > FEW or not same.isdisjoint(theirs):
        return ""
    return "= " + " or ".join(sorted(same))


def _numbers(texts: Sequence[str]) -> list[float]:
    """All as numbers; none where one is none."""
    try:
        return [float(text) for text in texts]
    except ValueError:
        return []


def _size(text: str) -> float:
    try:
        number = abs(float(text))
    except ValueError:
        return float(len(text))
    return number if math.isfinite(number) else 1e300
