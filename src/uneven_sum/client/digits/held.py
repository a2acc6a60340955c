"""The digits that hold at a place, over all of its passes."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from ..differing.course import Course
from ..differing.reading import Place

ALL = 16.0  # digits of a value that is the same in both runs
FEW = 7.0  # digits under which the first pass is noted


def digits_of(gaps: np.ndarray, sizes: np.ndarray) -> np.ndarray:
    """Decimal digits that agree, by absolute differences and sizes; ALL where there is no difference."""
    with np.errstate(all="ignore"):
        found = -np.log10(gaps / sizes)
    found[gaps == 0] = ALL
    clipped: np.ndarray = np.clip(np.nan_to_num(found, nan=0.0), 0.0, ALL)
    return clipped + 0.0  # no -0.0


@dataclass
class Drop:
    """The pass of a place in which most digits were lost: digits of the result and of its operands, and the values."""

    lost: float = 0.0
    digits: float = ALL
    at_pass: int = 0
    value: float | None = None
    operands: list[float | None] = field(default_factory=list)
    operand_digits: list[float] = field(default_factory=list)


@dataclass
class Held:
    """Passes, the lowest digits with their pass, the first pass with few, and the digits of the last pass.

    `over_all`: the lowest where each pass is measured against the largest value so far, so that a value that passes
    through zero loses nothing.  `lost`: digits in sum, of results against their operands.
    """

    place: Place
    passes: int = 0
    lowest: float = ALL
    at_pass: int = 0
    first_few: int = 0
    last: float = ALL
    over_all: float = ALL
    over_all_pass: int = 0
    value: float | None = None  # of the last pass, in the plain run
    single: bool = True  # all values are floats of 32 bits
    whole: bool = True  # all values are integers
    lost: float = 0.0
    drop: Drop = field(default_factory=Drop)
    course: Course = field(default_factory=lambda: Course(rest=ALL))  # of the digits
    largest: float = 0.0
    gap: float = 0.0  # the largest difference between two runs
    operand_largest: float = 0.0
    kind: str = ""  # of a value whose numbers are not known: it has no digits

    def take(self, digits: np.ndarray, gaps: np.ndarray, sizes: np.ndarray, values: np.ndarray) -> None:
        """Some more passes: digits, absolute differences, sizes, and values (nan where it is none)."""
        at = int(np.argmin(digits))
        if digits[at] < self.lowest:
            self.lowest, self.at_pass = float(digits[at]), self.passes + at + 1
        if not self.first_few and digits[at] < FEW:
            self.first_few = self.passes + int(np.argmax(digits < FEW)) + 1
        with np.errstate(all="ignore"):
            largest = np.maximum(np.maximum.accumulate(np.nan_to_num(sizes, nan=0.0)), self.largest)
        over_all = digits_of(gaps, largest)
        at = int(np.argmin(over_all))
        if over_all[at] < self.over_all:
            self.over_all, self.over_all_pass = float(over_all[at]), self.passes + at + 1
        self.largest = float(largest[-1])
        self.course.take(self.passes + np.arange(len(digits)), digits)
        self.gap = max(self.gap, float(np.nan_to_num(gaps, nan=0.0).max(initial=0.0)))
        self.passes += len(digits)
        self.last = float(digits[-1])
        self.value = None if np.isnan(values[-1]) else float(values[-1])

    def take_operands(self, digits: np.ndarray, operands: np.ndarray, values: np.ndarray) -> None:
        """After `take`, where operands were told: their digits of shape (n, 2); values (n, 3): result and operands."""
        lost = np.maximum(operands.min(axis=1) - digits, 0.0)
        self.lost += float(lost.sum())
        self.operand_largest = max(self.operand_largest, float(np.nan_to_num(np.abs(values[:, 1:]), nan=0.0).max()))
        at = int(np.argmax(lost))
        if lost[at] > self.drop.lost:
            shown = [None if np.isnan(v) else float(v) for v in values[at]]
            passed = self.passes - len(digits) + at + 1
            self.drop = Drop(float(lost[at]), float(digits[at]), passed, shown[0], shown[1:], operands[at].tolist())

    def merge(self, other: Held) -> None:
        """The lower of two shaken runs."""
        if other.lowest < self.lowest:
            self.lowest, self.at_pass = other.lowest, other.at_pass
        if other.over_all < self.over_all:
            self.over_all, self.over_all_pass = other.over_all, other.over_all_pass
        if other.first_few and (not self.first_few or other.first_few < self.first_few):
            self.first_few = other.first_few
        if other.drop.lost > self.drop.lost:
            self.drop = other.drop
        self.gap = max(self.gap, other.gap)
        self.last, self.lost = min(self.last, other.last), max(self.lost, other.lost)
        self.single, self.whole = self.single and other.single, self.whole and other.whole
        self.course.merge(other.course)
