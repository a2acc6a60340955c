"""Draws reduced series on a canvas: one function a plot.  Each gives the canvas and what the cursor reads."""

from __future__ import annotations

import base64
import math
import struct
from collections.abc import Callable
from dataclasses import dataclass

from ...charts.plot_data import Boxes, Frequent, Heat, Histogram, Image, LinePlot, Scatter
from ..shell.theme import Palette
from .canvas import Axis, Canvas, label
from .number_format import Format, shown

LEFT = 11  # columns of the labels of the upright axis
MARKS = {"n": "!", "+": "^", "-": "v"}
WORDS = {"n": "nan", "+": "inf", "-": "-inf"}


@dataclass
class Drawn:
    canvas: Canvas
    read: Callable[[int, int], str]  # (column, row) of the canvas -> what is there


def floats(text: str) -> list[float]:
    """float64 numbers from base64 of little-endian bytes."""
    data = base64.b64decode(text)
    return list(struct.unpack(f"<{len(data) // 8}d", data))


def whole(text: str) -> list[int]:
    data = base64.b64decode(text)
    return list(struct.unpack(f"<{len(data) // 8}q", data))


def _frame(canvas: Canvas, y: Axis, p: Palette, bottom: int, top: int = 0) -> None:
    """The upright axis with its ticks, from row `top` down to the level axis, which is `bottom` rows from the end."""
    height = canvas.height - bottom - top
    ticks = _enough(y, max(2, height // 4), min(4, height // 3), height // 2)
    near = abs(ticks[1] - ticks[0]) if len(ticks) > 1 and not y.log else 0.0
    for row in range(top, canvas.height - bottom + (1 if bottom > 2 else 0)):
        canvas.text(row, LEFT - 1, "│", p.rule)
    for tick in ticks:
        place = y.place(tick)
        if 0 <= place <= 1:
            row = top + round((1 - place) * (height - 1))
            text = label(tick, near)[: LEFT - 2]
            canvas.text(row, LEFT - 2 - len(text), text, p.quiet)
            canvas.text(row, LEFT - 1, "┤", p.rule)


def _enough(axis: Axis, begin: int, wanted: int, most: int) -> list[float]:
    """Ticks of an axis: about `begin`, or more of them until there are as many as wanted; at most `most`."""
    ticks = axis.ticks(begin)
    for number in range(begin + 1, most + 1):
        if len(ticks) >= wanted:
            break
        found = axis.ticks(number)
        ticks = found if len(found) <= most else ticks
    return ticks


def _below(canvas: Canvas, x: Axis, p: Palette, row: int, named: list[tuple[float, str]] | None = None) -> None:
    """The level axis with its ticks, in the row and the one below.  `named`: ticks with texts of their own."""
    width = canvas.width - LEFT
    for column in range(width):
        canvas.text(row, LEFT + column, "─", p.rule)
    canvas.text(row, LEFT - 1, "└", p.rule)
    ticks = _enough(x, max(2, width // 16), min(4, width // 12), width // 8)
    near = abs(ticks[1] - ticks[0]) if len(ticks) > 1 and not x.log else 0.0
    free = 0
    for tick, text in named or [(tick, label(tick, near)) for tick in ticks]:
        place = x.place(tick)
        if not 0 <= place <= 1:
            continue
        column = LEFT + round(place * (width - 1))
        start = min(max(LEFT, column - len(text) // 2), canvas.width - len(text))
        if start >= free:
            canvas.text(row, column, "┬", p.rule)
            canvas.text(row + 1, start, text, p.quiet)
            free = start + len(text) + 2


def colours(p: Palette) -> list[str]:
    return [p.breakpoint, p.changed, p.warning, p.at, p.fine, p.error]


PANEL = 5  # rows of a panel, at least
DENSE = 4  # values in a column of dots from which on the range is drawn behind the mean


def line(data: LinePlot, width: int, height: int, p: Palette, how: Format, log: bool = False) -> Drawn:
    """Lines by place, each of several in a panel with an axis of its own, over one level axis.

    Of many values in a column of dots the range is drawn as an upright stroke, behind their mean.  Gaps stay gaps; bad
    places are marked in the last row of the panel.
    """
    series = [(s["name"], floats(s["lows"]), floats(s["highs"]), s["marks"]) for s in data["series"]]
    means = [floats(s["means"]) if s.get("means") else None for s in data["series"]]
    absent = [s.get("absent", "") for s in data["series"]]
    canvas = Canvas(width, height)
    first, last = data["first"], data["last"]
    x = Axis(first, max(first + 1, last - 1))
    _below(canvas, x, p, height - 2, [(at, text) for at, text in data.get("dates") or []] or None)
    room, tints = width - LEFT, colours(p)
    apart = len(series) > 1 and (height - 2) // len(series) >= PANEL
    tall = (height - 2) // len(series) if apart else height - 2
    shared = [v for _, lows, highs, _ in series for v in (*lows, *highs) if math.isfinite(v) and (not log or v > 0)]
    for number, (name, lows, highs, marks) in enumerate(series):
        own = [v for v in (*lows, *highs) if math.isfinite(v) and (not log or v > 0)] if apart else shared
        y = Axis(min(own, default=0.0), max(own, default=1.0), log)
        top = number * tall if apart else 0
        end = height - 2 if not apart or number == len(series) - 1 else top + tall
        if apart or not number:
            _frame(canvas, y, p, height - end + 1, top)
        panel = Panel(canvas, y, top, end - 1 - top, tints[number % len(tints)], p, room)
        panel.draw(lows, highs, marks, means[number], absent[number])
        if len(series) > 1 or data.get("named"):
            at = (top, LEFT + 2) if apart else (0, LEFT + 2 + 18 * number)
            canvas.text(*at, f"— {name[: 40 if apart else 14]}", f"bold {panel.tint}")
    present = data.get("at")
    if present is not None and 0 <= x.place(present) <= 1:
        column = LEFT + round(x.place(present) * (room - 1))
        canvas.text(height - 3, column, "▴", f"bold {p.at}")
        told = f"now: {data['x']} {present}"
        start = column - len(told) - 1 if column + len(told) + 2 > width else column + 2
        canvas.text(height - 3, start, told, p.at)

    def read(column: int, row: int) -> str:
        if column < LEFT or not series:
            return ""
        told = []
        for name, lows, highs, marks in series:
            count = len(lows)
            if not count:
                continue
            n = min(count - 1, max(0, round((column - LEFT) / max(1, room - 1) * (count - 1))))
            start = first + n * (last - first) // count
            end = max(start, first + (n + 1) * (last - first) // count - 1)
            place = str(start) if start == end else f"{start} … {end}"
            bad = f" and {WORDS[marks[n]]}" if marks[n] != "." else ""
            low, high = lows[n], highs[n]
            value = "" if low != low else shown(low, how) if low == high else f"{shown(low, how)} … {shown(high, how)}"
            told.append(f"{name} at {place}: {value or 'no finite cell'}{bad}")
        return "   ".join(told)

    return Drawn(canvas, read)


@dataclass
class Panel:
    """A part of a canvas with an upright axis of its own: `rows` rows from `top`, and one below for marks."""

    canvas: Canvas
    y: Axis
    top: int
    rows: int
    tint: str
    p: Palette
    room: int

    def _row(self, value: float) -> int | None:
        """In dots from the top of the canvas; None for what is not on the axis."""
        place = self.y.place(value)
        return self.top * 4 + round((1 - place) * (self.rows * 4 - 1)) if math.isfinite(place) else None

    def draw(self, lows: list[float], highs: list[float], marks: str, means: list[float] | None, absent: str) -> None:
        count, canvas = len(lows), self.canvas
        behind = blend(self.p.ground, self.tint, 0.45) if means else self.tint
        places = [
            LEFT * 2 + (n * (2 * self.room - 1) // max(1, count - 1) if count > 1 else self.room) for n in range(count)
        ]
        for layer in ("range", "mean") if means else ("range",):
            previous: tuple[int, int] | None = None
            for n, at in enumerate(places):
                if absent[n : n + 1] == "1":
                    continue  # nothing is known of this place: no gap
                up, down = self._row(highs[n]), self._row(lows[n])
                if layer == "mean" and means is not None:
                    up = down = self._row(means[n])
                if up is None or down is None:
                    previous = None
                else:
                    tint = behind if layer == "range" else self.tint
                    canvas.upright(at, up, down, tint)
                    whole = previous is not None and (marks[n] == "." or lows[n] == lows[n])
                    if (
                        whole
                        and previous is not None
                        and marks[max(0, n - 1)] == "."
                        and (means is None or layer == "mean")
                    ):
                        _join(canvas, previous[0], previous[1], at, (up + down) // 2, tint)
                    previous = (at, (up + down) // 2)
        for at, mark in zip(places, marks):
            if mark != ".":
                canvas.text(self.top + self.rows, at // 2, MARKS[mark], f"bold {self.p.nonfinite}")


def _join(canvas: Canvas, x0: int, y0: int, x1: int, y1: int, tint: str) -> None:
    steps = max(abs(x1 - x0), abs(y1 - y0))
    for n in range(1, steps):
        canvas.dot(x0 + (x1 - x0) * n // steps, y0 + (y1 - y0) * n // steps, tint)


def histogram(data: Histogram, width: int, height: int, p: Palette, how: Format, log: bool = False) -> Drawn:
    counts = data["counts"]
    canvas = Canvas(width, height)
    y = Axis(0, max(counts, default=1) or 1)
    _frame(canvas, y, p, 3)
    low, high = data["low"], data["high"]
    x = Axis(low, high, log)
    _below(canvas, x, p, height - 2)
    rows, room = height - 3, width - LEFT
    for n, count in enumerate(counts):
        tall = y.place(count) * rows
        if count and tall < 1 / 8:
            tall = 1 / 8
        first, last = LEFT + n * room // len(counts), LEFT + (n + 1) * room // len(counts)
        for column in range(first, max(first + 1, last)):
            _bar(canvas, column, rows, tall, p.breakpoint)
    told = [f"{data[k]} {k}" for k in ("nan", "+inf", "-inf") if data.get(k)]
    if data.get("left out"):
        told.append(f"{data['left out']} not positive")
    if told:
        canvas.text(height - 3, LEFT, "! not shown: " + ", ".join(told), f"bold {p.nonfinite}")

    def read(column: int, row: int) -> str:
        if not counts or column < LEFT:
            return ""
        n = min(len(counts) - 1, (column - LEFT) * len(counts) // max(1, room))
        a, b = x.value(n / len(counts)), x.value((n + 1) / len(counts))
        return f"{counts[n]} cells from {shown(a, how)} to {shown(b, how)}"

    return Drawn(canvas, read)


def _bar(canvas: Canvas, column: int, rows: int, tall: float, tint: str) -> None:
    """An upright bar in eighths, its whole cells filled by their background."""
    full = int(tall)
    for row in range(full):
        canvas.back(rows - 1 - row, column, tint)
    rest = int((tall - full) * 8)
    if rest and full < rows:
        canvas.text(rows - 1 - full, column, "▁▂▃▄▅▆▇"[rest - 1], tint)


OUTLYING = 4  # times the range of nearly all values: then those beyond it share the outermost colours
COLOURS = 16  # cells of the colour bar


def blend(a: str, b: str, part: float) -> str:
    one = [int(a[n : n + 2], 16) for n in (1, 3, 5)]
    two = [int(b[n : n + 2], 16) for n in (1, 3, 5)]
    return "#" + "".join(f"{round(u + (v - u) * part):02x}" for u, v in zip(one, two))


def heat(data: Heat, width: int, height: int, p: Palette, how: Format, log: bool = False) -> Drawn:
    """Each cell the furthest of its block from the mean; bad ones are marked."""
    rows, columns = data["shape"]
    values = floats(data["data"])
    fine = sorted(v for v in values if math.isfinite(v) and (not log or v > 0))
    low, high = _usual(fine)
    scale = Axis(low, high, log)
    canvas = Canvas(width, height)
    room, tall = width - LEFT, height - 3
    of_rows, of_columns = data["of"]
    for row in range(tall):
        r = row * rows // tall
        for column in range(room):
            c = column * columns // room
            value = values[r * columns + c]
            place = scale.place(value) if math.isfinite(value) else math.nan
            if math.isfinite(place):
                canvas.back(row, LEFT + column, blend(p.panel, p.breakpoint, max(0.0, min(1.0, place))))
            mark = data["marks"][r][c]
            if mark != "." and (column == 0 or (column * columns // room) != ((column - 1) * columns // room)):
                canvas.text(row, LEFT + column, MARKS[mark], f"bold {p.nonfinite}")
    told = ""
    for row in range(0, tall, max(1, tall // 5)):
        text = str(row * of_rows // tall)
        if text == told:
            continue
        told = text
        canvas.text(row, LEFT - 2 - len(text), text, p.quiet)
    _below(canvas, Axis(0, max(1, of_columns - 1)), p, height - 2)
    _colours(canvas, height - 3, scale, p, (fine[:1] < [low], fine[-1:] > [high]), how)

    def read(column: int, row: int) -> str:
        if column < LEFT or row >= tall:
            return ""
        r, c = row * rows // tall, (column - LEFT) * columns // room
        value, mark = values[r * columns + c], data["marks"][r][c]
        bad = f", and {WORDS[mark]}" if mark != "." else ""
        at = f"rows from {r * of_rows // rows}, columns from {c * of_columns // columns}"
        return f"{at}: {shown(value, how) if value == value else 'no finite cell'}{bad}"

    return Drawn(canvas, read)


def _usual(values: list[float]) -> tuple[float, float]:
    """The range of sorted values; without the outermost 2.5 % at each end where these take most of it."""
    if not values:
        return 0.0, 1.0
    out = max(1, round(len(values) * 0.025))
    if len(values) > 10:
        low, high = values[out], values[-1 - out]
        if values[-1] - values[0] > OUTLYING * (high - low) > 0:
            return low, high
    return values[0], values[-1]


def _colours(canvas: Canvas, row: int, scale: Axis, p: Palette, beyond: tuple[bool, bool], how: Format) -> None:
    """The colours of a heat map from the lowest to the highest value; `beyond`: whether there are values outside."""
    low = ("≤ " if beyond[0] else "") + shown(scale.low, how)
    canvas.text(row, LEFT, low, p.quiet)
    at = LEFT + len(low) + 1
    for n in range(COLOURS):
        canvas.back(row, at + n, blend(p.panel, p.breakpoint, n / (COLOURS - 1)))
    canvas.text(row, at + COLOURS + 1, ("≥ " if beyond[1] else "") + shown(scale.high, how), p.quiet)


def scatter(data: Scatter, width: int, height: int, p: Palette, how: Format, log: bool = False) -> Drawn:
    canvas = Canvas(width, height)
    x, y = Axis(*data["x"]), Axis(*data["y"])
    _frame(canvas, y, p, 3)
    _below(canvas, x, p, height - 2)
    counts = data["counts"]
    rows, room = (height - 3) * 4, (width - LEFT) * 2
    for r, strip in enumerate(counts):
        for c, count in enumerate(strip):
            if count:
                at = LEFT * 2 + c * room // len(strip)
                canvas.dot(at, r * rows // len(counts), p.breakpoint)
    names = data.get("names", ["", ""])
    canvas.text(0, LEFT + 1, f"{names[1]} over {names[0]}", p.quiet)
    if data.get("left out"):
        canvas.text(height - 3, LEFT, f"! not shown: {data['left out']} not finite", f"bold {p.nonfinite}")

    def read(column: int, row: int) -> str:
        if column < LEFT or row >= height - 3:
            return ""
        a = x.value((column - LEFT) / max(1, width - LEFT - 1))
        b = y.value(1 - row / max(1, height - 4))
        return f"{names[0]} {shown(a, how)}, {names[1]} {shown(b, how)}"

    return Drawn(canvas, read)


def frequent(data: Frequent, width: int, height: int, p: Palette, how: Format, log: bool = False) -> Drawn:
    canvas = Canvas(width, height)
    bars = data["bars"][: height - 2]
    most = max((n for _, n in bars), default=1)
    names = min(28, max((len(k) for k, _ in bars), default=1))
    for row, (key, count) in enumerate(bars):
        canvas.text(row, 1, f"{key[:names]:>{names}}", p.text)
        long = max(1, round(count / most * (width - names - 14)))
        for column in range(long):
            canvas.back(row, names + 3 + column, p.breakpoint)
        canvas.text(row, names + 4 + long, str(count), p.quiet)
    canvas.text(height - 1, 1, f"{data['distinct']} distinct values of {data['names'][0]}", p.quiet)
    return Drawn(canvas, lambda column, row: f"{bars[row][0]}: {bars[row][1]} times" if 0 <= row < len(bars) else "")


def box(data: Boxes, width: int, height: int, p: Palette, how: Format, log: bool = False) -> Drawn:
    """A row a group: minimum, quartiles, maximum."""
    canvas = Canvas(width, height)
    boxes = data["boxes"][: (height - 2) // 2]
    numbers = [v for b in boxes for v in b["five"]]
    x = Axis(min(numbers, default=0.0), max(numbers, default=1.0))
    for number, one in enumerate(boxes):
        row = number * 2
        canvas.text(row, 0, f"{one['name'][: LEFT - 2]:>{LEFT - 2}}", p.text)
        if not one["five"]:
            canvas.text(row, LEFT, f"! no finite value in {one['count']}", f"bold {p.nonfinite}")
            continue
        at = [LEFT + round(x.place(v) * (width - LEFT - 1)) for v in one["five"]]
        for column in range(at[0], at[4] + 1):
            canvas.text(row, column, "─", p.breakpoint)
        for column in range(at[1], at[3] + 1):
            canvas.back(row, column, blend(p.ground, p.breakpoint, 0.45))
        canvas.text(row, at[0], "├", p.breakpoint)
        canvas.text(row, at[4], "┤", p.breakpoint)
        canvas.text(row, at[2], "┃", f"bold {p.text}")
        if one["bad"]:
            canvas.text(row + 1, LEFT, f"! {one['bad']} not finite", f"bold {p.nonfinite}")
    _below(canvas, x, p, height - 2)

    def read(column: int, row: int) -> str:
        n = row // 2
        if not 0 <= n < len(boxes) or not boxes[n]["five"]:
            return ""
        words = ("minimum", "quartile", "median", "quartile", "maximum")
        five = "  ".join(f"{w} {shown(v, how)}" for w, v in zip(words, boxes[n]["five"]))
        return f"{boxes[n]['name']}, {boxes[n]['count']} values: {five}"

    return Drawn(canvas, read)


def image(data: Image, width: int, height: int, p: Palette, how: Format, log: bool = False) -> Drawn:
    """Two pixels a cell: the upper as the colour of a half block, the lower as its background."""
    rows, columns, depth = data["shape"]
    pixels = base64.b64decode(data["data"])
    canvas = Canvas(width, height)

    def colour(r: int, c: int) -> str:
        at = (min(r, rows - 1) * columns + c) * depth
        return "#" + pixels[at : at + 3].hex()

    for row in range(min(height - 1, (rows + 1) // 2)):
        for column in range(min(width, columns)):
            canvas.text(row, column, "▀", colour(2 * row, column))
            canvas.back(row, column, colour(2 * row + 1, column))
    told = f"{data['of'][0]} x {data['of'][1]} pixels" + (f", {data['bad']} not finite" if data["bad"] else "")
    canvas.text(height - 1, 0, told, p.quiet)
    return Drawn(canvas, lambda column, row: "")


DRAW: dict[str, Callable[..., Drawn]] = {
    "line": line,
    "histogram": histogram,
    "heat": heat,
    "scatter": scatter,
    "frequent": frequent,
    "box": box,
    "singular": line,
    "image": image,
}
NAMES = {"frequent": "frequent values", "singular": "singular values", "box": "box by group"}
