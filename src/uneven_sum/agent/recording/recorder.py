"""What the values of a loop's body were in each pass: recorded at speed, in bounded memory.

A recorder belongs to one loop, comprehension or function of the source; each time that it is run is one `Run`.  The
end of a pass puts its values into a buffer (one call of C as long as all of them are plain numbers); every CHUNK
values the buffer is worked up: the extreme and the first bad passes are kept exactly, the first and the last ones
too, and those between are thinned evenly.
"""

from __future__ import annotations

import ast
import contextlib
import itertools
import sys
import time
import types
from collections import deque
from collections.abc import Iterable, Iterator
from typing import Any

from ..core import run_state, signal_masking
from ..core.original_builtins import with_originals
from ..frames import stack
from ..frames.namespace import Scope, let_go
from ..values import nonfinite
from ..values.snapshot import MISSING, all_plain, told
from .retention import Kept, Row, numbered_rows

CHUNK = 8192  # values until the buffer is worked up
SURE = 1000  # passes of plain numbers after which not each value is looked at any more
RUNS = 200  # of one loop; older ones between the first and the last few are dropped
TOTAL = 500_000  # values kept of all runs together; the largest are thinned further
LIGHT = 2000  # values of a run that is over, up to which it is not weighed
RANGE = type(iter(range(0)))
SELDOM = 0.002  # seconds from run to run from which on the loops around are looked up each time
ALWAYS = 20  # runs of a loop for which the loops around are looked at in any case
RARELY = 50  # times as long as one look at the loops around takes, until the next


class Run:
    """One run of a loop.  Light, since an inner loop has many: what is kept is sorted out when there is much of it, or
    when it is read."""

    base = 0  # passes that were not recorded, before the first
    before = 0  # passes that are in the store
    store: Kept | None = None
    weight = 0
    lost = 0  # passes that could not be kept
    outer: Run | None = None  # of the recorded loop around, and the pass that it was in
    outer_pass = 0
    seen: list[dict[str, object]] | None = None  # the loops around, where they were looked up

    def __init__(self, of: Recorder) -> None:
        self.of = of
        self.waiting: list[
            object
        ] = []  # the body's end puts its values here, one after the other; always this very list
        self.slow = (
            of.streak < SURE
        )  # each pass is looked at, and copied at once where it holds more than plain numbers
        if of.rest:
            self.kept: list[Any] = [MISSING] * of.rest  # where no temporary can hold the other values of a pass
        if of.counted:
            self.due = itertools.chain.from_iterable(self._dues())  # of a `while`: each `next` is a pass

    @property
    def wide(self) -> int:
        return self.of.wide

    @property
    def line(self) -> int:
        return self.of.at[0]

    @property
    def around(self) -> list[dict[str, object]]:
        """The loops around, innermost first, each with its pass."""
        if self.seen is not None:
            return self.seen
        if self.outer is None:
            return []
        here = {"line": self.outer.line, "pass": self.outer_pass, "file": "", "target": ""}
        return [here, *self.outer.around]

    # -- while the loop runs -------------------------------------------------------------------------

    def over(self, iterable: Iterable[object]) -> Iterator[object]:
        """What a `for` goes over, as it was, with the buffer worked up now and then."""
        iterator = iter(iterable)
        # mypy: range iterators have it
        if type(iterator) is RANGE and iterator.__length_hint__() <= self.of.chunk:  # type: ignore[attr-defined]
            return iterator  # it is worked up when it is read
        return itertools.chain.from_iterable(self._chunks(iterator))

    def paired(self, iterable: Iterable[object]) -> Iterator[tuple[Run, object]]:
        """What a comprehension goes over, each with this run."""
        return zip(itertools.repeat(self), iterable)

    def _dues(self) -> Iterator[Iterable[None]]:
        while True:
            yield itertools.repeat(None, self.of.chunk - 1)
            self.work_up()
            yield (None,)

    def _chunks(self, iterator: Iterator[object]) -> Iterator[Iterable[object]]:
        """In pieces, between which the buffer is worked up."""
        ended: list[bool] = []
        told = itertools.chain(iterator, self._end(ended))  # so that the end is known, and it is not asked again
        while True:
            yield itertools.islice(told, self.of.chunk)
            if ended:
                return
            self.work_up()

    @staticmethod
    def _end(ended: list[bool]) -> Iterator[object]:
        ended.append(True)
        yield from ()

    def settle(self) -> None:
        """At the end of a pass while `slow`: copy the values that can change."""
        try:
            row = self.waiting[-self.wide :]
            if all_plain(row):
                self.of.streak += 1
                self.slow = self.of.streak < SURE
            else:
                self.of.streak = 0
                self.waiting[-self.wide :] = [v if type(v) is float else told(v) for v in row]
        except RecursionError:
            pass  # no room here: they are copied when the buffer is worked up

    def partial(self, *others: object) -> None:
        """A pass in which not all names are assigned; called from the loop's own frame."""
        frame = sys._getframe(1)
        held = frame.f_locals
        row = [held[n] if n in held else frame.f_globals.get(n, MISSING) for n in self.of.names]
        self.waiting.extend([*row, *others])
        let_go(frame, held)
        self.settle()

    def element(self, value: object, *names: object) -> object:
        """One element of a comprehension was made."""
        self.waiting.extend((*names, value))
        if self.slow:
            self.settle()
        next(self.due)
        return value

    def looks(self) -> list[object]:
        """The expressions at the end of a pass of the calling loop."""
        reads = self.of.reads
        return [MISSING] * len(reads) if run_state.quiet else read(reads, sys._getframe(1))

    def put(self, row: list[object]) -> None:
        """The values of a pass, from elsewhere than the loop's own code."""
        self.waiting.extend([told(v) for v in row])
        next(self.due)

    # Where no temporary may be used: the other values are held in `kept` until the pass ends.

    def ends(self, names: Row, others: Row) -> None:
        self.waiting.extend((*names, *others))
        if self.slow:
            self.settle()

    def keep(self, place: int, value: object) -> object:
        self.kept[place] = value
        return value

    def keep_all(self, place: int, values: list[object]) -> None:
        self.kept[place : place + len(values)] = values

    def mark(self, place: int, bit: int) -> None:
        self.kept[place] |= bit

    @with_originals
    def work_up(self) -> None:
        """Puts what waits into the store; no warning of this reaches the script, and no signal comes between."""
        with signal_masking.held():
            self._work_up()

    def _work_up(self) -> None:
        if not self.waiting:
            return
        cells = self.waiting[:]
        self.waiting.clear()
        if self.store is None:
            self.store = Kept(self.wide)
        np = nonfinite.module("numpy")
        errors = np.errstate(all="ignore") if np is not None else contextlib.nullcontext()
        if not self.slow and not all_plain(cells[-self.wide :]):
            self.slow, self.of.streak = True, 0  # another kind of value since the last piece
        try:
            with run_state.silenced(), errors:
                self.store.add(cells)
        except BaseException as e:
            if not isinstance(e, Exception) or signal_masking.is_the_scripts(e):
                self.waiting[:0] = cells  # another time
                raise
            count = len(cells) // self.wide  # the script must not notice
            self.lost += count
            self.store.add([MISSING] * self.wide * count)  # so that the numbers of the others stay true
        self.before = self.store.passes

    # -- reading -------------------------------------------------------------------------------------

    @property
    def passes(self) -> int:
        """How many were recorded."""
        return self.before + len(self.waiting) // self.wide

    def held(self) -> int:
        """How much this run keeps, in values."""
        return len(self.waiting) + (self.store.held() if self.store is not None else 0)

    def shrink(self) -> None:
        """Keeps about half as much from now on."""
        self.work_up()
        if self.store is not None:
            self.store.shrink()

    def facts(self) -> Kept:
        self.work_up()
        if self.store is None:
            self.store = Kept(self.wide)
        return self.store

    def rows(self) -> list[tuple[int, Row]]:
        """The kept passes in their order: number and values."""
        return [(self.base + p, r) for p, r in self.facts().rows()]

    def latest(self, most: int) -> list[tuple[int, Row]]:
        """The last passes, without working anything up."""
        pieces = [*(self.store.tail if self.store is not None else ()), (self.before, self.waiting)]
        rows = deque((pair for piece in pieces for pair in numbered_rows(piece[0], piece[1], self.wide)), maxlen=most)
        return [(self.base + p, r) for p, r in rows]

    def sentence(self) -> str:
        """What was kept of the passes."""
        kept = self.facts()
        late = f" from pass {self.base + 1} on" if self.base else ""
        if not kept.passes:
            return f"none is over yet; recorded{late}" if late else "none is over yet"
        if self.lost:
            late += f" ({self.lost} could not be kept)"
        if kept.stride == 1:
            return f"all {kept.passes} passes{late} are kept"
        return (
            f"{kept.passes} passes{late}; kept: the first {len(kept.first)}, the last {kept.last_most}, "
            f"one in {kept.stride} between, extremes and first bad ones"
        )


class _Looks:
    """When the loops around may be looked at next: all such looks together take a small share of the time."""

    next = 0.0


class Recorder:
    """The runs of one loop, comprehension or function.

    `names`: of the script, read at the end of each pass.  `places`: attributes and elements that the body assigns, as
    they were assigned.  `others`: what else a pass tells, in this order after the places: see `columns`.  `reads`:
    those of them that are expressions, read at the end of each pass.
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
        self.number = -1
        self.names, self.places, self.others = names, places, others
        self.reads: tuple[str, ...] = ()
        self.branches: list[tuple[int, str]] = []  # line and word of each bit of the branches column
        self.head = ""  # as it is written
        self.runs: list[Run] = []
        self.begun = 0  # how often it was run
        self.total = 0  # values kept of the runs that are over
        self.last_begin = 0.0
        self.calls = self.depth = 0  # of a function
        self.streak = 0  # passes in a row whose values were all plain numbers, of all runs
        self.rest = len(places) + len(others)
        self.wide = len(names) + self.rest
        self.chunk = max(16, CHUNK // max(1, self.wide))
        self.counted = True  # the end of each pass tells that it is one: not of a `for`
        self.now = Run(self)  # where no temporary of the function's can hold it

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
        before = self.now
        run = self.now = Run(self)
        if run_state.quiet or run_state.in_trial:
            return run  # for example an internal evaluation: not recorded
        self.begun += 1
        if outer is not None:
            run.outer, run.outer_pass = outer, outer.base + outer.before + len(outer.waiting) // outer.of.wide + 1
        else:
            try:
                self._look_around(run, sys._getframe(1))
            except Exception as e:  # no room for it, say: the script must not notice
                if signal_masking.is_the_scripts(e):
                    raise
        runs = self.runs
        runs.append(run)
        if len(runs) > RUNS:
            self.total -= runs.pop(RUNS // 2).weight
        if before.store is not None or len(before.waiting) > LIGHT:
            self._weigh(before)
        return run

    def begin_late(self, base: int, frame: object) -> Run:
        """As `begin`, of a loop that runs already: `base` passes are over."""
        self._weigh(self.now)
        run = self.now = Run(self)
        run.base = base
        run.due = itertools.chain.from_iterable(run._dues())
        self.begun += 1
        self._look_around(run, frame)
        self.runs.append(run)
        return run

    @with_originals
    def _look_around(self, run: Run, frame: Any) -> None:
        """The loops around, where there is time for it."""
        now = time.perf_counter()
        seldom, self.last_begin = now - self.last_begin > SELDOM, now
        if (seldom and now > _Looks.next) or self.begun <= ALWAYS:
            inner = (self.file, self.line)
            with signal_masking.held():
                run.seen = [
                    {"line": o["line"], "pass": o["pass"], "file": o["file"], "target": o["target"]}
                    for o in stack.all_loops(frame, lengths=False)
                    if o["pass"] and (o["file"], o["line"]) != inner
                ]
            after = time.perf_counter()
            _Looks.next = after + RARELY * (after - now)

    @with_originals
    def _weigh(self, run: Run) -> None:
        """The runs together keep a bounded number of values."""
        if run not in self.runs:
            return
        weight = run.held()
        self.total += weight - run.weight
        run.weight = weight
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


@with_originals
def read(texts: Iterable[str], frame: types.FrameType) -> list[object]:
    """Expressions as they are in a call now.  Nothing of the script's is run for it: what a property would give, or a
    class with items of its own, is missing."""
    from ..diagnosis import provenance  # which takes long to import

    found: list[object] = []
    with signal_masking.held(), run_state.silenced():
        scope = Scope(frame)
        for text in texts:
            try:
                node = _parsed.get(text)
                if node is None:
                    node = _parsed[text] = ast.parse(text, mode="eval").body
                found.append(provenance.read(node, scope))
            except Exception:
                found.append(MISSING)
    return found


_parsed: dict[str, ast.expr] = {}
numbered: dict[int, Recorder] = {}  # those that the rewritten code fills, by their number
