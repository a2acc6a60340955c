"""A ledger as a table: numbers and texts by row and column, what changes where, and series for plots."""

from __future__ import annotations

import base64
import csv
import math
import struct
from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, TextIO

from ..protocol import LedgerColumn, LedgerPasses

if TYPE_CHECKING:
    from .differing.course import Course

SERIES = ("value", "difference", "ratio")


def doubles(text: str) -> list[float]:
    data = base64.b64decode(text)
    return list(struct.unpack(f"<{len(data) // 8}d", data))


def whole(text: str) -> list[int]:
    data = base64.b64decode(text)
    return list(struct.unpack(f"<{len(data) // 8}q", data))


def packed(values: list[float]) -> str:
    return base64.b64encode(struct.pack(f"<{len(values)}d", *values)).decode()


@dataclass
class Column:
    """`values`: nan where a value is no number."""

    facts: LedgerColumn
    values: list[float]

    @property
    def name(self) -> str:
        return self.facts.name

    @property
    def numeric(self) -> bool:
        return any(m in ".!" for m in self.facts.marks)

    def text(self, row: int) -> str:
        """The exact text; empty for what was not assigned."""
        if self.facts.marks[row] == "m":
            return ""
        if self.facts.texts is not None:
            return self.facts.texts[row] or ""
        value = self.values[row]
        return repr(int(value)) if self.facts.type == "int" else repr(value)

    def plain(self, row: int) -> str | float | int:
        """A cell as a grid shows it: a number where it is one."""
        if self.facts.marks[row] in "mt":
            return self.text(row)
        text = self.facts.texts[row] if self.facts.texts is not None else None
        if text is not None and "." not in text and text.lstrip("-").isdigit():
            return int(text)
        return int(self.values[row]) if self.facts.type == "int" else self.values[row]


class Ledger:
    """One run of a loop."""

    def __init__(self, told: LedgerPasses) -> None:
        self.told = told
        self.numbers = whole(told.numbers)
        self.columns = [self._column(c, told) for c in told.columns]

    @staticmethod
    def _column(facts: LedgerColumn, told: LedgerPasses) -> Column:
        values = doubles(facts.data)
        if facts.name == "branches" and told.branches:
            facts.texts = [taken(int(v), told.branches) if v == v else "" for v in values]
            facts.marks, facts.type = "t" * len(values), "branches"
        return Column(facts, values)

    def add_digits(self, known: Callable[[str], Course | None]) -> None:
        """A column of the digits that hold beside each column for which they are known."""
        columns = []
        for column in self.columns:
            columns.append(column)
            course = known(column.name) if column.numeric else None
            if course is None:
                continue
            steps = [min((n - 1) // course.step, len(course.values) - 1) for n in self.numbers]
            values = [round(course.values[k], 1) for k in steps]
            low = min(range(len(values)), key=values.__getitem__, default=0)
            facts = LedgerColumn(f"{column.name}: digits", packed(values), "." * len(values), "float", of="digits")
            if values:
                facts.low, facts.least = self.numbers[low], values[low]
            columns.append(Column(facts, values))
        self.columns = columns

    @property
    def rows(self) -> int:
        return len(self.numbers)

    def row_of(self, number: int) -> int | None:
        """The row of a pass, if it was kept (and is not filtered out)."""
        try:
            return self.numbers.index(number)
        except ValueError:
            return None

    def nearest(self, number: int) -> int:
        """The row of the kept pass that is nearest."""
        return min(range(self.rows), key=lambda r: abs(self.numbers[r] - number), default=0)

    # -- places that are worth a look ----------------------------------------------------------------

    def largest_change(self, column: Column) -> int | None:
        """The row with the largest difference from the row before it: of passes that follow one another, if any do."""
        best, place = 0.0, None
        steps = [(r, abs(column.values[r] - column.values[r - 1])) for r in range(1, self.rows)]
        near = [(r, d) for r, d in steps if self.numbers[r] == self.numbers[r - 1] + 1 and math.isfinite(d)]
        for row, size in near or [(r, d) for r, d in steps if math.isfinite(d)]:
            if size > best:
                best, place = size, row
        return place

    def next_sign_change(self, column: Column, row: int) -> int | None:
        """The next row, after `row` and then from the beginning, whose sign is not that of the row before it."""
        v = column.values
        found = [
            r for r in range(1, self.rows) if (v[r] < 0) != (v[r - 1] < 0) and v[r] == v[r] and v[r - 1] == v[r - 1]
        ]
        return next((r for r in found if r > row), found[0] if found else None)

    def differences(self, a: int, b: int) -> list[tuple[str, str, str, str]]:
        """Of two rows what differs: name, both texts, and the difference of numbers."""
        found = []
        for column in self.columns:
            one, two = column.text(a), column.text(b)
            if one != two:
                gap = column.values[b] - column.values[a]
                found.append(
                    (column.name, one or "not assigned", two or "not assigned", f"{gap:.6g}" if gap == gap else "")
                )
        return found

    # -- plots ---------------------------------------------------------------------------------------

    def series(self, column: Column, how: str) -> list[float]:
        """The values, their differences from the pass before, or their ratios to it; nan where it was not kept."""
        v, n = column.values, self.numbers
        if how == "value":
            return v
        found = [math.nan]
        for r in range(1, self.rows):
            if n[r] != n[r - 1] + 1:
                found.append(math.nan)
            elif how == "difference":
                found.append(v[r] - v[r - 1])
            else:
                found.append(v[r] / v[r - 1] if v[r - 1] else math.nan if not v[r] else math.copysign(math.inf, v[r]))
        return found

    def plot(self, names: list[str], how: str, width: int, first: int = 0, last: int = 0) -> dict[str, object]:
        """Chosen columns by pass, from pass `first` to before `last` (all), reduced to `width` places: the data of a
        line plot, its level axis in passes."""
        low = first or (self.numbers[0] if self.numbers else 0)
        high = last or (self.numbers[-1] + 1 if self.numbers else 1)
        places = max(1, min(width, high - low))
        made = []
        for column in self.columns:
            if column.name in names:
                values = self.series(column, how)
                marks = column.facts.marks if how == "value" else "." * len(values)
                made.append({"name": column.name, **self._reduced(values, marks, low, high, places)})
        return {"series": made, "first": low, "last": high, "x": "pass"}

    def _reduced(self, values: list[float], marks: str, low: int, high: int, places: int) -> dict[str, object]:
        lows, highs, signs = [math.nan] * places, [math.nan] * places, ["."] * places
        absent = ["1"] * places
        for number, value, mark in zip(self.numbers, values, marks):
            if not low <= number < high:
                continue
            at = (number - low) * places // (high - low)
            absent[at] = "0"
            if mark in "mt":
                continue
            if math.isfinite(value):
                lows[at] = value if lows[at] != lows[at] else min(lows[at], value)
                highs[at] = value if highs[at] != highs[at] else max(highs[at], value)
            if signs[at] == "." and (mark == "!" or math.isinf(value)):  # an array's mean is of its finite cells
                signs[at] = "+" if value == math.inf else "-" if value == -math.inf else "n"
        return {"lows": packed(lows), "highs": packed(highs), "marks": "".join(signs), "absent": "".join(absent)}


def taken(bits: int, branches: list[tuple[int, str]]) -> str:
    """`41, 45 else`: the first lines of the branches that a pass took."""
    found = [(line, word) for n, (line, word) in enumerate(branches) if bits >> n & 1]
    return ", ".join(f"{line} {word}" if word in ("else", "except") else str(line) for line, word in sorted(found))


def write_csv(ledgers: list[Ledger], out: TextIO, rows: Callable[[Ledger], list[int]] | None = None) -> int:
    """Runs as CSV: run, pass, and a column for each value; empty for what was not assigned.  Returns the rows."""
    names = list(dict.fromkeys(c.name for ledger in ledgers for c in ledger.columns))
    outer = any(ledger.told.runs[ledger.told.run - 1].around for ledger in ledgers if ledger.told.run)
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(["run", *(["outer pass"] if outer else []), "pass", *names])
    count = 0
    for ledger in ledgers:
        by_name = {c.name: c for c in ledger.columns}
        around = ledger.told.runs[ledger.told.run - 1].around if ledger.told.run else []
        first = [ledger.told.run, *([around[0]["pass"] if around else ""] if outer else [])]
        for row in rows(ledger) if rows is not None else range(ledger.rows):
            cells = [by_name[n].text(row) if n in by_name else "" for n in names]
            writer.writerow([*first, ledger.numbers[row], *cells])
            count += 1
    return count
