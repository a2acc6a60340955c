"""Running sums: what each has taken and lost, kept on the hot path for the rules that ask about them."""

from __future__ import annotations

from typing import Any

POINTS = 84


class Running:
    """One sum: additions, what was added and lost, the first pass without effect.

    `step`: the increment of the pass before.  `shown`: operands at the first pass without effect.  `course`: passes
    without effect and what was lost by then, evenly thinned.
    """

    __slots__ = ("added", "apart", "course", "first", "last", "lost", "narrow", "passes", "shown", "step", "without")

    def __init__(self) -> None:
        self.passes = self.without = self.first = 0
        self.added = self.lost = 0.0
        self.narrow = False  # in 16 or 32 bits
        self.shown: tuple[object, object] | None = None
        self.last: Any = None
        self.step: Any = 0.0
        self.course: list[tuple[int, float]] = []
        self.apart = 1

    def take(self, a: Any, small: Any, result: object) -> None:
        """One addition of numbers: `lost = b - ((a + b) - a)` for |a| ≥ |b| (Fast2Sum, Dekker 1971)."""
        self.passes += 1
        if (a if a >= 0 else -a) < (small if small >= 0 else -small):
            a, small = small, a
        lost = small - (result - a)
        if lost:
            if lost * 0.0 != 0.0:
                return  # nan or an infinity: nothing more can be lost
            self.lost += lost
            if result == a:
                self.without += 1
                if not self.first:
                    self.first, self.shown = self.passes, (a, small)
                if not self.without % self.apart:
                    self.note()
        self.added += small if small >= 0 else -small
        self.last = result

    def note(self) -> None:
        """Keep what is lost by now; at most `POINTS`, evenly over the passes."""
        self.course.append((self.passes, self.lost))
        if len(self.course) >= POINTS:
            del self.course[::2]
            self.apart *= 2
