"""Runs that went wrong, one group for each fault, and what their inputs have in common that no other's have."""

from __future__ import annotations

import math
from array import array
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

from .one import FINE, Ran

FEW = 6  # values of a column that are listed
MOST_TEXTS = 1000  # different texts of a column that are kept


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


class Tally:
    """Counts runs one by one: the same reason, place and culprit is one fault."""

    def __init__(self) -> None:
        self.counts: dict[str, int] = {}
        self.seconds = 0.0
        self.well = Inputs()
        self.groups: dict[tuple[str, ...], Fault] = {}

    def add(self, ran: Ran) -> None:
        self.counts[ran.outcome] = self.counts.get(ran.outcome, 0) + 1
        self.seconds += ran.seconds
        if ran.outcome == FINE:
            self.well.add(ran.values)
        else:
            key = (ran.outcome, *ran.fault)
            self.groups.setdefault(key, Fault(ran.outcome, ran.fault)).rows.append(ran)

    def summary(self) -> Summary:
        """What they have shown so far, the fault with most runs first."""
        faults = sorted(self.groups.values(), key=lambda fault: -len(fault.rows))
        for fault in faults:
            fault.rows.sort(key=lambda ran: ran.row)  # they end in any order
            if fault.outcome != "bad":
                fault.apart = self.well.apart_from([ran.values for ran in fault.rows])
        ran = sum(self.counts.values())
        return Summary(ran, self.counts.get(FINE, 0), dict(self.counts), faults, self.seconds)


def summary(rows: Iterable[Ran]) -> Summary:
    """What all these runs have shown."""
    tally = Tally()
    for ran in rows:
        tally.add(ran)
    return tally.summary()


class Column:
    """The values of one input, in little memory: as numbers, while all are, and as texts, while they are few."""

    def __init__(self) -> None:
        self.numbers: array[float] | None = array("d")
        self.texts: set[str] | None = set()

    def add(self, text: str) -> None:
        if self.numbers is not None:
            try:
                self.numbers.append(float(text))
            except ValueError:
                self.numbers = None
        if self.texts is not None:
            self.texts.add(text)
            if len(self.texts) > MOST_TEXTS:
                self.texts = None


class Inputs:
    """The inputs of the runs that go well."""

    def __init__(self) -> None:
        self.columns: dict[str, Column] = {}

    def add(self, values: dict[str, str]) -> None:
        for name, text in values.items():
            self.columns.setdefault(name, Column()).add(text)

    def apart_from(self, these: Sequence[dict[str, str]]) -> list[str]:
        """What tells the inputs of some runs from these: `all 7 have alpha over 0.4`.

        An input tells them apart where its values of both do not mix."""
        told = []
        for name, column in self.columns.items():
            mine = [one.get(name, "") for one in these]
            numbers = _numbers(mine)
            if numbers and column.numbers:
                sentence = _by_number(numbers, column.numbers)
            else:
                sentence = _by_value(mine, column.texts) if column.texts is not None else ""
            if sentence:
                word = f"all {len(these)} have" if len(these) > 1 else "it has"
                told.append(f"{word} {name} {sentence}")
        return told


def _by_number(mine: list[float], theirs: array[float]) -> str:
    if any(map(math.isnan, mine)):
        return "nan" if all(map(math.isnan, mine)) and not any(map(math.isnan, theirs)) else ""
    same = f"{mine[0]:g}" if len(mine) > 1 and min(mine) == max(mine) else ""
    beyond = f"over {max(theirs):g}" if min(mine) > max(theirs) else ""
    beyond = f"under {min(theirs):g}" if max(mine) < min(theirs) else beyond
    if beyond:
        return f"{same} ({beyond})" if same else beyond
    if len(mine) > 1 and not any(min(mine) <= x <= max(mine) for x in theirs):
        return same or f"between {min(mine):g} and {max(mine):g}"
    return ""


def _by_value(mine: list[str], theirs: set[str]) -> str:
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
