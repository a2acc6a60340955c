"""A value as rows and columns of cells, of which only a page is ever taken."""

from __future__ import annotations

import ast
import types
from collections.abc import Callable
from typing import Any

from ...core.data_types import Array
from ...core.records import record
from ...core.text import clean
from ..nonfinite import module
from .base import text_of


class BadSlice(ValueError):
    """A slice that does not fit; the text says why."""


@record
class Grid:
    """`cells(column, first, last)` gives (kind, data): `f8` or `i8` with a numpy array, or `text` with a list of
    texts; `masked(column, first, last)` a list of bools or None."""

    rows: int
    columns: int
    row_labels: Callable[[int, int], list[str]]
    column_labels: Callable[[int, int], list[str]]
    cells: Callable[[int, int, int], tuple[str, Any]]
    masked: Callable[[int, int, int], Any] | None = None
    take: Callable[[object, int], tuple[str, Any]] | None = None  # cells of a column at these rows, in their order
    source: Any = None  # the array or frame that is shown, after the slice
    names: list[object] | None = None  # of columns, as the filter and the sort know them

    @property
    def named(self) -> bool:
        """True when the columns have names of their own, not just numbers."""
        return any(not label.isdigit() and label != "value" for label in self.column_labels(0, min(self.columns, 3)))


def parse_slice(text: str, ndim: int) -> tuple[Any, ...]:
    """`[3, :, ::2]` as an index.  BadSlice when it is no list of numbers and slices."""
    inner = text.strip().removeprefix("[").removesuffix("]").strip()
    if not inner:
        return ()
    try:
        node = ast.parse(f"_[{inner}]", mode="eval").body
        assert isinstance(node, ast.Subscript)
        parts = node.slice.elts if isinstance(node.slice, ast.Tuple) else [node.slice]
        index = tuple(_part(p) for p in parts)
    except (SyntaxError, ValueError, AssertionError):
        raise BadSlice(f"{text} is not a slice: numbers and slices between brackets, like [3, :, ::2].") from None
    if sum(part is not Ellipsis for part in index) > ndim:
        raise BadSlice(f"{text} has {len(index)} parts, the array {ndim} dimensions.")
    return index


def _part(node: ast.expr) -> object:
    if isinstance(node, ast.Slice):
        return slice(*[None if p is None else _whole(p) for p in (node.lower, node.upper, node.step)])
    if isinstance(node, ast.Constant) and node.value is Ellipsis:
        return Ellipsis
    return _whole(node)


def _whole(node: ast.expr) -> int:
    value = ast.literal_eval(node)
    if not isinstance(value, int):
        raise ValueError
    return value


def default_slice(shape: tuple[int, ...]) -> str:
    """What is shown first of an array of more than two dimensions: the last two at the first place."""
    return "[" + ", ".join(["0"] * (len(shape) - 2) + [":", ":"]) + "]" if len(shape) > 2 else ""


def numbered_grid(rows: int, columns: int, part: Callable[[int, int, int], tuple[str, object]], source: object) -> Grid:
    """A grid whose rows and columns are numbered.  `part` gives the cells of a column from a row to another."""
    return Grid(
        rows,
        columns,
        lambda start, count: [str(r) for r in range(start, min(rows, start + count))],
        lambda start, count: [str(c) for c in range(start, min(columns, start + count))],
        part,
        source=source,
    )


def array_grid(array: Array, text: str = "") -> Grid:
    """The grid of a numpy array, sliced so that at most two dimensions remain."""
    np = module("numpy")
    if not text.strip():
        text = default_slice(array.shape)
    try:
        shown = array[parse_slice(text, array.ndim)] if text else array
    except IndexError as e:
        raise BadSlice(f"{text} does not fit the shape {array.shape}: {e}.") from None
    shown = shown if isinstance(shown, np.ndarray) else np.asarray(shown, dtype=array.dtype)
    if shown.ndim > 2:
        raise BadSlice(f"{text} leaves {shown.ndim} dimensions; the grid shows two.")
    table = shown.reshape(1, 1) if shown.ndim == 0 else shown.reshape(-1, 1) if shown.ndim == 1 else shown
    names = list(table.dtype.names or ()) if table.shape[1] == 1 else []

    def column(c: int) -> Array:
        return table[:, 0][names[c]] if names else table[:, c]

    def masked(c: int, first: int, last: int) -> object:
        return np.ma.getmaskarray(column(c)[first:last]).tolist()

    columns = len(names) or table.shape[1]

    def column_labels(start: int, count: int) -> list[str]:
        if names:
            return names[start : start + count]
        return [str(c) if shown.ndim == 2 else "value" for c in range(start, min(columns, start + count))]

    return Grid(
        int(table.shape[0]),
        int(columns),
        lambda start, count: [str(r) for r in range(start, min(table.shape[0], start + count))],
        column_labels,
        lambda c, first, last: encoded(np, column(c)[first:last]),
        masked if isinstance(array, np.ma.MaskedArray) else None,
        lambda rows, c: encoded(np, column(c)[rows]),
        shown,
    )


def encoded(np: types.ModuleType, part: Array) -> tuple[str, object]:
    """A piece of a column: numbers as they are, all else as texts."""
    if isinstance(part, np.ma.MaskedArray):
        part = part.data
    kind = part.dtype.kind
    if kind == "f" and part.dtype.itemsize <= 8:
        return "f8", part.astype("<f8")
    if kind in "iu" and part.dtype.itemsize <= 8 and not (kind == "u" and part.dtype.itemsize == 8):
        return "i8", part.astype("<i8")
    return "text", [clean(v if isinstance(v, str) else text_of(v), 80) for v in part.tolist()] if kind in "OUS" else [
        clean(text_of(v), 80) for v in part
    ]
