"""Counts the lines that a script prints, to find the statement that prints one of them."""

from __future__ import annotations

import io
import os
import sys
import types
from collections.abc import Callable

from ..frames import stack


class Counted(io.TextIOWrapper):
    """Standard output of a copy: it goes nowhere.  `hears` is called as line number `line` ends; with `begins`, as its
    first part is written."""

    def __init__(self, line: int, begins: bool, hears: Callable[[types.FrameType], None]) -> None:
        super().__init__(io.FileIO(os.open(os.devnull, os.O_WRONLY), "w"), encoding="utf-8", errors="replace")
        self.wanted, self.begins, self.ended, self.hears = line, begins, 0, hears

    def write(self, text: str) -> int:
        """Count its lines."""
        lines = text.count("\n")
        part = self.begins and bool(text) and not text.endswith("\n")
        if self.ended < self.wanted <= self.ended + lines + part:
            frame = stack.user_frame(sys._getframe(1))
            if frame is not None:
                self.hears(frame)
        self.ended += lines
        return len(text)


def count_lines(line: int, begins: bool, hears: Callable[[types.FrameType], None]) -> None:
    """From now on, hear of the statement that ends (or begins) line number `line` of the output, counted from 1."""
    sys.stdout = Counted(line, begins, hears)
