"""How a number goes over the passes of a place, in at most so many steps whatever their number."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

STEPS = 120


@dataclass
class Course:
    """`values`: the lowest, or with `highest` the highest, of each `step` passes; `rest` where there is none."""

    highest: bool = False
    rest: float = 0.0
    values: list[float] = field(default_factory=list)
    step: int = 1

    def take(self, passes: np.ndarray, values: np.ndarray) -> None:
        """Some values with their passes, from 0, ascending."""
        worst = max if self.highest else min
        while int(passes[-1]) >= self.step * STEPS:
            self.values = [worst(self.values[k : k + 2]) for k in range(0, len(self.values), 2)]
            self.step *= 2
        steps = passes // self.step
        starts = np.flatnonzero(np.r_[True, np.diff(steps) != 0])
        ends = (np.maximum if self.highest else np.minimum).reduceat(values, starts)
        self.values += [self.rest] * (int(steps[-1]) + 1 - len(self.values))
        for step, value in zip(steps[starts].tolist(), ends.tolist(), strict=True):
            self.values[step] = worst(self.values[step], value)

    def merge(self, other: Course) -> None:
        """The worse of two courses of the same passes."""
        if (self.step, len(self.values)) == (other.step, len(other.values)):
            worst = max if self.highest else min
            self.values = [worst(pair) for pair in zip(self.values, other.values, strict=True)]
