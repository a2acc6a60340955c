"""A small canvas of terminal cells for plots: braille for lines and dots, background colour for areas.

Right about what is not finite: a line breaks where there is a gap, and each bad place is marked along the axis.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field

from rich.segment import Segment
from rich.style import Style
from textual.strip import Strip

DOTS = ((0x01, 0x02, 0x04, 0x40), (0x08, 0x10, 0x20, 0x80))  # of a cell: column, then row from the top


@dataclass
class Axis:
    """From `low` to `high`; `log` when positive values are shown by their logarithm."""

    low: float
    high: float
    log: bool = False

    def __post_init__(self) -> None:
        if self.log and self.low <= 0:
            self.low = min(x for x in (self.high * 1e-6, 1e-300, self.high) if x > 0) if self.high > 0 else 1e-3
            self.high = max(self.high, self.low * 10)
        if not self.high / 2 > self.low / 2:  # nor where half of the smallest number is 0
            spread = abs(self.low) * 0.05 or 0.5
            self.low, self.high = self.low - spread, self.high + spread

    def place(self, value: float) -> float:
        """From 0 to 1 along the axis; nan when it cannot be on it."""
        if self.log:
            if value <= 0:
                return math.nan
            return (math.log10(value) - math.log10(self.low)) / (math.log10(self.high) - math.log10(self.low))
        return (value / 2 - self.low / 2) / (self.high / 2 - self.low / 2)  # halves: the range itself may be too large

    def value(self, place: float) -> float:
        if self.log:
            return float(10 ** (math.log10(self.low) + place * (math.log10(self.high) - math.log10(self.low))))
        return self.low * (1 - place) + self.high * place

    def ticks(self, most: int) -> list[float]:
        """Round values within: 1, 2 or 5 times a power of ten apart (powers of ten on a log axis)."""
        if self.log:
            lowest, highest = math.ceil(math.log10(self.low) - 1e-9), math.floor(math.log10(self.high) + 1e-9)
            apart = max(1, math.ceil((highest - lowest + 1) / max(1, most)))
            found = [10.0**p for p in range(lowest, highest + 1, apart)]
            return found if len(found) > 1 else [self.low, self.high]
        span = self.high / 2 - self.low / 2
        if not math.isfinite(span) or span <= 0:
            return [self.low]
        raw = 2 * (span / max(1, most))
        if not math.isfinite(raw) or raw <= 0:
            return [self.low, self.high]
        power = 10.0 ** math.floor(math.log10(raw))
        step = next((f * power for f in (1, 2, 5, 10) if f * power >= raw * 0.999), 10 * power)
        begin = math.ceil(self.low / step - 1e-9)
        found = []
        for n in range(begin, begin + most + 3):
            value = n * step
            if value > self.high + step * 1e-9:
                break
            found.append(0.0 if abs(value) < step * 1e-9 else value)
        return found


def label(value: float, near: float = 0.0) -> str:
    """A tick's text: short, and as many digits as the neighbours want."""
    if value == 0:
        return "0"
    if near and abs(value) < 1e6 and abs(near) >= 1e-4:
        digits = max(0, -math.floor(math.log10(abs(near)) + 1e-9))
        return f"{value:.{digits}f}"
    return f"{value:.4g}"


@dataclass
class Canvas:
    """`width` x `height` cells; dots are twice as many across and four times down."""

    width: int
    height: int
    bits: list[list[int]] = field(default_factory=list)
    colours: list[list[str]] = field(default_factory=list)
    texts: dict[tuple[int, int], tuple[str, str]] = field(default_factory=dict)  # (row, column) -> sign, style
    backs: dict[tuple[int, int], str] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.bits = [[0] * self.width for _ in range(self.height)]
        self.colours = [[""] * self.width for _ in range(self.height)]

    def dot(self, x: int, y: int, colour: str) -> None:
        """A dot at x from the left and y from the top, in dots."""
        column, row = x // 2, y // 4
        if 0 <= column < self.width and 0 <= row < self.height:
            self.bits[row][column] |= DOTS[x % 2][y % 4]
            self.colours[row][column] = colour

    def upright(self, x: int, top: int, bottom: int, colour: str) -> None:
        for y in range(max(0, min(top, bottom)), min(4 * self.height - 1, max(top, bottom)) + 1):
            self.dot(x, y, colour)

    def text(self, row: int, column: int, text: str, style: str) -> None:
        for n, sign in enumerate(text):
            if 0 <= row < self.height and 0 <= column + n < self.width:
                self.texts[row, column + n] = (sign, style)

    def back(self, row: int, column: int, colour: str) -> None:
        if 0 <= row < self.height and 0 <= column < self.width:
            self.backs[row, column] = colour

    def strips(self, ground: str, ink: str) -> list[Strip]:
        """One strip a row."""
        return [self._strip(row, ground, ink) for row in range(self.height)]

    def _strip(self, row: int, ground: str, ink: str) -> Strip:
        segments: list[Segment] = []
        run, last = "", ("", "", "")
        for column in range(self.width):
            sign, colour, weight = " ", "", ""
            if (row, column) in self.texts:
                sign, style = self.texts[row, column]
                weight, _, colour = style.rpartition(" ")
            elif self.bits[row][column]:
                sign, colour = chr(0x2800 + self.bits[row][column]), self.colours[row][column]
            key = (colour or ink, self.backs.get((row, column), ground), weight)
            if key != last and run:
                segments.append(_segment(run, last))
                run = ""
            run, last = run + sign, key
        if run:
            segments.append(_segment(run, last))
        return Strip(segments, self.width)


def _segment(text: str, key: tuple[str, str, str]) -> Segment:
    colour, back, weight = key
    return Segment(text, Style.parse(f"{weight} {colour} on {back}".strip()))
