"""The cells of polars frames and series: which are missing (null), which hold nan or an infinity.

polars keeps the two apart: arithmetic makes nan and infinities, a null stands for data that is not there.
"""

from __future__ import annotations

import sys
import types
from collections.abc import Sequence
from typing import Any

from ..core.data_types import Array, ArrowTable, PolarsSeries


def is_one(value: object) -> bool:
    """True for a polars frame or series; a lazy frame holds no cells yet."""
    pl = sys.modules.get("polars")
    frame, series = getattr(pl, "DataFrame", None), getattr(pl, "Series", None)
    return isinstance(frame, type) and isinstance(series, type) and isinstance(value, (frame, series))


def _series(value: Any) -> list[PolarsSeries]:
    """A frame's columns; a series is its own."""
    return [value.get_column(name) for name in value.columns] if hasattr(value, "get_column") else [value]


def _holds_floats(series: PolarsSeries) -> bool:
    pl = sys.modules["polars"]
    return series.dtype in (pl.Float32, pl.Float64)


def missing(value: object) -> int:
    """How many cells are null."""
    return sum(one.null_count() for one in _series(value))


def nan(value: object) -> int:
    """How many cells hold nan."""
    return sum(int(one.is_nan().sum()) for one in _series(value) if _holds_floats(one))


def infinite(value: object) -> int:
    """How many cells hold an infinity."""
    return sum(int(one.is_infinite().sum()) for one in _series(value) if _holds_floats(one))


def not_finite(value: object) -> int:
    """How many cells hold nan or an infinity."""
    return nan(value) + infinite(value)


def _bad(series: PolarsSeries) -> PolarsSeries:
    """Which rows are null, nan or infinite, as a polars series of bool."""
    return series.is_null() | ~series.is_finite().fill_null(False) if _holds_floats(series) else series.is_null()


def first_row(value: object, others: Sequence[object] = ()) -> int:
    """The number of the first row with a missing, nan or infinite cell that no other series of its length has there;
    -1 for none."""
    rows = []
    for one in _series(value):
        bad = _bad(one)
        for other in others:
            if is_one(other) and not hasattr(other, "get_column") and len(_series(other)[0]) == len(bad):
                bad = bad & ~_bad(_series(other)[0])
        rows += [int(bad.arg_max())] if bad.any() else []
    return min(rows, default=-1)


def at_row(value: Any, row: int) -> object:
    """A series' value in a row; a frame, or a series with fewer rows, as it is."""
    return value if hasattr(value, "get_column") or len(value) <= row else value[row]


def columns(frame: ArrowTable) -> dict[str, int]:
    """Missing, nan or infinite cells of each column that has any."""
    found = {name: missing(one) + not_finite(one) for name, one in zip(frame.columns, _series(frame))}
    return {name: count for name, count in found.items() if count}


COUNTS = {"missing": missing, "nan": nan, "infinite": infinite}
# What a cell comes from where an operation only carries it on.
SOURCES = {"missing": ("missing",), "nan": ("nan", "infinite"), "infinite": ("infinite",)}


def names(value: object, kinds: Sequence[str]) -> list[str]:
    """The columns, or the name of a series, with a cell of one of these kinds."""
    return [str(one.name) for one in _series(value) if any(COUNTS[kind](one) for kind in kinds)]


def _mask(np: types.ModuleType, value: object, of_floats: str) -> Array:
    """Cells that are null, or for which the method of a float column is true; of a frame, a column for each of its."""
    found = []
    for one in _series(value):
        bad = one.is_null()
        if _holds_floats(one):
            bad = bad | getattr(one, of_floats)().fill_null(True)
        found.append(np.asarray(bad.to_numpy(), dtype=bool))
    if not hasattr(value, "get_column"):
        return found[0]
    return np.column_stack(found) if found else np.zeros((0, 0), dtype=bool)


def mask(np: types.ModuleType, value: object) -> object:
    """Which cells are missing, nan or infinite, as a NumPy array of bool (rows, or rows x columns)."""
    return _mask(np, value, "is_nan") | _mask(np, value, "is_infinite")


def nan_mask(np: types.ModuleType, value: object) -> object:
    """Which cells are missing or nan, in the same shape."""
    return _mask(np, value, "is_nan")


def is_partly_missing(value: object) -> bool:
    """True where cells are null, none is nan or infinite, and no column holds nothing but nulls."""
    parts = _series(value)
    partly = all(len(one) > 0 and int(one.null_count()) < len(one) for one in parts)
    return partly and missing(value) > 0 and not not_finite(value)
