"""Pages, filters and reduced series of a grid: what the Close-up sends."""

from __future__ import annotations

import base64
import types
from collections import Counter
from typing import Any

from ..core.data_types import Array, Frame
from ..core.errors import Refused
from . import downsample, nonfinite
from .kinds.grids import Grid

DENSE = 4  # values in a column of dots from which on their mean is given too


def b64(array: Array) -> str:
    return base64.b64encode(array.tobytes()).decode()


def cell_marks(np: types.ModuleType, kind: str, data: Array) -> str:
    if kind == "f8":
        good = np.isfinite(data)
        return "." * len(data) if good.all() else "".join("." if g else "!" for g in good.tolist())
    if kind == "i8":
        return "." * len(data)
    return "".join("!" if text in ("nan", "NaT", "None", "<NA>", "inf", "-inf") else "." for text in data)


def fitting_rows(np: types.ModuleType, grid: Grid, wanted: str) -> object:
    """Which rows fit a filter: an expression over the columns' names, or `value` where there is one column."""
    names: dict[str, object] = {}
    source = grid.source
    if hasattr(source, "iloc"):
        for number, name in enumerate(grid.names or []):
            if isinstance(name, str) and name.isidentifier():
                names.setdefault(name, source.iloc[:, number])
        names.setdefault("index", source.index)
    labels = grid.column_labels(0, min(grid.columns, 200))
    for number, name in enumerate(labels):
        if name.isidentifier() and name not in names:
            _, data = grid.cells(number, 0, grid.rows)
            names[name] = np.asarray(data)
    if not hasattr(source, "iloc") and grid.columns > 1:
        names["column"] = [np.asarray(grid.cells(c, 0, grid.rows)[1]) for c in range(min(grid.columns, 200))]
    try:
        found = eval(compile(wanted, "<filter>", "eval"), {"__builtins__": {"abs": abs, "len": len}, "np": np}, names)
        truth = np.asarray(found)
        if truth.shape != (grid.rows,):
            raise ValueError("it gives no truth value for each row")
        return truth.astype(bool) if truth.dtype != object else np.array([bool(v) and v == v for v in truth.tolist()])
    except Exception as e:
        raise Refused(f"The filter {wanted} cannot be used: {type(e).__name__}: {e}.") from None


def bad_in_frame(np: types.ModuleType, frame: Frame, row: int, column: int, back: bool) -> list[int] | None:
    """The nearest bad cell before or after a place, row by row; looked for column by column."""
    best: list[int] | None = None
    for c in range(min(frame.shape[1], 10_000)):
        mask = nonfinite.mask(frame.iloc[:, c])
        places = np.flatnonzero(mask)
        if back:
            places = places[(places < row) | ((places == row) & (c < column))]
        else:
            places = places[(places > row) | ((places == row) & (c > column))]
        if len(places):
            at = [int(places[-1 if back else 0]), c]
            if best is None or (at > best if back else at < best):
                best = at
    return best


def numeric_columns(np: types.ModuleType, grid: Grid) -> list[int]:
    found = []
    for c in range(min(grid.columns, 200)):
        if grid.cells(c, 0, min(1, grid.rows))[0] != "text":
            found.append(c)
    return found


def column_floats(np: types.ModuleType, grid: Grid, column: int, first: int, last: int) -> Array:
    kind, data = grid.cells(column, first, last)
    if kind == "text":
        raise Refused(f"The column {grid.column_labels(column, 1)[0]} has no numbers.")
    return data


SAMPLED = 100_000  # rows of a column that its picture is made from
BARS = "▁▂▃▄▅▆▇█"


def column_picture(np: types.ModuleType, grid: Grid, column: int) -> dict[str, object]:
    """A small picture of a column: a histogram of its numbers, or how often its most frequent values come; and the
    share that is missing."""
    step = max(1, grid.rows // SAMPLED)
    if step > 1 and grid.take is not None:
        kind, data = grid.take(np.arange(0, grid.rows, step), column)
    else:
        kind, data = grid.cells(column, 0, min(grid.rows, SAMPLED))
    size = len(data)
    if not size:
        return {"bars": "", "missing": 0.0}
    if kind == "text":
        fine = [v for v, mark in zip(data, cell_marks(np, kind, data)) if mark == "."]
        counts = [n for _, n in Counter(fine).most_common(8)] if fine else []
        missing = 1 - len(fine) / size
        if len(counts) == len(fine) > 8:
            counts = []  # each value is another one
    else:
        values = np.asarray(data, dtype=float)
        good = values[np.isfinite(values)]
        missing = 1 - good.size / size
        counts = np.histogram(good / 2, 8)[0].tolist() if good.size else []
    most = max(counts, default=0)
    return {"bars": "".join(BARS[min(7, n * 8 // (most + 1))] if n else " " for n in counts), "missing": missing}


def dates(source: Frame, first: int, last: int) -> list[list[object]]:
    """Ticks of the level axis, of a frame whose index, or else whose first column of dates, gives them: rows with their
    dates, as short as they differ."""
    pd = nonfinite.module("pandas")
    if pd is None or not hasattr(source, "iloc") or last - first < 2:
        return []
    found: object = source.index
    if not isinstance(found, (pd.DatetimeIndex, pd.PeriodIndex)):
        columns = [c for c in range(min(source.shape[1], 50)) if getattr(source.dtypes.iloc[c], "kind", "") == "M"]
        if not columns:
            return []
        found = source.iloc[:, columns[0]]
    at = sorted({first + n * (last - 1 - first) // 8 for n in range(9)})
    values = [found[row] if isinstance(found, pd.Index) else found.iloc[row] for row in at]
    texts = [str(value) for value in values]
    for end in (" 00:00:00", ":00"):
        if all(text.endswith(end) for text in texts):
            texts = [text.removesuffix(end) for text in texts]
    return [[row, text[:16]] for row, text, value in zip(at, texts, values) if value == value]


def reduced_series(
    np: types.ModuleType, series: list[tuple[str, Any]], first: int, last: int, width: int
) -> dict[str, object]:
    told = []
    for name, data in series:
        lows, highs, marks = downsample.extremes(np, data, width * 2)
        one = {"name": name, "lows": b64(lows.astype("<f8")), "highs": b64(highs.astype("<f8")), "marks": marks}
        if len(data) >= DENSE * len(lows) > 0:
            one["means"] = b64(downsample.means(np, data, len(lows)).astype("<f8"))
        told.append(one)
    return {"series": told, "first": first, "last": last}


def reduced_image(np: types.ModuleType, value: Any, width: int, height: int) -> dict[str, object]:
    rows = downsample.edges(np, value.shape[0], min(height * 2, value.shape[0]))[:-1]
    columns = downsample.edges(np, value.shape[1], min(width, value.shape[1]))[:-1]
    part = np.asarray(value[rows][:, columns][:, :, :3], dtype=float)
    good = np.isfinite(part)
    if value.dtype.kind == "f":
        high = float(part[good].max()) if good.any() else 1.0
        part = part / (high if high > 1.0 else 1.0) * 255
    elif part.size and part.max() > 255:
        part = part / part.max() * 255
    bytes_ = np.where(good, np.clip(part, 0, 255), 255).astype("u1")
    return {
        "shape": list(bytes_.shape),
        "data": b64(bytes_),
        "bad": int((~good.all(axis=2)).sum()),
        "of": list(value.shape),
    }


def distinct(grid: Grid, column: int) -> int:
    return len(set(grid.cells(column, 0, min(grid.rows, 5000))[1]))


def reduced_boxes(np: types.ModuleType, grid: Grid, columns: list[int]) -> dict[str, object]:
    numeric = numeric_columns(np, grid)
    if not numeric:
        raise Refused("A box plot needs a column of numbers.")
    values = columns[0] if columns and columns[0] in numeric else numeric[0]
    last = min(grid.rows, 1_000_000)
    others = [c for c in range(min(grid.columns, 200)) if c not in numeric]
    groups = columns[1] if len(columns) > 1 else min(others, key=lambda c: distinct(grid, c), default=None)
    data = column_floats(np, grid, values, 0, last)
    if groups is None:
        names: object = ["all"] * len(data)
    else:
        kind, found = grid.cells(groups, 0, last)
        names = found if kind == "text" else found.tolist()
    by = grid.column_labels(groups, 1)[0] if groups is not None else ""
    return {"names": [grid.column_labels(values, 1)[0], by], "boxes": downsample.boxes(np, data, names)}
