"""What the values of a loop's body were in each pass: recorded at speed, in bounded memory.

A recorder belongs to one loop, comprehension or function of the source; each time that it is run is one `Run`.  The
end of a pass puts its values into a buffer (one call of C as long as all of them are plain numbers); every CHUNK
values the buffer is worked up: the extreme and the first bad passes are kept exactly, the first and the last ones
too, and those between are thinned evenly.
"""

from __future__ import annotations

import contextlib
import itertools
import math
import struct
import sys
import time
from collections import deque
from collections.abc import Iterable, Iterator
from typing import Any

from . import nonfinite, stack, state
from .told import MISSING, Cells, all_plain, number, told

CHUNK = 8192  # values until the buffer is worked up
FIRST = 500  # passes at the beginning that are kept
LAST = 500  # and at the end
CELLS = 60_000  # values kept between them, of all names together
RUNS = 200  # of one loop; older ones between the first and the last few are dropped
TOTAL = 500_000  # values kept of all runs together; the largest are thinned further
SELDOM = 0.002  # seconds from run to run from which on the loops around are looked up each time
Row = tuple[Any, ...]


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

    def _one(self, value: Any, place: int) -> None:
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


class Run:
    """One run of a loop."""

    __slots__ = (
        *("around", "base", "before", "chunk", "columns", "due", "first", "first_most", "kept", "last_most", "line"),
        *("middle", "named", "room", "slow", "special", "stride", "tail", "unit", "waiting", "weight", "wide"),
    )

    def __init__(self, names: tuple[str, ...], others: int, base: int = 0) -> None:
        self.named, self.wide = names, len(names) + others
        self.columns = [Column() for _ in range(self.wide)]
        self.kept: list[Any] = [MISSING] * others  # where no temporary can hold the other values of a pass
        self.waiting: list[Any] = []  # the body's end puts its values here, one after the other; always this very list
        self.chunk = max(16, CHUNK // max(1, self.wide))
        self.slow = True  # not all values are plain numbers: each pass is told at once
        self.base = base  # passes that were not recorded, before the first
        self.before = 0  # passes worked up
        self.first: list[Row] = []
        self.middle: list[Any] = []  # the values of the passes 1, 1 + stride, …
        self.tail: deque[tuple[int, list[Any]]] = deque()  # the last pieces: what was before them, and their values
        self.special: dict[int, Row] = {}  # the extreme passes, and the first bad ones
        self.stride, self.unit = 1, 1
        self.first_most, self.last_most = FIRST, LAST
        self.room = max(CELLS, 200 * self.wide)
        self.weight = self.line = 0
        self.around: list[dict[str, Any]] = []  # the loops around, each with its pass
        self.due = itertools.chain.from_iterable(self._dues())  # of a `while`: each `next` is a pass

    # -- while the loop runs -------------------------------------------------------------------------

    def over(self, iterable: Iterable[Any]) -> Iterator[Any]:
        """What a `for` goes over, as it was, with the buffer worked up now and then."""
        return itertools.chain.from_iterable(self._chunks(iter(iterable)))

    def paired(self, iterable: Iterable[Any]) -> Iterator[tuple[Run, Any]]:
        """What a comprehension goes over, each with this run."""
        return zip(itertools.repeat(self), iterable)

    def _dues(self) -> Iterator[Iterable[None]]:
        while True:
            yield itertools.repeat(None, self.chunk - 1)
            self.work_up()
            yield (None,)

    def _chunks(self, iterator: Iterator[Any]) -> Iterator[Iterable[Any]]:
        """In pieces, between which the buffer is worked up."""
        ended: list[bool] = []
        told = itertools.chain(iterator, self._end(ended))  # so that the end is known, and it is not asked again
        while not ended:
            yield itertools.islice(told, self.chunk)
            self.work_up()

    @staticmethod
    def _end(ended: list[bool]) -> Iterator[Any]:
        ended.append(True)
        yield from ()

    def settle(self) -> None:
        """At the end of a pass while `slow`: values that can change are told as they are now."""
        row = self.waiting[-self.wide :]
        if all_plain(row):
            self.slow = self.before > 0  # as soon as a first piece was all plain
        else:
            self.waiting[-self.wide :] = [v if type(v) is float else told(v) for v in row]

    def partial(self, *others: Any) -> None:
        """A pass in which not all names are assigned; called from the loop's own frame."""
        frame = sys._getframe(1)
        values = {**frame.f_globals, **frame.f_locals} if frame.f_locals is not frame.f_globals else frame.f_globals
        self.waiting.extend([*(values.get(n, MISSING) for n in self.named), *others])
        self.settle()

    def element(self, value: Any, *names: Any) -> Any:
        """One element of a comprehension was made."""
        self.waiting.extend((*names, value))
        if self.slow:
            self.settle()
        next(self.due)
        return value

    def put(self, row: list[Any]) -> None:
        """The values of a pass, from elsewhere than the loop's own code."""
        self.waiting.extend([told(v) for v in row])
        next(self.due)

    # Where no temporary may be used: the other values are held in `kept` until the pass ends.

    def ends(self, names: Row, others: Row) -> None:
        self.waiting.extend((*names, *others))
        if self.slow:
            self.settle()

    def keep(self, place: int, value: Any) -> Any:
        self.kept[place] = value
        return value

    def mark(self, place: int, bit: int) -> None:
        self.kept[place] |= bit

    def work_up(self) -> None:
        """Takes what waits into the figures; no warning of this reaches the script."""
        if self.waiting:
            np = nonfinite.module("numpy")
            errors = np.errstate(all="ignore") if np is not None else contextlib.nullcontext()
            with state.silenced(), errors:
                self._work_up()

    def _work_up(self) -> None:
        cells, wide = self.waiting[:], self.wide
        self.waiting.clear()
        if not self.slow and not all_plain(cells[-wide:]):
            cells = [told(v) for v in cells]  # another kind of value since the last piece
            self.slow = True
        elif self.slow:
            self.slow = not all_plain(cells[-3 * wide :])
        before, self.before = self.before, self.before + len(cells) // wide
        if not self._figures(cells, before):
            cells = [v if type(v) is float else told(v) for v in cells]  # integers can be of any length
            for at, column in enumerate(self.columns):
                column.add(cells[at::wide], before)
            self.unit = max(self.unit, 6 if any([isinstance(v, Cells) for v in cells[-wide:]]) else 1)
        self._keep(cells, before)

    def _figures(self, cells: list[Any], before: int) -> bool:
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

    # -- keeping -------------------------------------------------------------------------------------

    def _row(self, cells: list[Any], at: int) -> Row:
        return tuple(cells[at * self.wide : (at + 1) * self.wide])

    def _keep(self, cells: list[Any], before: int) -> None:
        for place in {p for c in self.columns for p in c.places}:
            if before < place <= self.before:
                self.special[place] = self._row(cells, place - before - 1)
        if len(self.special) > 4 * self.wide + 8:
            wanted = {p for c in self.columns for p in c.places}
            self.special = {p: r for p, r in self.special.items() if p in wanted}
        if len(self.first) < self.first_most:
            room = self.first_most - len(self.first)
            self.first += [self._row(cells, n) for n in range(min(room, self.before - before))]
        self.tail.append((before, cells))
        while len(self.tail) > 1 and self.before - self.tail[1][0] >= self.last_most:
            self._thin(*self.tail.popleft())

    def _thin(self, before: int, cells: list[Any]) -> None:
        """Takes a piece that is no longer among the last: one pass in `stride`."""
        self.middle += cells if self.stride == 1 else self._every(cells, -before % self.stride, self.stride)
        while len(self.middle) * self.unit > self.room:
            self._halve()

    def _every(self, cells: list[Any], first: int, step: int) -> list[Any]:
        """One pass in `step`, a column at a time."""
        wide = self.wide
        count = max(0, -(-(len(cells) // wide - first) // step))
        found: list[Any] = [None] * (count * wide)
        for at in range(wide):
            found[at::wide] = cells[first * wide + at :: step * wide]
        return found

    def _halve(self) -> None:
        self.stride *= 2
        self.middle = self._every(self.middle, 0, 2)

    def held(self) -> int:
        """How much this run keeps, in values."""
        tail = sum(len(cells) for _, cells in self.tail)
        return (self.wide * len(self.first) + len(self.middle) + tail + len(self.waiting)) * self.unit

    def shrink(self) -> None:
        """Keeps about half as much from now on."""
        self.work_up()
        self.first_most, self.last_most = max(4, self.first_most // 2), max(4, self.last_most // 2)
        self.room = max(4 * self.wide, self.room // 2)
        del self.first[self.first_most :]
        pieces, self.tail = self.tail, deque()
        for before, cells in pieces:
            over = max(0, self.before - self.last_most - before) * self.wide
            if over:
                self._thin(before, cells[:over])
            if cells[over:]:
                self.tail.append((before + over // self.wide, cells[over:]))
        while len(self.middle) > self.room and self.stride < 2 * max(1, self.before):
            self._halve()

    # -- reading -------------------------------------------------------------------------------------

    @property
    def passes(self) -> int:
        """How many were recorded."""
        return self.before + len(self.waiting) // self.wide

    def rows(self) -> list[tuple[int, Row]]:
        """The kept passes in their order: number and values."""
        self.work_up()
        count = len(self.middle) // self.wide
        found = {1 + n * self.stride: self._row(self.middle, n) for n in range(count)}
        found.update(self.special)
        found.update(enumerate(self.first, 1))
        for before, cells in self.tail:
            numbered = [(before + 1 + n, self._row(cells, n)) for n in range(len(cells) // self.wide)]
            late = self.before - self.last_most
            found.update((p, r) for p, r in numbered if p > late or (p - 1) % self.stride == 0)
        return [(self.base + p, r) for p, r in sorted(found.items())]

    def latest(self, most: int) -> list[tuple[int, Row]]:
        """The last passes, without working anything up."""
        rows = deque(self._pieces(), maxlen=most)
        return [(self.base + p, r) for p, r in rows]

    def _pieces(self) -> Iterator[tuple[int, Row]]:
        for before, cells in (*self.tail, (self.before, self.waiting)):
            for n in range(len(cells) // self.wide):
                yield before + 1 + n, self._row(cells, n)

    def sentence(self) -> str:
        """What was kept of the passes."""
        self.work_up()
        late = f" from pass {self.base + 1} on" if self.base else ""
        if not self.before:
            return f"none is over yet; recorded{late}" if late else "none is over yet"
        if self.stride == 1:
            return f"all {self.before} passes{late} are kept"
        return (
            f"of {self.before} passes{late} are kept the first {len(self.first)}, the last {self.last_most}, "
            f"one in {self.stride} between, and the extreme and first bad ones"
        )


class Recorder:
    """The runs of one loop, comprehension or function.

    `names`: of the script, read at the end of each pass.  `places`: attributes and elements that the body assigns, as
    they were assigned.  `others`: what else a pass tells, in this order after the places: see `columns`.
    """

    def __init__(
        self,
        file: str,
        at: tuple[int, int],
        names: tuple[str, ...],
        places: tuple[str, ...] = (),
        others: tuple[str, ...] = (),
        kind: str = "loop",
    ) -> None:
        self.file, self.at, self.kind = file, at, kind
        self.names, self.places, self.others = names, places, others
        self.branches: list[tuple[int, str]] = []  # line and word of each bit of the branches column
        self.head = ""  # as it is written
        self.runs: list[Run] = []
        self.begun = 0  # how often it was run
        self.total = 0  # values kept of the runs that are over
        self.last_begin = 0.0
        self.calls = self.depth = 0  # of a function
        self.now = self._new()  # where no temporary of the function's can hold it

    def _new(self, base: int = 0) -> Run:
        made = Run(self.names, len(self.places) + len(self.others), base)
        made.line = self.at[0]
        return made

    @property
    def line(self) -> int:
        return self.at[0]

    @property
    def labels(self) -> tuple[str, ...]:
        return (*self.names, *self.places, *self.others)

    def place_of(self, text: str) -> int:
        """The number of an assigned place, or of another value, among those that are not names; -1 for none."""
        found = (*self.places, *self.others)
        return found.index(text) if text in found else -1

    def begin(self, outer: Run | None = None) -> Run:
        """It is run once more; `outer`: the run of the recorded loop around it."""
        if state.quiet or state.in_trial:
            self.now = self._new()
            return self.now  # an evaluation of ours, say: not recorded
        return self.begin_late(0, outer, sys._getframe(1))

    def begin_late(self, base: int, outer: Run | None, frame: Any) -> Run:
        """As `begin`, with `base` passes over already."""
        before, self.now = self.now, self._new(base)
        self.begun += 1
        self._look_around(outer, frame)
        self.runs.append(self.now)
        if len(self.runs) > 1:
            self._bound(before)
        return self.now

    def _look_around(self, outer: Run | None, frame: Any) -> None:
        now = time.monotonic()
        seldom, self.last_begin = now - self.last_begin > SELDOM, now
        if seldom or self.begun <= RUNS // 2:
            inner = (self.file, self.line)
            self.now.around = [
                {"line": o["line"], "pass": o["pass"], "file": o["file"], "target": o["target"]}
                for o in stack.all_loops(frame)
                if o["pass"] and (o["file"], o["line"]) != inner
            ]
        elif outer is not None:
            here = {"line": outer.line, "pass": outer.base + outer.passes + 1, "file": self.file, "target": ""}
            self.now.around = [here, *outer.around]

    def _bound(self, before: Run) -> None:
        """The runs together keep a bounded number of values."""
        before.weight = before.held()
        self.total += before.weight
        if len(self.runs) > RUNS:
            self.total -= self.runs.pop(RUNS // 2).weight
        while self.total > TOTAL:
            largest = max(self.runs[:-1], key=lambda r: r.weight)
            largest.shrink()
            weight = largest.held()
            self.total -= largest.weight - weight
            if weight >= largest.weight:
                break
            largest.weight = weight

    # -- the calls of a function ---------------------------------------------------------------------

    def enter(self) -> int:
        """A call begins: its number."""
        self.calls += 1
        self.depth += 1
        return self.calls

    def leave(self) -> int:
        """A call is over: how deep it was."""
        self.depth -= 1
        return self.depth + 1

    def calls_begin(self) -> None:
        """All calls are the passes of one run."""
        if not self.runs:
            self.begun = 1
            self.runs.append(self.now)

    def done(self) -> None:
        """At the end of a call."""
        if self.now.slow:
            self.now.settle()
        next(self.now.due)
