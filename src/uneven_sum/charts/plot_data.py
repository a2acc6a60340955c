"""What a plot is drawn from: series, counts and cells reduced to the columns of a screen.

Texts named `data`, `lows`, `highs` and `means` are base64 of little-endian float64 numbers (of an image: of
its bytes).  `marks` has a sign for each place: `.` fine, `n` nan, `+` and `-` infinite.
"""

from __future__ import annotations

from typing import NotRequired, TypedDict


class Series(TypedDict):
    """One line of a line plot, reduced to the lowest and the highest cell of each column."""

    name: str
    lows: str
    highs: str
    marks: str
    means: NotRequired[str]
    absent: NotRequired[str]  # `1` where a column has no cell at all


class LinePlot(TypedDict):
    """Cells `first` to `last` of one or several series."""

    series: list[Series]
    first: int
    last: int
    at: NotRequired[float | None]  # the pass that runs now
    x: NotRequired[str]  # what is counted along the axis
    named: NotRequired[bool]  # the name is shown for a single series too
    log: NotRequired[bool]
    dates: NotRequired[list[tuple[int, str]]]


Histogram = TypedDict(
    "Histogram",
    {
        "counts": list[int],
        "low": float,
        "high": float,
        "nan": NotRequired[int],
        "+inf": NotRequired[int],
        "-inf": NotRequired[int],
        "left out": NotRequired[int],
        "names": NotRequired[list[str]],
        "log": NotRequired[bool],
    },
)


class Heat(TypedDict):
    """A table of `of` rows and columns, reduced to `shape`."""

    shape: tuple[int, int]
    of: tuple[int, int]
    data: str
    marks: list[str]


Scatter = TypedDict(
    "Scatter",
    {
        "counts": list[list[int]],
        "x": tuple[float, float],
        "y": tuple[float, float],
        "names": NotRequired[list[str]],
        "left out": NotRequired[int],
    },
)


class Frequent(TypedDict):
    """The most frequent values, and how often each stands."""

    bars: list[tuple[str, int]]
    distinct: int
    names: list[str]


class Box(TypedDict):
    """One group: minimum, quartiles and maximum of its finite cells (empty: none)."""

    name: str
    five: list[float]
    count: int
    bad: int


class Boxes(TypedDict):
    boxes: list[Box]
    names: list[str]


class Image(TypedDict):
    """Pixels of an image of `of` rows and columns, reduced to `shape` (rows, columns, colours)."""

    shape: tuple[int, int, int]
    of: tuple[int, int]
    data: str
    bad: int
