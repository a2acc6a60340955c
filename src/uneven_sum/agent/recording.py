"""What the names of a loop's body were in each pass: recorded at speed, in bounded memory.

A recorder belongs to one loop of the source; each time that loop is run is one `Run`.  The body's end puts a tuple of
values into a buffer (one call of C as long as all of them are plain numbers); every CHUNK passes the buffer is worked
up: extremes and first bad ones are kept exactly, the first and the last passes too, and those between are thinned evenly.
"""

from __future__ import annotations

import itertools
import math
from array import array
from collections import deque
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from typing import Any

from . import measures, nonfinite, state
from .scope import kind_name

CHUNK = 512  # passes until the buffer is worked up
FIRST = 500  # passes at the beginning that are kept
LAST = 500  # and at the end
CELLS = 200_000  # values kept between them, of all names together
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
    numbers: int = 0  # passes in which it was a number

    def add(self, values: tuple[Any, ...], before: int) -> None:
        """The values of the passes that follow `before`."""
        try:
            numbers = array("d", values)
            total = sum(numbers)
            if total - total == 0.0:  # neither nan nor inf among them, nor a sum too large
                self._extremes(numbers, before)
                return
        except (TypeError, OverflowError, ValueError):
            pass
        for place, value in enumerate(values, before + 1):
            self._one(value, place)

    def _extremes(self, numbers: array[float], before: int) -> None:
        low, high = min(numbers), max(numbers)
        if low < self.low:
            self.low, self.low_at = low, before + 1 + numbers.index(low)
        if high > self.high:
            self.high, self.high_at = high, before + 1 + numbers.index(high)
        self.numbers += len(numbers)

    def _one(self, value: Any, place: int) -> None:
        if isinstance(value, Cells):
            if value.bad:
                self.bad += 1
                self.first_bad = self.first_bad or place
            return
        if isinstance(value, (bool, str, bytes)) or value is None or value is MISSING:
            return
        try:
            number = abs(value) if isinstance(value, complex) else float(value)
        except (TypeError, ValueError, OverflowError):
            return
        self.numbers += 1
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

    __slots__ = ("after", "before", "columns", "first", "last", "middle", "names", "outer", "put", "special", "stride", "waiting")

    def __init__(self, names: tuple[str, ...], outer: list[int]) -> None:
        self.names, self.outer = names, outer  # outer: the passes of the loops around, innermost first
        self.columns = [Column(n) for n in names]
        self.waiting: list[Row] = []
        self.before = 0  # passes worked up
        self.first: list[tuple[int, Row]] = []
        self.middle: list[tuple[int, Row]] = []
        self.last: deque[tuple[int, Row]] = deque(maxlen=LAST)
        self.special: dict[int, Row] = {}  # the extreme passes, and the first bad ones
        self.stride = 1
        self.put: Any = self._first

    # -- while the loop runs -------------------------------------------------------------------------

    def chunks(self, iterable: Iterable[Any]) -> Iterator[Iterable[Any]]:
        """What the loop goes over, in pieces between which the buffer is worked up."""
        iterator = iter(iterable)
        for first in iterator:
            yield itertools.chain((first,), itertools.islice(iterator, CHUNK - 1))
            self.work_up()

    def _first(self, row: Row) -> None:
        """The first pass decides whether values can be put by as they are."""
        if all(type(v) in IMMUTABLE or _is_scalar(v) for v in row):
            self.waiting.append(row)
            self.put = self.waiting.append
        else:
            self.put = self._slowly
            self._slowly(row)

    def _slowly(self, row: Row) -> None:
        self.waiting.append(tuple([v if type(v) in IMMUTABLE else told(v) for v in row]))

    def partial(self, values: dict[str, Any]) -> None:
        """A pass in which not all names are assigned."""
        self.put(tuple([values.get(n, MISSING) for n in self.names]))

    def work_up(self) -> None:
        rows = self.waiting[:]
        if not rows:
            return
        self.waiting.clear()  # the same list: `put` is bound to it
        if self.put != self._slowly and not all(
            type(v) in IMMUTABLE or _is_scalar(v) for v in rows[-1]
        ):  # another kind of value from some pass on: told as it is now
            rows = [tuple([v if type(v) in IMMUTABLE else told(v) for v in row]) for row in rows]
            self.put = self._slowly
        before = self.before
        for column, values in zip(self.columns, zip(*rows)):
            column.add(values, before)
        self.before = before + len(rows)
        self._keep(rows, before)

    # -- keeping -------------------------------------------------------------------------------------

    def _keep(self, rows: list[Row], before: int) -> None:
        numbered = list(enumerate(rows, before + 1))
        wanted = {p for c in self.columns for p in (c.low_at, c.high_at, c.first_bad)}
        self.special = {p: r for p, r in self.special.items() if p in wanted}
        self.special.update({p: rows[p - before - 1] for p in wanted if before < p <= before + len(rows)})
        room = FIRST - len(self.first)
        if room > 0:
            self.first += numbered[:room]
            numbered = numbered[room:]
        leaving = len(self.last) + len(numbered) - LAST
        if leaving > 0:
            out = list(itertools.islice(itertools.chain(self.last, numbered), leaving))
            self.middle += [(p, r) for p, r in out if (p - FIRST - 1) % self.stride == 0]
        self.last.extend(numbered)
        most = max(200, CELLS // max(1, len(self.names)))
        while len(self.middle) > most:
            self.stride *= 2
            self.middle = [(p, r) for p, r in self.middle if (p - FIRST - 1) % self.stride == 0]

    # -- reading -------------------------------------------------------------------------------------

    @property
    def passes(self) -> int:
        return self.before + len(self.waiting)

    def rows(self) -> list[tuple[int, Row]]:
        """The kept passes in their order: number and values."""
        self.work_up()
        found = dict(self.middle)
        found.update(self.special)
        found.update(self.first)
        found.update(self.last)
        return sorted(found.items())

    def kept(self) -> str:
        """What was kept of the passes, in a sentence."""
        self.work_up()
        if self.before <= len(self.first) + len(self.last):
            return f"all {self.before} passes"
        between = "every one" if self.stride == 1 else f"every {self.stride}th"
        if self.stride == 1:
            return f"all {self.before} passes"
        return f"the first {len(self.first)}, the last {len(self.last)}, {between} between, and the extreme ones, of {self.before}"


class Recorder:
    """The runs of one loop."""

    def __init__(self, file: str, line: int, names: tuple[str, ...]) -> None:
        self.file, self.line, self.names = file, line, names
        self.runs: list[Run] = []
        self.dropped = 0
        self.now = Run(names, [])

    def begin(self, outer: list[int] | None = None) -> Run:
        """The loop is run once more."""
        self.now = Run(self.names, outer or [])
        self.runs.append(self.now)
        if len(self.runs) > RUNS:
            del self.runs[RUNS // 2]
            self.dropped += 1
        return self.now

    def over(self, iterable: Iterable[Any]) -> Iterator[Any]:
        """What a `for` goes over, as it was, with the buffer worked up now and then."""
        if state.quiet:
            return iter(iterable)
        return itertools.chain.from_iterable(self.begin().chunks(iterable))


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
                return f"{kind.__name__} of {base.__len__(value)}"
    except Exception:
        pass
    return kind_name(kind)


@dataclass
class Wanted:
    """Which loops are recorded: by file (real path) and line; `names` empty: all that the body assigns."""

    loops: dict[tuple[str, int], tuple[str, ...]] = field(default_factory=dict)
    made: dict[tuple[str, int], Recorder] = field(default_factory=dict)
