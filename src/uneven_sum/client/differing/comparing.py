"""Compares two streams of values in step: where they differ first, where most, and how their paths meet again."""

from __future__ import annotations

import math
import os
from dataclasses import dataclass, field

import numpy as np

from ..sentences import ordinal
from .course import Course
from .loop_passes import LoopPasses
from .places import Matching
from .reading import CONTINUED, LOOP, NUMBERS, PART_BIT, WIDE, Block, Place, shown

WINDOWS = (64, 1_000, 20_000)  # records in which two paths that have parted may meet again, tried in turn
RUN, FEW = 6, 3  # records in a row that must fit, for them to have met
MASK = (1 << PART_BIT) - 1
IS_NUMBER = np.zeros(256, bool)
IS_NUMBER[[*NUMBERS, *(part | CONTINUED for part in NUMBERS)]] = True


@dataclass
class Met:
    """A record of one side: its place, in which time at this place, and the value."""

    place: Place
    times: int
    text: str
    loop: tuple[int, int] | None = None  # line and pass of the loop that the record is in, where that is known

    @property
    def when(self) -> str:
        """In which pass, and how many times it had come: `pass 3 of the loop at line 5, the 43rd time`; empty for what
        came first in no loop."""
        parts = [f"pass {self.loop[1]:,} of the loop at line {self.loop[0]}"] if self.loop is not None else []
        if self.times > 1 and (self.loop is None or self.loop[1] != self.times):
            parts.append(f"the {ordinal(self.times)} time")
        return ", ".join(parts)


@dataclass
class Difference:
    """Two records that differ.  `size`: relative, None where they are no numbers; `path`: the runs took different
    ways here, so that the places differ."""

    a: Met
    b: Met
    size: float | None
    path: bool = False

    @property
    def weight(self) -> float:
        return math.inf if self.size is None else self.size


@dataclass
class Differing:
    """A place whose values differ: the first and the largest difference, the number of the first record that differs,
    in how many passes it does, and the relative differences by pass."""

    first: Difference
    largest: Difference
    record: int = 0
    count: int = 0
    course: Course = field(default_factory=lambda: Course(highest=True))


@dataclass
class Side:
    """What has come of one run and is not compared yet."""

    table: np.ndarray = field(default_factory=lambda: np.full(1024, -1, np.int64))  # numbers by place
    numbers: np.ndarray = field(default_factory=lambda: np.empty(0, np.int64))
    parts: np.ndarray = field(default_factory=lambda: np.empty(0, np.uint8))
    values: np.ndarray = field(default_factory=lambda: np.empty(0))
    times: np.ndarray = field(default_factory=lambda: np.zeros(1024, np.int64))  # first parts met, by number
    loops: LoopPasses = field(default_factory=LoopPasses)
    loop_heads: dict[int, Place] = field(default_factory=dict)  # by number of the site
    ended: bool = False

    def count(self, numbers: np.ndarray, parts: np.ndarray) -> None:
        """Count how often each place was met."""
        if not len(numbers):
            return
        found = np.bincount(numbers[parts < CONTINUED])
        if len(found) > len(self.times):
            self.times = np.concatenate([self.times, np.zeros(len(found), np.int64)])
        self.times[: len(found)] += found


class Comparer:
    """`relative`, `absolute`: tolerances; a number differs where |a - b| > absolute + relative * max(|a|, |b|).

    `at_lines`: relative tolerances of lines of the first text, by file name and line.
    """

    def __init__(
        self,
        matching: Matching,
        relative: float = 0.0,
        absolute: float = 0.0,
        at_lines: dict[tuple[str, int], float] | None = None,
    ) -> None:
        self.matching, self.relative, self.absolute = matching, relative, absolute
        self.at_lines = at_lines or {}
        self.own = np.full(1024, np.nan)  # relative tolerances of places, by number
        self.sides = (Side(), Side())
        self.texts: dict[float, str] = {}  # by their numbers
        self.first: Difference | None = None
        self.largest: Difference | None = None
        self.first_path: Difference | None = None
        self.records = self.differing = self.partings = 0
        self.near, self.nearest = 0, 0.0  # values within the tolerance before the first difference; the largest of them
        self.left_out: set[int] = set()  # places of the first side whose values were told and left out
        self.lost = False  # their paths do not meet again
        self.course: dict[int, Differing] = {}  # by number of the place

    def place(self, side: int, place: Place) -> None:
        of = self.sides[side]
        if place.role == "loop":
            of.loop_heads[place.place] = place
            return
        if place.place >= len(of.table):
            of.table = np.concatenate([of.table, np.full(place.place + 1024, -1, np.int64)])
        number = self.matching.number(side, place)
        of.loops.place(number, place.file, self.matching.text(side, place.file).loop_at(place))
        known = self.at_lines.get((os.path.basename(place.file), place.line)) if side == 0 else None
        if known is not None:
            if number >= len(self.own):
                self.own = np.concatenate([self.own, np.full(number + 1024, np.nan)])
            self.own[number] = known
        of.table[place.place] = -1 if number in self.matching.left_out else number

    def take(self, side: int, block: Block) -> None:
        of = self.sides[side]
        numbers = of.table[block.keys & MASK]
        kept = numbers >= 0
        begins = np.flatnonzero(block.keys >> PART_BIT == LOOP)
        if len(begins):
            kept[begins] = False
            ahead = len(of.numbers) + np.cumsum(kept)[begins]
            for at, site in zip(ahead.tolist(), (block.keys[begins] & MASK).tolist(), strict=True):
                of.loops.begin(of.loop_heads[site], at)
        whole = bool(kept.all())
        if side == 0 and not whole:
            self.left_out.update(set(np.unique(block.keys[~kept] & MASK).tolist()) - of.loop_heads.keys())
        parts = self.parts_of(block)
        of.numbers = np.concatenate([of.numbers, numbers if whole else numbers[kept]])
        of.parts = np.concatenate([of.parts, parts if whole else parts[kept]])
        of.values = np.concatenate([of.values, block.values if whole else block.values[kept]])

    @staticmethod
    def parts_of(block: Block) -> np.ndarray:
        parts: np.ndarray = WIDE[block.keys >> PART_BIT]
        return parts

    @property
    def places(self) -> int:
        """How many places were met."""
        a, b = (np.flatnonzero(side.times) for side in self.sides)
        return len(np.union1d(a, b))

    def waiting(self) -> tuple[int, int]:
        """Records of each side that are not compared yet."""
        return len(self.sides[0].numbers), len(self.sides[1].numbers)

    def advance(self) -> None:
        """Compare as far as both sides have come."""
        while not self.lost:
            a, b = self.sides
            size = min(len(a.numbers), len(b.numbers))
            if not size:
                break
            apart = np.flatnonzero(a.numbers[:size] != b.numbers[:size])
            until = int(apart[0]) if len(apart) else size
            self._same_path(until)
            if until == size:
                continue
            if not self._meet_again():
                break
        if self.lost:
            for side in self.sides:
                self._drop(side, len(side.numbers))

    def finish(self) -> None:
        """Both have ended: what one of them still has was not in the other."""
        for side in self.sides:
            side.ended = True
        self.advance()
        a, b = self.sides
        if (len(a.numbers) or len(b.numbers)) and not self.lost:
            self.partings += 1
            rest = a if len(a.numbers) else b
            met = self._met(rest, 0 if rest is a else 1, 0)
            if self.first_path is None:
                self.first_path = Difference(met, met, None, True)
            self.first = self.first or self.first_path

    # -- the same path -----------------------------------------------------------------------------------

    def _same_path(self, size: int) -> None:
        a, b = self.sides
        x, y = a.values[:size], b.values[:size]
        p, q = a.parts[:size], b.parts[:size]
        with np.errstate(all="ignore"):
            gap = np.abs(x - y)
            scale = np.maximum(np.abs(x), np.abs(y))
            same = (x == y) | (np.isnan(x) & np.isnan(y))
            same &= p == q
            if self.relative or self.absolute or self.at_lines:
                near = gap <= self.absolute + self._relative(a.numbers[:size]) * scale
                near &= IS_NUMBER[p] & np.isfinite(gap) & (p == q) & ~same  # else inf would be near everything
                self._note_near(near, gap / scale, same | near)
                same |= near
            if not same.all():
                wrong = np.flatnonzero(~same)
                number = IS_NUMBER[p[wrong]] & (p[wrong] == q[wrong])
                relative = np.where(number, gap[wrong] / scale[wrong], np.inf)
                relative[np.isnan(relative)] = np.inf
                self._differ(wrong, relative)
        self.records += size
        for side in self.sides:
            self._drop(side, size)

    def _relative(self, numbers: np.ndarray) -> np.ndarray | float:
        """The relative tolerance, by record where places have their own."""
        if not self.at_lines:
            return self.relative
        own = self.own[np.minimum(numbers, len(self.own) - 1)]
        return np.where(np.isnan(own), self.relative, own)

    def _note_near(self, near: np.ndarray, relative: np.ndarray, fine: np.ndarray) -> None:
        """Count what differs within the tolerance, before the first value that differs by more."""
        if self.first is None:
            until = len(fine) if fine.all() else int(np.argmin(fine))
            self.near += int(near[:until].sum())
            self.nearest = max(self.nearest, float(relative[:until][near[:until]].max(initial=0.0)))

    def _differ(self, wrong: np.ndarray, relative: np.ndarray) -> None:
        """The records at these places of the chunk differ, by so much."""
        self.differing += len(wrong)
        if self.first is None:
            self.first = self._difference(int(wrong[0]), float(relative[0]))
        at = int(np.argmax(relative))
        if self.largest is None or relative[at] > self.largest.weight:
            self.largest = self._difference(int(wrong[at]), float(relative[at]))
        numbers = self.sides[0].numbers[wrong]
        order = np.argsort(numbers, kind="stable")
        edges = np.flatnonzero(np.r_[True, np.diff(numbers[order]) != 0])
        for rows in np.split(order, edges[1:]):
            self._differ_at(int(numbers[rows[0]]), wrong[rows], relative[rows])

    def _differ_at(self, number: int, wrong: np.ndarray, relative: np.ndarray) -> None:
        """The same for one place."""
        peak = int(np.argmax(relative))
        known = self.course.get(number)
        if known is None:
            first = self._difference(int(wrong[0]), float(relative[0]))
            known = self.course[number] = Differing(first, first, self.records + int(wrong[0]))
        if relative[peak] > known.largest.weight:
            known.largest = self._difference(int(wrong[peak]), float(relative[peak]))
        side = self.sides[0]
        begun = np.cumsum(
            (side.numbers[: int(wrong[-1]) + 1] == number) & (side.parts[: int(wrong[-1]) + 1] < CONTINUED)
        )
        before = int(side.times[number]) if number < len(side.times) else 0
        passes = before + np.maximum(begun[wrong] - 1, 0)
        known.count += len(np.unique(passes))
        known.course.take(passes, np.where(np.isfinite(relative), relative, 1.0))

    def _difference(self, at: int, relative: float) -> Difference:
        a, b = self._met(self.sides[0], 0, at), self._met(self.sides[1], 1, at)
        return Difference(a, b, relative if math.isfinite(relative) else None)

    def _met(self, side: Side, which: int, at: int) -> Met:
        number = int(side.numbers[at])
        begun = (side.numbers[: at + 1] == number) & (side.parts[: at + 1] < CONTINUED)
        before = int(side.times[number]) if number < len(side.times) else 0
        text = shown(int(side.parts[at]), float(side.values[at]), self.texts)
        loop = side.loops.at(at, side.numbers, side.parts, side.times)
        return Met(self.matching.at[which][number], before + int(begun.sum()), text, loop)

    def _drop(self, side: Side, size: int) -> None:
        side.loops.drop(size, side.numbers, side.parts, side.times)
        side.count(side.numbers[:size], side.parts[:size])
        side.numbers, side.parts, side.values = side.numbers[size:], side.parts[size:], side.values[size:]

    # -- paths that part ---------------------------------------------------------------------------------

    def _meet_again(self) -> bool:
        """The two are at different places: find where they fit again.  False where more must come first."""
        a, b = self.sides
        for window in WINDOWS:
            if not all(side.ended or len(side.numbers) >= window for side in self.sides):
                return False
            found = _meeting(a.numbers[:window], b.numbers[:window])
            if found is not None:
                break
        self.partings += 1
        if self.first_path is None:
            self.first_path = Difference(self._met(a, 0, 0), self._met(b, 1, 0), None, True)
            self.first = self.first or self.first_path
        if found is None:
            self.lost = True
            return False
        self._drop(a, found[0])
        self._drop(b, found[1])
        return True


def _meeting(a: np.ndarray, b: np.ndarray) -> tuple[int, int] | None:
    """How much of each is to be left out so that the next records fit: the least in sum.  Many that fit are surer than
    few: few are taken where they cost far less."""
    sure, near = _fit(a, b, RUN), _fit(a, b, FEW)
    if sure is None or near is None:
        return sure or near
    return near if sum(near) * 4 < sum(sure) else sure


def _fit(a: np.ndarray, b: np.ndarray, run: int) -> tuple[int, int] | None:
    """The same for so many records in a row."""
    run = min(run, len(a), len(b))
    if not run:
        return None
    seen: dict[bytes, int] = {}
    for i in range(len(a) - run + 1):
        seen.setdefault(a[i : i + run].tobytes(), i)
    best: tuple[int, int] | None = None
    for j in range(len(b) - run + 1):
        fits = seen.get(b[j : j + run].tobytes())
        if fits is not None and (best is None or fits + j < sum(best)):
            best = (fits, j)
        if best is not None and j >= sum(best):
            break
    return best
