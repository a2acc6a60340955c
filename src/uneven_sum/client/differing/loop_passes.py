"""Which pass of its loop a recorded value belongs to."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

import numpy as np

from .reading import CONTINUED, Place

Loop = tuple[str, int]  # file and line of its head


@dataclass
class LoopPasses:
    """The loops of one run.

    A run tells when a loop begins, and not each of its passes.  What stands directly in a loop comes once a pass, or
    less often: the most frequent of these places since the loop began has its passes.
    """

    of: dict[int, Loop] = field(default_factory=dict)  # the innermost loop around a place, by number
    inside: dict[Loop, list[int]] = field(default_factory=dict)  # numbers of the places directly in a loop
    begun: list[tuple[int, Loop]] = field(default_factory=list)  # in the waiting records, and at which of them
    before: dict[Loop, np.ndarray] = field(default_factory=dict)  # how often each place had come when the loop began

    def place(self, number: int, file: str, line: int | None) -> None:
        """A place, by its number, with the line of the loop around it."""
        if line is not None and number not in self.of:
            self.of[number] = (file, line)
            self.inside.setdefault((file, line), []).append(number)

    def begin(self, place: Place, at: int) -> None:
        """A loop begins before the waiting record `at`."""
        self.begun.append((at, (place.file, place.statement)))

    def drop(self, size: int, numbers: np.ndarray, parts: np.ndarray, times: np.ndarray) -> None:
        """The first `size` waiting records go.  `times`: how often each place had come before them."""
        last = {loop: at for at, loop in self.begun if at <= size}
        for loop, at in last.items():
            self.before[loop] = _with(times, numbers[:at], parts[:at])
        self.begun = [(at - size, loop) for at, loop in self.begun if at > size]

    def at(self, index: int, numbers: np.ndarray, parts: np.ndarray, times: np.ndarray) -> tuple[int, int] | None:
        """Line and pass of the loop that a waiting record is in; None where it is in none that is known."""
        loop = self.of.get(int(numbers[index]))
        if loop is None:
            return None
        began = [at for at, one in self.begun if one == loop and at <= index]
        if not began and loop not in self.before:
            return None
        start = _with(times, numbers[: began[-1]], parts[: began[-1]]) if began else self.before[loop]
        now = _with(times, numbers[: index + 1], parts[: index + 1])
        return loop[1], int(max(_counts(now, self.inside[loop]) - _counts(start, self.inside[loop])))


def _counts(times: np.ndarray, numbers: Iterable[int]) -> np.ndarray:
    return np.array([times[n] if n < len(times) else 0 for n in numbers], np.int64)


def _with(times: np.ndarray, numbers: np.ndarray, parts: np.ndarray) -> np.ndarray:
    """The counts after these records."""
    found = np.bincount(numbers[parts < CONTINUED], minlength=len(times))
    found[: len(times)] += times
    return found
