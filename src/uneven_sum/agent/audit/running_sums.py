"""Running sums: what each has taken and lost, kept on the hot path for the rules that ask about them."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any


class Running:
    """One sum: additions, what was added and lost, the first pass without effect.

    `step`: the increment of the pass before.  `shown`: operands at the first pass without effect.
    """

    __slots__ = ("added", "first", "last", "lost", "narrow", "passes", "shown", "step", "without")

    def __init__(self) -> None:
        self.passes = self.without = self.first = 0
        self.added = self.lost = 0.0
        self.narrow = False  # in 16 or 32 bits
        self.shown: tuple[Any, Any] | None = None
        self.last: Any = None
        self.step: Any = 0.0

    def take(self, a: Any, small: Any, result: Any) -> None:
        """One addition of numbers: `lost = b - ((a + b) - a)` for |a| ≥ |b| (Fast2Sum, Dekker 1971)."""
        self.passes += 1
        if (a if a >= 0 else -a) < (small if small >= 0 else -small):
            a, small = small, a
        lost = small - (result - a)
        self.added += small if small >= 0 else -small
        if lost:
            self.lost += lost
            if result == a:
                self.without += 1
                if not self.first:
                    self.first, self.shown = self.passes, (a, small)
        self.last = result


Others = Callable[[Any, Any, Any, int], Any]
Alternates = Callable[[Any, Any, int], None]


def probe(
    name: str, add: Callable[[Any, Any], Any], sums: dict[int, Running], alternates: Alternates, others: Others
) -> Callable[[Any, Any, int], Any]:
    """The probe of `total + x` or `total - x`.  `alternates` is called when an increment has another sign than the one
    before, `others` for what is no float.  As `Running.take`, in line: this is the hottest path of an audit."""
    minus = name == "sub"

    def running(a: Any, b: Any, site: int) -> Any:
        result = add(a, b)
        if type(result) is not float:
            return others(a, b, result, site)
        known = sums.get(site)
        if known is None:
            known = sums[site] = Running()
        known.passes += 1
        if known.step * b < 0:
            alternates(b, known, site)
        known.step = b
        small = -b if minus else b
        if (a if a >= 0 else -a) < (small if small >= 0 else -small):
            a, small = small, a
        lost = small - (result - a)
        known.added += small if small >= 0 else -small
        if lost:
            known.lost += lost
            if result == a:
                known.without += 1
                if not known.first:
                    known.first, known.shown = known.passes, (a, small)
        known.last = result
        return result

    return running
