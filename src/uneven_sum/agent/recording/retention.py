"""What is kept of the passes of one run: the first, the last, the extreme and the first bad ones exactly, and between
them one in so many, evenly.  Of each value besides: its extremes and what is not finite, over all passes."""

from __future__ import annotations

import math
import struct
from collections import deque
from collections.abc import Iterator
from typing import Any

from ..values import nonfinite
from ..values.snapshot import LONG, Cells, number, told

FIRST = 500  # passes at the beginning that are kept
LAST = 500  # and at the end
CELLS = 60_000  # values kept between them, of all names together
Row = tuple[Any, ...]
NUMBERS = {float, int, bool}
LONGEST = 1 << 10 * LONG


class Column:
    """What is known of one name over all passes of a run, exactly.  Places count from 1; 0 for none."""

    __slots__ = ("bad", "first_bad", "high", "high_at", "low", "low_at")

    def __init__(self) -> None:
        self.low, self.low_at = math.inf, 0
        self.high, self.high_at = -math.inf, 0
        self.bad = self.first_bad = 0

    def add(self, values: list[Any], before: int) -> None:
        """The values of the passes that follow `before`."""
        try:
            total = sum(values)
            if total - total == 0:  # neither nan nor inf among them, nor a sum too large
                low, high = min(values), max(values)
                if low < self.low:
                    self.low, self.low_at = float(low), before + 1 + values.index(low)
                if high > self.high:
                    self.high, self.high_at = float(high), before + 1 + values.index(high)
                return
        except (TypeError, OverflowError, ValueError):
            pass
        for place, value in enumerate(values, before + 1):
            self._one(value, place)

    def _one(self, value: object, place: int) -> None:
        if isinstance(value, Cells):
            bad, low, high = value.bad, value.low, value.high
        else:
            found = number(value)
            if found is None:
                return
            bad, low, high = not math.isfinite(found), found, found
        if bad:
            self.bad += 1
            self.first_bad = self.first_bad or place
        if low < self.low and math.isfinite(low):
            self.low, self.low_at = low, place
        if high > self.high and math.isfinite(high):
            self.high, self.high_at = high, place

    @property
    def places(self) -> tuple[int, int, int]:
        return self.low_at, self.high_at, self.first_bad


class Kept:
    """Takes the passes in pieces: lists of values, `wide` of them a pass."""

    def __init__(self, wide: int) -> None:
        self.wide = wide
        self.columns = [Column() for _ in range(wide)]
        self.passes = 0
        self.first: list[Row] = []
        self.middle: list[object] = []  # the values of the passes 1, 1 + stride, …
        self.tail: deque[tuple[int, list[object]]] = deque()  # the last pieces: what was before them, and their values
        self.special: dict[int, Row] = {}  # the extreme passes, and the first bad ones
        self.stride, self.unit = 1, 1
        self.first_most, self.last_most = FIRST, LAST
        self.room = max(CELLS, 200 * wide)

    def add(self, cells: list[Any]) -> None:
        """The values of the passes that follow; where that raises, nothing was added."""
        columns = [[getattr(c, name) for name in Column.__slots__] for c in self.columns]
        kept = self.passes, self.stride, self.unit, self.middle
        first, middle, tail, special = len(self.first), len(self.middle), list(self.tail), dict(self.special)
        try:
            self._add(cells)
        except BaseException:
            self.passes, self.stride, self.unit, self.middle = kept
            del self.first[first:], self.middle[middle:]
            self.tail, self.special = deque(tail), special
            for column, figures in zip(self.columns, columns):
                for name, figure in zip(Column.__slots__, figures):
                    setattr(column, name, figure)
            raise

    def _add(self, cells: list[object]) -> None:
        before, self.passes = self.passes, self.passes + len(cells) // self.wide
        if not self._figures(cells, before):
            if not _moderate(cells):
                cells = [v if type(v) is float else told(v) for v in cells]
            for at, column in enumerate(self.columns):
                column.add(cells[at :: self.wide], before)
            self.unit = max(self.unit, 6 if any([isinstance(v, Cells) for v in cells[-self.wide :]]) else 1)
        self._keep(cells, before)

    def _figures(self, cells: list[object], before: int) -> bool:
        """The extremes of a piece of nothing but finite numbers, where NumPy is at hand; False when it is no such."""
        np = nonfinite.module("numpy")
        if np is None:
            return False
        try:
            packed = struct.pack(f"{len(cells)}d", *cells)
            table = np.frombuffer(packed).reshape(-1, self.wide).T.copy()  # a row for each name
        except (TypeError, OverflowError, ValueError, struct.error):
            return False
        if not np.isfinite(table.sum()):
            return False
        lows, highs = table.min(axis=1).tolist(), table.max(axis=1).tolist()
        for column, row, low, high in zip(self.columns, table, lows, highs):
            if low < column.low:
                column.low, column.low_at = low, before + 1 + int(row.argmin())
            if high > column.high:
                column.high, column.high_at = high, before + 1 + int(row.argmax())
        return True

    def _row(self, cells: list[object], at: int) -> Row:
        return tuple(cells[at * self.wide : (at + 1) * self.wide])

    def _keep(self, cells: list[Any], before: int) -> None:
        for place in {p for c in self.columns for p in c.places}:
            if before < place <= self.passes:
                self.special[place] = self._row(cells, place - before - 1)
        if len(self.special) > 4 * self.wide + 8:
            wanted = {p for c in self.columns for p in c.places}
            self.special = {p: r for p, r in self.special.items() if p in wanted}
        if len(self.first) < self.first_most:
            room = self.first_most - len(self.first)
            self.first += [self._row(cells, n) for n in range(min(room, self.passes - before))]
        self.tail.append((before, cells))
        while len(self.tail) > 1 and self.passes - self.tail[1][0] >= self.last_most:
            self._thin(*self.tail.popleft())

    def _thin(self, before: int, cells: list[object]) -> None:
        """Takes a piece that is no longer among the last: one pass in `stride`."""
        self.middle += cells if self.stride == 1 else self._every(cells, -before % self.stride, self.stride)
        while len(self.middle) * self.unit > self.room and len(self.middle) > 4 * self.wide:
            self._halve()

    def _every(self, cells: list[object], first: int, step: int) -> list[object]:
        """One pass in `step`, a column at a time."""
        wide = self.wide
        count = max(0, -(-(len(cells) // wide - first) // step))
        found: list[object] = [None] * (count * wide)
        for at in range(wide):
            found[at::wide] = cells[first * wide + at :: step * wide]
        return found

    def _halve(self) -> None:
        self.stride *= 2
        self.middle = self._every(self.middle, 0, 2)

    def held(self) -> int:
        """How much this is, in values."""
        tail = sum(len(cells) for _, cells in self.tail)
        return (self.wide * len(self.first) + len(self.middle) + tail) * self.unit

    def shrink(self) -> None:
        """Keeps about half as much from now on."""
        self.first_most, self.last_most = max(4, self.first_most // 2), max(4, self.last_most // 2)
        self.room = max(4 * self.wide, self.room // 2)
        del self.first[self.first_most :]
        pieces, self.tail = self.tail, deque()
        for before, cells in pieces:
            over = max(0, self.passes - self.last_most - before) * self.wide
            if over:
                self._thin(before, cells[:over])
            if cells[over:]:
                self.tail.append((before + over // self.wide, cells[over:]))
        while len(self.middle) * self.unit > self.room and len(self.middle) > 4 * self.wide:
            self._halve()

    def rows(self) -> list[tuple[int, Row]]:
        """The kept passes in their order: number, from 1, and values."""
        count = len(self.middle) // self.wide
        found = {1 + n * self.stride: self._row(self.middle, n) for n in range(count)}
        found.update(self.special)
        found.update(enumerate(self.first, 1))
        late = self.passes - self.last_most
        for before, cells in self.tail:
            numbered = numbered_rows(before, cells, self.wide)
            found.update((p, r) for p, r in numbered if p > late or (p - 1) % self.stride == 0)
        return sorted(found.items())


def _moderate(cells: list[Any]) -> bool:
    """True for plain numbers, integers among them not so long that they must not be kept."""
    return set(map(type, cells)) <= NUMBERS and min(cells) > -LONGEST and max(cells) < LONGEST


def numbered_rows(before: int, cells: list[object], wide: int) -> Iterator[tuple[int, Row]]:
    """The passes of a piece, of which so many were before."""
    for n in range(len(cells) // wide):
        yield before + 1 + n, tuple(cells[n * wide : (n + 1) * wide])
