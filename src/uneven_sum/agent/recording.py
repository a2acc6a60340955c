"""What the names of a loop's body were in each pass: recorded at speed, in bounded memory.

A recorder belongs to one loop of the source; each time that loop is run is one `Run`.  The body's end puts its values
into a buffer (one call of C as long as all of them are plain numbers); every CHUNK passes the buffer is
worked up: the extreme and the first bad passes are kept exactly, the first and the last ones too, and those between
are thinned evenly.
"""

from __future__ import annotations

import ast
import contextlib
import itertools
import math
import sys
from array import array
from collections import deque
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Any

from . import measures, nonfinite, state
from .kinds.base import clean
from .scope import kind_name
from .source import COMPREHENSIONS

CHUNK = 512  # passes until the buffer is worked up
FIRST = 500  # passes at the beginning that are kept
LAST = 500  # and at the end
CELLS = 60_000  # values kept between them, of all names together
RUNS = 200  # of one loop; older ones between the first and the last few are dropped
MISSING = "·missing"
IMMUTABLE = frozenset((float, int, bool, complex, str, bytes, type(None)))
Row = tuple[Any, ...]


@dataclass(slots=True)
class Cells:
    """An array as it was in one pass."""

    shape: tuple[int, ...]
    low: float
    mean: float
    high: float
    bad: int

    def __str__(self) -> str:
        shape = " x ".join(map(str, self.shape))
        bad = f", {self.bad} not finite" if self.bad else ""
        return f"{shape} cells {self.low:.6g} … {self.high:.6g}, mean {self.mean:.6g}{bad}"


@dataclass
class Column:
    """What is known of one name over all passes of a run, exactly."""

    name: str
    low: float = math.inf
    low_at: int = 0
    high: float = -math.inf
    high_at: int = 0
    bad: int = 0
    first_bad: int = 0  # a pass; 0 for none

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
            if value.bad:
                self.bad += 1
                self.first_bad = self.first_bad or place
            return
        if isinstance(value, (str, bytes)) or value is None:
            return
        try:
            number = abs(value) if isinstance(value, complex) else float(value)
        except (TypeError, ValueError, OverflowError):
            return
        if not math.isfinite(number):
            self.bad += 1
            self.first_bad = self.first_bad or place
            return
        if number < self.low:
            self.low, self.low_at = number, place
        if number > self.high:
            self.high, self.high_at = number, place


class Run:
    """One run of a loop."""

    __slots__ = ("before", "columns", "due", "first", "middle", "names", "slow", "special", "stride", "tail", "waiting")

    def __init__(self, names: tuple[str, ...]) -> None:
        self.names = names
        self.columns = [Column(n) for n in names]
        self.waiting: list[Any] = []  # the body's end puts its values here, one after the other; always this very list
        self.slow = True  # not all values are plain numbers: each pass is told at once
        self.before = 0  # passes worked up
        self.first: list[Row] = []
        self.middle: list[Any] = []  # the values of the passes FIRST + 1, FIRST + 1 + stride, …
        self.tail: deque[tuple[int, list[Any]]] = deque()  # the last pieces: what was before them, and their values
        self.special: dict[int, Row] = {}  # the extreme passes, and the first bad ones
        self.stride = 1
        self.due = itertools.chain.from_iterable(self._dues())  # of a `while`: each `next` is a pass

    # -- while the loop runs -------------------------------------------------------------------------

    def over(self, iterable: Iterable[Any]) -> Iterator[Any]:
        """What a `for` goes over, as it was, with the buffer worked up now and then."""
        return itertools.chain.from_iterable(self._chunks(iterable))

    def _dues(self) -> Iterator[Iterable[None]]:
        while True:
            yield itertools.repeat(None, CHUNK - 1)
            self.work_up()
            yield (None,)

    def _chunks(self, iterable: Iterable[Any]) -> Iterator[Iterable[Any]]:
        """In pieces, between which the buffer is worked up."""
        iterator = iter(iterable)
        for first in iterator:
            yield itertools.chain((first,), itertools.islice(iterator, CHUNK - 1))
            self.work_up()

    def settle(self) -> None:
        """At the end of a pass while `slow`: values that can change are told as they are now."""
        row = self.waiting[-len(self.names) :]
        if all([type(v) in IMMUTABLE or _is_scalar(v) for v in row]):
            self.slow = self.before > 0  # as soon as a first piece was all plain
        else:
            self.waiting[-len(self.names) :] = [told(v) for v in row]

    def partial(self) -> None:
        """A pass in which not all names are assigned; called from the loop's own frame."""
        frame = sys._getframe(1)
        values = {**frame.f_globals, **frame.f_locals} if frame.f_locals is not frame.f_globals else frame.f_globals
        self.waiting.extend([values.get(n, MISSING) for n in self.names])
        self.settle()

    def work_up(self) -> None:
        """Takes what waits into the figures; no warning of this reaches the script."""
        np = nonfinite.module("numpy")
        errors = np.errstate(all="ignore") if np is not None else contextlib.nullcontext()
        with state.silenced(), errors:
            self._work_up()

    def _work_up(self) -> None:
        cells, wide = self.waiting[:], len(self.names)
        if not cells:
            return
        self.waiting.clear()
        last = cells[-wide:]
        if not self.slow and not all([type(v) in IMMUTABLE or _is_scalar(v) for v in last]):
            cells = [told(v) for v in cells]  # another kind of value since the last piece
            self.slow = True
        elif self.slow:
            self.slow = any([isinstance(v, (Cells, str)) for v in cells[-3 * wide :]])
        before, self.before = self.before, self.before + len(cells) // wide
        if not self._figures(cells, before):
            for number, column in enumerate(self.columns):
                column.add(cells[number::wide], before)
        self._keep(cells, before)

    def _figures(self, cells: list[Any], before: int) -> bool:
        """The extremes of a piece of nothing but finite numbers, where NumPy is at hand; False when it is no such."""
        np = nonfinite.module("numpy")
        if np is None:
            return False
        try:
            table = np.frombuffer(array("d", cells)).reshape(-1, len(self.names)).T.copy()  # a row for each name
        except (TypeError, OverflowError, ValueError):
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

    def _row(self, cells: list[Any], number: int) -> Row:
        wide = len(self.names)
        return tuple(cells[number * wide : (number + 1) * wide])

    def _keep(self, cells: list[Any], before: int) -> None:
        for place in {p for c in self.columns for p in (c.low_at, c.high_at, c.first_bad)}:
            if before < place <= self.before:
                self.special[place] = self._row(cells, place - before - 1)
        if len(self.special) > 4 * len(self.columns) + 8:
            wanted = {p for c in self.columns for p in (c.low_at, c.high_at, c.first_bad)}
            self.special = {p: r for p, r in self.special.items() if p in wanted}
        if len(self.first) < FIRST:
            self.first += [self._row(cells, n) for n in range(min(FIRST - len(self.first), self.before - before))]
        self.tail.append((before, cells))
        while len(self.tail) > 1 and self.before - self.tail[1][0] >= LAST:
            self._thin(*self.tail.popleft())

    def _thin(self, before: int, cells: list[Any]) -> None:
        """Takes a piece that is no longer among the last: what comes after the first passes, one in `stride`."""
        wide = len(self.names)
        start = max(0, FIRST - before)
        start += -(before + start - FIRST) % self.stride
        if self.stride == 1:
            self.middle += cells[start * wide :]
        else:
            for at in range(start * wide, len(cells), self.stride * wide):
                self.middle += cells[at : at + wide]
        while len(self.middle) > max(200 * wide, CELLS):
            self.stride *= 2
            kept: list[Any] = []
            for at in range(0, len(self.middle), 2 * wide):
                kept += self.middle[at : at + wide]
            self.middle = kept

    # -- reading -------------------------------------------------------------------------------------

    @property
    def passes(self) -> int:
        return self.before + len(self.waiting) // len(self.names)

    def rows(self) -> list[tuple[int, Row]]:
        """The kept passes in their order: number and values."""
        self.work_up()
        count = len(self.middle) // len(self.names)
        found = {FIRST + 1 + n * self.stride: self._row(self.middle, n) for n in range(count)}
        found.update(self.special)
        found.update(enumerate(self.first, 1))
        numbered = [
            (before + 1 + n, self._row(cells, n))
            for before, cells in self.tail
            for n in range(len(cells) // len(self.names))
        ]
        found.update(numbered[-LAST:])
        found.update((p, r) for p, r in numbered[:-LAST] if p > FIRST and (p - FIRST - 1) % self.stride == 0)
        return sorted(found.items())

    def kept(self) -> str:
        """What was kept of the passes, in a sentence."""
        self.work_up()
        if self.stride == 1:
            return f"all {self.before} passes are kept"
        first, last = len(self.first), LAST
        every = f"one in {self.stride} between, and the extreme and first bad ones"
        return f"of {self.before} passes are kept the first {first}, the last {last}, {every}"


class Recorder:
    """The runs of one loop."""

    def __init__(self, file: str, line: int, names: tuple[str, ...]) -> None:
        self.file, self.line, self.names = file, line, names
        self.runs: list[Run] = []
        self.begun = 0  # how often the loop was run
        self.now = Run(names)  # where no temporary of the function's can hold it

    def begin(self) -> Run:
        """The loop is run once more."""
        self.now = Run(self.names)
        self.begun += 1
        if state.quiet or state.in_trial:
            return self.now  # an evaluation of ours, say: not recorded
        self.runs.append(self.now)
        if len(self.runs) > RUNS:
            del self.runs[RUNS // 2]
        return self.now


def _is_scalar(value: Any) -> bool:
    """NumPy's numbers do not change."""
    np = nonfinite.module("numpy")
    return np is not None and isinstance(value, np.generic) and not isinstance(value, np.void)


def told(value: Any) -> Any:
    """A value in a form that does not change any more: numbers as they are, arrays by their figures, collections by
    their length, all else by its type."""
    kind = type(value)
    if kind in IMMUTABLE or _is_scalar(value) or value is MISSING:
        return value
    np = nonfinite.module("numpy")
    try:
        if np is not None and isinstance(value, np.ndarray) and value.dtype.kind in "fiub":
            m = measures.measure(np, value, moments=False)
            return Cells(value.shape, m.low, m.mean, m.high, m.bad)
        shape = getattr(value, "shape", None) if np is not None else None
        if isinstance(shape, tuple):
            return f"{kind_name(kind)} of {' x '.join(map(str, shape))}"
        for base in (list, tuple, dict, set, frozenset, deque):
            if isinstance(value, base):
                return f"{kind.__name__} of {base.__len__(value)}"  # type: ignore[arg-type]
    except Exception:
        pass
    return kind_name(kind)


def assigned(loop: ast.stmt) -> tuple[str, ...]:
    """The names that a loop's target and body assign, in their order; not those of functions within."""
    found: list[str] = []

    def visit(node: ast.AST) -> None:
        if isinstance(node, (ast.FunctionDef, ast.AsyncFunctionDef, ast.ClassDef, ast.Lambda, *COMPREHENSIONS)):
            return
        if isinstance(node, ast.Name) and isinstance(node.ctx, ast.Store):
            found.append(node.id)
        for child in ast.iter_child_nodes(node):
            visit(child)

    for part in [getattr(loop, "target", None), *getattr(loop, "body", [])]:
        if part is not None:
            visit(part)
    return tuple(dict.fromkeys(found))


def as_told(value: Any) -> Any:
    """A value as it travels: exact text, or the figures of an array."""
    if value is MISSING:
        return None
    if isinstance(value, Cells):
        figures = [repr(v) for v in (value.low, value.mean, value.high)]
        return {
            "shape": list(value.shape),
            "min": figures[0],
            "mean": figures[1],
            "max": figures[2],
            "nonfinite": value.bad,
        }
    if isinstance(value, (str, bytes)):
        return clean(value if isinstance(value, str) else repr(value), 200)
    return str(value) if _is_scalar(value) else repr(value)
