"""A value's course in one row of text: braille for the curve, `!` where a cell is not finite."""

from __future__ import annotations

import base64
import math
import struct

# Dots of one braille cell: left and right column, from the bottom up.
LEFT, RIGHT = (0x40, 0x04, 0x02, 0x01), (0x80, 0x20, 0x10, 0x08)


def decode(picture: str) -> list[tuple[float, float]]:
    """(lowest, highest) of each column, from base64 of little-endian float64 pairs; nan: no finite cell."""
    data = base64.b64decode(picture)
    numbers = struct.unpack(f"<{len(data) // 8}d", data)
    return list(zip(numbers[::2], numbers[1::2]))


def spark(columns: list[tuple[float, float]], marks: str, width: int) -> str:
    """The curve in at most `width` cells, two columns of the picture a cell."""
    finite = [v for pair in columns for v in pair if math.isfinite(v)]
    low, high = (min(finite), max(finite)) if finite else (0.0, 0.0)
    shown = columns[: 2 * width]
    cells = []
    for start in range(0, len(shown), 2):
        bits, bad = 0, False
        for side, dots in enumerate((LEFT, RIGHT)):
            at = start + side
            if at >= len(shown):
                continue
            bad = bad or marks[at : at + 1] == "1"
            bottom, top = shown[at]
            if math.isfinite(bottom):
                for level in range(_level(bottom, low, high), _level(top, low, high) + 1):
                    bits |= dots[level]
        cells.append("!" if bad else chr(0x2800 + bits))
    return "".join(cells)


def _level(value: float, low: float, high: float) -> int:
    if not high > low:
        return 1
    half = high / 2 - low / 2  # the range itself may be too large for a float, and half of the smallest is 0
    part = (value / 2 - low / 2) / half if half else (value - low) / (high - low)
    return min(3, max(0, int(4 * part)))
