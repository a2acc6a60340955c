"""Series reduced for a plot so that peaks and bad cells survive: minimum and maximum per column of the screen."""

from __future__ import annotations

import types
from typing import Any

from ..core.data_types import Array


def edges(np: types.ModuleType, size: int, columns: int) -> Array:
    """The starts of `columns` nearly equal parts of `size` cells, and the end."""
    return np.linspace(0, size, columns + 1).astype(np.int64)


def extremes(np: types.ModuleType, values: Array, columns: int) -> tuple[Any, Any, str]:
    """(lowest, highest, marks) of each part over its finite cells: float64 arrays (nan: none) and a text with
    `.` for fine, `n` for nan, `+` and `-` for the infinities, the first that is hit of these."""
    size = len(values)
    if not size:
        return np.empty(0), np.empty(0), ""
    bounds = edges(np, size, min(columns, size))
    starts = bounds[:-1]
    data = np.asarray(values)
    data = data if data.dtype == np.float64 else data.astype(np.float64)
    marks = "." * len(starts)
    with np.errstate(all="ignore"):
        lows, highs = np.minimum.reduceat(data, starts), np.maximum.reduceat(data, starts)
        if np.isfinite(lows).all() and np.isfinite(highs).all():
            return lows, highs, marks  # nan and infinities come through minimum and maximum
        good = np.isfinite(data)
        lows = np.minimum.reduceat(np.where(good, data, np.inf), starts)
        highs = np.maximum.reduceat(np.where(good, data, -np.inf), starts)
    empty = ~np.isfinite(lows)
    lows[empty] = highs[empty] = np.nan
    signs = list(marks)
    places = np.flatnonzero(~good)
    parts = np.searchsorted(starts, places, side="right") - 1
    first, where = np.unique(parts, return_index=True)
    for part, at in zip(first.tolist(), places[where].tolist()):
        value = data[at]
        signs[part] = "n" if value != value else "+" if value > 0 else "-"
    return lows, highs, "".join(signs)


def means(np: types.ModuleType, values: object, columns: int) -> Array:
    """The mean of the finite cells of each column, nan where there is none."""
    data = np.asarray(values)
    data = data if data.dtype == np.float64 else data.astype(np.float64)
    starts = edges(np, data.size, columns)[:-1]
    good = np.isfinite(data)
    with np.errstate(all="ignore"):
        sums = np.add.reduceat(np.where(good, data, 0.0), starts)
        return sums / np.add.reduceat(good.astype(np.float64), starts)


def histogram(np: types.ModuleType, values: object, bins: int, log: bool = False) -> dict[str, object]:
    """Counts of the finite cells in `bins` equal parts of their range, and the counts of the others."""
    data = np.asarray(values).reshape(-1)
    data = data if data.dtype.kind == "f" else data.astype(float)
    good = data[np.isfinite(data)]
    if log:
        good = good[good > 0]
    found: dict[str, object] = {"nan": int(np.isnan(data).sum()), "+inf": int((data == np.inf).sum())}
    found.update({"-inf": int((data == -np.inf).sum()), "left out": int(np.isfinite(data).sum() - good.size)})
    if not good.size:
        return {**found, "counts": [], "low": 0.0, "high": 0.0}
    low, high = float(good.min()), float(good.max())
    if low == high:
        spread = abs(low) * 1e-3 or 0.5
        low, high = low - spread, high + spread
    if log:
        counts, _ = np.histogram(np.log10(good), bins, (np.log10(low), np.log10(high)))
    else:
        counts, _ = np.histogram(good / 2, bins, (low / 2, high / 2))  # halves: the range may be too large for a float
    return {**found, "counts": counts.tolist(), "low": low, "high": high}


def blocks(np: types.ModuleType, table: Array, rows: int, columns: int) -> tuple[Array, list[str]]:
    """A table reduced to at most rows x columns: of each block the finite cell furthest from the mean of all, and
    a row of marks for the bad cells (as in `extremes`)."""
    height, width = table.shape
    rows, columns = min(rows, height), min(columns, width)
    at_rows, at_columns = edges(np, height, rows), edges(np, width, columns)
    sample = table[:: max(1, height // 500), :: max(1, width // 500)].astype(float)
    fine = sample[np.isfinite(sample)]
    middle = float(fine.mean()) if fine.size else 0.0
    out = np.full((rows, columns), np.nan)
    marks = []
    for r in range(rows):
        strip = np.asarray(table[at_rows[r] : at_rows[r + 1]], dtype=float)
        good = np.isfinite(strip)
        away = np.where(good, np.abs(strip - middle), -1.0)
        best = np.take_along_axis(strip, away.argmax(axis=0)[None, :], 0)[0]
        depth = away.max(axis=0)
        signs = ["."] * columns
        for c in range(columns):
            part = slice(at_columns[c], at_columns[c + 1])
            deep = depth[part]
            if deep.size and deep.max() >= 0:
                out[r, c] = best[part][deep.argmax()]
            if not good[:, part].all():
                bad = strip[:, part][~good[:, part]][0]
                signs[c] = "n" if bad != bad else "+" if bad > 0 else "-"
        marks.append("".join(signs))
    return out, marks


def scatter(np: types.ModuleType, x: Array, y: Array, columns: int, rows: int) -> dict[str, object]:
    """Counts of points in columns x rows cells over their common finite range, and how many are left out."""
    x, y = np.asarray(x, dtype=float), np.asarray(y, dtype=float)
    good = np.isfinite(x) & np.isfinite(y)
    left_out = int(good.size - good.sum())
    if not good.any():
        return {"counts": [], "left out": left_out, "x": [0.0, 1.0], "y": [0.0, 1.0]}
    x, y = x[good], y[good]
    ranges = []
    for values in (x, y):
        low, high = float(values.min()), float(values.max())
        if low == high:
            low, high = low - (abs(low) * 1e-3 or 0.5), high + (abs(high) * 1e-3 or 0.5)
        ranges.append((low, high))
    counts, _, _ = np.histogram2d(x, y, (columns, rows), ranges)
    return {"counts": counts.T[::-1].astype(int).tolist(), "left out": left_out, "x": ranges[0], "y": ranges[1]}


def boxes(np: types.ModuleType, values: object, groups: Any, most: int = 12) -> list[dict[str, object]]:
    """Minimum, quartiles and maximum of the finite values of each group, the largest groups first."""
    names: list[object] = list(groups)
    order: dict[object, list[int]] = {}
    for place, name in enumerate(names):
        order.setdefault(name, []).append(place)
    data = np.asarray(values, dtype=float)
    found = []
    for name, places in sorted(order.items(), key=lambda pair: -len(pair[1]))[:most]:
        part = data[places]
        good = part[np.isfinite(part)]
        five = [float(v) for v in np.percentile(good, [0, 25, 50, 75, 100])] if good.size else []
        found.append({"name": str(name), "five": five, "count": len(places), "bad": int(part.size - good.size)})
    return found
