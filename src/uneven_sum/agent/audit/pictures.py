"""Small pictures of a finding: where the cells are, and the course of numbers, reduced to what a panel can show."""

from __future__ import annotations

import math
import types
from collections.abc import Iterable

from ..core.data_types import Array
from ..values.downsample import edges, extremes

ROWS, COLUMNS = 8, 42


def cells(np: types.ModuleType, title: str, mask: Array) -> list[dict[str, object]]:
    """A map of the marked cells: the share of them in each block of the array, rows down, all other axes across."""
    if not getattr(mask, "ndim", 0) or mask.size < 2:
        return []
    table = mask.reshape(1, -1) if mask.ndim == 1 else mask.reshape(mask.shape[0], -1)
    height, width = table.shape
    down, across = edges(np, height, min(ROWS, height)), edges(np, width, min(COLUMNS, width))
    sums = np.add.reduceat(np.add.reduceat(table.astype(np.int64), down[:-1], axis=0), across[:-1], axis=1)
    shares = sums / (np.diff(down)[:, None] * np.diff(across)[None, :])
    return [{"title": title, "shares": [[round(float(v), 4) for v in row] for row in shares], "shape": [height, width]}]


def course(np: types.ModuleType, title: str, lines: dict[str, object]) -> list[dict[str, object]]:
    """Curves over the same cells or passes: lowest and highest value of each column."""
    shown = []
    for name, values in lines.items():
        lows, highs, _ = extremes(np, np.ravel(values), 2 * COLUMNS)
        shown.append({"name": name, "lows": _numbers(lows), "highs": _numbers(highs)})
    size = max((int(np.size(v)) for v in lines.values()), default=0)
    return [{"title": title, "lines": shown, "size": size}] if size > 2 else []


def by_pass(title: str, points: list[tuple[int, float]], name: str) -> list[dict[str, object]]:
    """A curve of single values at passes that rise."""
    if len(points) < 3:
        return []
    values = _numbers(value for _, value in points)
    line = {"name": name, "lows": values, "highs": values}
    return [{"title": title, "lines": [line], "size": points[-1][0], "first": points[0][0]}]


def _numbers(values: Iterable[float]) -> list[float | None]:
    return [float(v) if math.isfinite(v) else None for v in values]
