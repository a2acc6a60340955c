"""The requests of the Close-up: facts, pages of the grid, plots, comparison, matrix figures, export.

A value is named by its expression.  What can be read without running code is looked at in place; all else
is evaluated in a trial, again for each request, and only the page or the reduced series comes back.
"""

from __future__ import annotations

import ast
import contextlib
import os
import types
from collections.abc import Callable
from typing import Any

from ..core import run_state
from ..core.errors import Refused
from ..core.markers import MISSING
from ..core.records import fact
from ..diagnosis import provenance, text_notes
from ..diagnosis.decompose import quietly
from ..frames.namespace import Scope
from ..trials import trial
from ..values import compare, downsample, nonfinite, text_windows
from ..values.describe import children, children_count, facts, find, properties, summary
from ..values.grid_page import (
    b64,
    bad_in_frame,
    cell_marks,
    column_floats,
    column_picture,
    dates,
    fitting_rows,
    numeric_columns,
    reduced_boxes,
    reduced_image,
    reduced_series,
)
from ..values.kinds.grids import BadSlice, Grid, default_slice
from ..values.safe_read import read_attribute
from ..values.statistics import bad_places
from .declare import Body, request
from .exchange import Exchange, Part

LONG = 60.0  # seconds that a matrix figure may take
KEPT_CELLS = 200_000  # of an array whose cells at the last pause are kept
KEPT_BYTES = 64 << 20

Work = Callable[[Any], Body]


@fact
class Shown:
    """A value by its expression in a call, and how its grid is shown: slice, sorted by, filtered."""

    expression: str = ""
    frame_id: int = 0
    slice: str = ""
    sort: dict[str, Any] | None = None  # column, down
    filter: str = ""


@fact
class Page:
    """A part of a grid."""

    row: int = 0
    column: int = 0
    rows: int = 40
    columns: int = 12


@fact
class Picture:
    """A plot: its kind, its size in character cells, the columns and rows that it shows."""

    kind: str = "line"
    width: int = 80
    height: int = 20
    columns: list[int] | None = None
    first: int = 0
    last: int = 0
    log: bool = False


class CloseupRequests(Part):
    """One value: facts, grid, plots, comparison, matrix figures, export."""

    def __init__(self, exchange: Exchange) -> None:
        super().__init__(exchange)
        self.orders: dict[object, object] = {}  # rows of sorted and filtered grids
        self.pictures: dict[object, Body] = {}  # of columns, until the script continues
        self.copies: dict[str, Any] = {}  # arrays as they were at the last pause

    # -- the value -----------------------------------------------------------------------------------

    def _with_value(self, of: Shown, work: Work, limit: float | None = None) -> Body:
        """What `work` makes of the value of `expression`: in place if it can be read, else in a trial."""
        frame, text = self.exchange.frame(of.frame_id), of.expression.strip()
        try:
            node = ast.parse(text, mode="eval").body
        except (SyntaxError, ValueError) as e:
            raise Refused(f"{text or 'This'} is not an expression: {getattr(e, 'msg', e)}.") from None
        try:
            value = provenance.read(node, Scope(frame))
        except provenance.Unreadable:
            return self._in_trial(text, frame, work, limit)
        with quietly():
            return _told(work, value)

    @staticmethod
    def _in_trial(text: str, frame: types.FrameType, work: Work, limit: float | None) -> Body:
        scope = Scope(frame)

        def answer() -> Body:
            names = {**scope.globals, **scope.locals, "__builtins__": scope.builtins}
            with quietly():
                return {"told": _told(work, eval(compile(text, "<asked>", "eval", dont_inherit=True), names))}

        try:
            found = trial.run(answer, limit)
        except trial.Impossible as e:
            raise Refused(f"{text} must be evaluated in a copy, and no copy can be made: {e}.") from None
        if "failed" in found:
            raise Refused(f"{text} could not be evaluated: {found['failed']}.")
        told: dict[str, Any] = found["told"]
        if "·wrong" in told:
            raise Refused(told["·wrong"])
        return told

    def forget(self) -> None:
        self.orders.clear()
        self.pictures.clear()

    def keep_copies(self, names: dict[str, Any]) -> None:
        """The cells of moderate arrays as they are now, to mark at the next pause those that changed."""
        np = nonfinite.module("numpy")
        self.copies = {}
        room = KEPT_BYTES
        if np is None:
            return
        for name, value in names.items():
            if type(value) is np.ndarray and value.dtype.kind in "fiubc" and value.size <= KEPT_CELLS:
                room -= value.nbytes
                if room < 0:
                    return
                self.copies[name] = value.copy()

    # -- facts ---------------------------------------------------------------------------------------

    @request("unevenSum/closeup")
    def closeup(self, of: Shown) -> Body:
        """The summary, the facts, and which grid, plots, parts and texts there are.  Of a call of a regular expression
        the facts tell what each piece of it took."""
        frame = self.exchange.frame(of.frame_id)

        def work(value: object) -> Body:
            matching = text_notes.of_call(of.expression, Scope(frame))
            kind = find(type(value))
            grid = None
            if kind.grid is not None:
                shape = _safely(value, "shape")
                with contextlib.suppress(Exception):
                    made = kind.grid(value)
                    many = isinstance(shape, tuple) and len(shape) > 2
                    grid = {"rows": made.rows, "columns": made.columns, "slice": default_slice(shape) if many else ""}
            plots: list[str] = []
            with contextlib.suppress(Exception):
                plots = kind.plots(value) if kind.plots is not None else []
            two = _safely(value, "ndim") == 2 and getattr(_safely(value, "dtype"), "kind", "?") in "fiuc"
            return {
                "summary": summary(value),
                "facts": [[a, b] for a, b in [*facts(value), *matching]],
                "grid": grid,
                "plots": plots,
                "children": children_count(value),
                "reader": kind.text is not None,
                "matrix": bool(two),
                "properties": properties(value)[:40],
            }

        return self._with_value(of, work)

    @request("unevenSum/parts")
    def parts(self, of: Shown, start: int = 0, count: int = 100) -> Body:
        """A page of a value's parts: name, summary, and whether they have parts of their own."""

        def work(value: object) -> Body:
            pairs = children(value, start, count)
            told = [{"name": n, **summary(v), "parts": children_count(v)} for n, v in pairs]
            return {"parts": told, "total": children_count(value)}

        return self._with_value(of, work)

    @request("unevenSum/text")
    def text(self, of: Shown, around: int = 0, line: int = 0) -> Body:
        """A million characters of a text, for the reader: around a character, or from a line (from 1) on; control
        characters made visible."""

        def work(value: object) -> Body:
            text = _text_of(value)
            return text_windows.window(text, text_windows.at_line(text, line) if line else around)

        return self._with_value(of, work)

    @request("unevenSum/findText")
    def find_text(self, of: Shown, wanted: str, first: int = 0, last: int = 0, shown: int = 0) -> Body:
        """The next place of `wanted` in the whole of a text, after a place of the window that is shown."""
        return self._with_value(of, lambda value: text_windows.find(_text_of(value), wanted, first, last, shown))

    # -- the grid ------------------------------------------------------------------------------------

    def _grid(self, value: object, of: Shown) -> Grid:
        kind = find(type(value))
        try:
            found: Grid | None = None
            if kind.sliced is not None:
                found = kind.sliced(value, of.slice)
            elif kind.grid is not None:
                found = kind.grid(value)
            if found is None:
                raise Refused("This value has no rows and columns.")
            return found
        except BadSlice as e:
            raise Refused(str(e)) from None

    def _order(self, grid: Grid, of: Shown) -> Any:
        """The rows to show, in their order, when they are sorted or filtered; else None."""
        sort, wanted = of.sort, of.filter.strip()
        if sort is None and not wanted:
            return None
        np = nonfinite.module("numpy")
        if np is None or grid.take is None:
            raise Refused("This value cannot be sorted or filtered.")
        key = (of.expression, of.frame_id, of.slice, str(sort), wanted)
        if key in self.orders:
            return self.orders[key]
        rows = np.arange(grid.rows)
        if wanted:
            rows = rows[fitting_rows(np, grid, wanted)]
        if sort is not None:
            column = int(sort["column"])
            kind, data = grid.take(rows, column)
            if kind == "text":
                places = sorted(range(len(data)), key=data.__getitem__)
                rows = rows[places]
            else:
                rows = rows[np.argsort(data, kind="stable")]
            if sort.get("down"):
                rows = rows[::-1]
        self.orders[key] = rows
        return rows

    @request("unevenSum/page")
    def page(self, of: Shown, page: Page) -> Body:
        """A page of the grid: labels, and each column's cells as base64 of float64 or int64, or as texts; marks
        `!` for a bad cell, `m` for a masked one, `c` for one that changed since the last pause."""
        row, column = max(0, page.row), max(0, page.column)
        before = self.copies.get(of.expression)

        def work(value: object) -> Body:
            np = nonfinite.module("numpy")
            grid = self._grid(value, of)
            order = self._order(grid, of)
            total = grid.rows if order is None else len(order)
            last, end = min(total, row + (page.rows or 40)), min(grid.columns, column + (page.columns or 12))
            at = None if order is None else order[row:last]
            labels = grid.row_labels(row, last - row) if at is None else [grid.row_labels(int(r), 1)[0] for r in at]
            older = None
            if before is not None and np is not None and before.shape == _safely(value, "shape"):
                older = self._grid(before, of)
            told = []
            for c in range(column, end):
                # mypy: the grid is set here
                kind, data = grid.cells(c, row, last) if at is None else grid.take(at, c)  # type: ignore[misc]
                marks = cell_marks(np, kind, data)
                hidden = grid.masked(c, row, last) if grid.masked is not None and at is None else None
                if hidden is not None:
                    marks = "".join("m" if h else m for h, m in zip(hidden, marks))
                if older is not None and at is None and kind != "text":
                    past = older.cells(c, row, last)[1]
                    same = (past == data) | ((past != past) & (data != data))
                    marks = "".join(m if s or m != "." else "c" for s, m in zip(same.tolist(), marks))
                told.append({"kind": kind, "data": b64(data) if kind != "text" else data, "marks": marks})
            key = (of.expression, of.frame_id)
            pictures = []
            if np is not None and hasattr(grid.source, "iloc"):
                for c in range(column, end):
                    if (*key, c) not in self.pictures:
                        self.pictures[(*key, c)] = column_picture(np, grid, c)
                    pictures.append(self.pictures[(*key, c)])
            return {
                "pictures": pictures,
                "rows": total,
                "columns": grid.columns,
                "row": row,
                "column": column,
                "rowLabels": labels,
                "columnLabels": grid.column_labels(column, end - column),
                "cells": told,
            }

        return self._with_value(of, work)

    @request("unevenSum/findBad")
    def find_bad(self, of: Shown, row: int = -1, column: int = 0, back: bool = False) -> Body:
        """The next bad cell of the grid from (row, column), row by row; `back`: the one before."""

        def work(value: object) -> Body:
            np = nonfinite.module("numpy")
            grid = self._grid(value, of)
            source = grid.source
            if np is not None and isinstance(source, np.ndarray) and source.dtype.kind in "fc":
                after = row * grid.columns + column if row >= 0 else -1
                cells = source.reshape(-1, 1) if source.ndim < 2 else source
                found = bad_places(np, cells, 1, after, back)
                return {"found": [found[0] // grid.columns, found[0] % grid.columns] if found else None}
            if np is None or not hasattr(source, "iloc"):
                return {"found": None}
            return {"found": bad_in_frame(np, source, row, column, back)}

        return self._with_value(of, work)

    # -- plots ---------------------------------------------------------------------------------------

    @request("unevenSum/plot")
    def plot(self, of: Shown, picture: Picture) -> Body:
        """A plot's data, reduced to `width` columns (and `height` rows): see `values/downsample.py`."""
        return self._with_value(of, lambda value: self._plot(value, of, picture))

    def _plot(self, value: object, of: Shown, picture: Picture) -> Body:
        np = nonfinite.module("numpy")
        if np is None:
            raise Refused("Plots need numpy in the script.")
        kind, width, height = picture.kind or "line", max(4, picture.width or 80), max(4, picture.height or 20)
        columns = list(picture.columns or [])
        if isinstance(value, (list, tuple)):
            value = np.asarray(value, dtype=float)
        if kind == "image":
            return reduced_image(np, value, width, height)
        grid = self._grid(value, of)
        if kind == "heat":
            table = grid.source if getattr(grid.source, "ndim", 0) == 2 else np.asarray(grid.source).reshape(1, -1)
            out, marks = downsample.blocks(np, table, height, width)
            return {"shape": list(out.shape), "data": b64(out.astype("<f8")), "marks": marks, "of": list(table.shape)}
        if kind == "singular":
            found = np.linalg.svd(np.asarray(grid.source, dtype=float), compute_uv=False)
            return reduced_series(np, [("singular values", found)], 0, len(found), width)
        columns = columns or numeric_columns(np, grid)[: 1 if kind != "line" else 4]
        names = [grid.column_labels(c, 1)[0] for c in columns]
        first = max(0, picture.first)
        last = min(grid.rows, picture.last or grid.rows)
        if kind == "line":
            series = [(n, column_floats(np, grid, c, first, last)) for n, c in zip(names, columns)]
            return {**reduced_series(np, series, first, last, width), "dates": dates(grid.source, first, last)}
        if kind == "histogram":
            data = column_floats(np, grid, columns[0], first, last) if columns else np.empty(0)
            if getattr(grid.source, "ndim", 1) == 2 and not hasattr(grid.source, "iloc") and not picture.columns:
                data, names = np.asarray(grid.source, dtype=float), ["all cells"]
            return {"names": names[:1], **downsample.histogram(np, data, width, picture.log)}
        if kind == "scatter":
            if len(columns) < 2:
                columns = numeric_columns(np, grid)[:2]
            if len(columns) < 2:
                raise Refused("A scatter plot needs two columns of numbers.")
            x, y = (column_floats(np, grid, c, first, last) for c in columns[:2])
            told = downsample.scatter(np, x, y, width * 2, height * 4)
            return {"names": [grid.column_labels(c, 1)[0] for c in columns[:2]], **told}
        if kind == "frequent":
            column = columns[0] if columns else 0
            kind_, data = grid.cells(column, 0, min(grid.rows, 1_000_000))
            listed = data if kind_ == "text" else data.tolist()
            counts: dict[object, int] = {}
            for v in listed:
                counts[v] = counts.get(v, 0) + 1
            top = sorted(counts.items(), key=lambda pair: -pair[1])[:height]
            return {
                "names": [grid.column_labels(column, 1)[0]],
                "bars": [[str(k), n] for k, n in top],
                "distinct": len(counts),
            }
        if kind == "box":
            return reduced_boxes(np, grid, columns)
        raise Refused(f"There is no plot {kind}.")

    # -- comparison, matrices, export ----------------------------------------------------------------

    @request("unevenSum/compare")
    def compare(self, of: Shown, other: str = "", atol: float = 0.0, rtol: float = 0.0) -> Body:
        """What differs between a value and `other`: an expression, a file (NPY, CSV), or `·before`, itself at the last
        pause; beyond `atol` and `rtol`."""
        other, text = other.strip(), of.expression
        frame = self.exchange.frame(of.frame_id)
        np = nonfinite.module("numpy")
        if other == "·before":
            if text not in self.copies:
                raise Refused(f"{text} was not kept at the last pause: only arrays of moderate size are.")
            older = self.copies[text]
            return self._with_value(of, lambda value: compare.compare(np, value, older, atol, rtol))
        if os.path.splitext(other)[1].lower() in (".npy", ".csv"):
            if np is None:
                raise Refused("Files are compared with numpy, which the script does not use.")
            try:
                loaded = compare.load(np, os.path.expanduser(other))
            except (OSError, ValueError) as e:
                raise Refused(f"{other} cannot be read: {getattr(e, 'strerror', None) or e}.") from None
            return self._with_value(of, lambda value: compare.compare(np, value, loaded, atol, rtol))
        scope = Scope(frame)
        try:
            second = provenance.read(ast.parse(other, mode="eval").body, scope)
        except provenance.Unreadable:
            pair = f"({text}, {other})"
            return self._in_trial(pair, frame, lambda two: compare.compare(np, two[0], two[1], atol, rtol), trial.LIMIT)
        except SyntaxError:
            raise Refused(f"{other} is not an expression and no file of type .npy or .csv.") from None
        return self._with_value(of, lambda value: compare.compare(np, value, second, atol, rtol))

    @request("unevenSum/matrix")
    def matrix(self, of: Shown) -> Body:
        """Rank, condition number, norm, symmetry, definiteness, determinant, eigenvalues and singular values; in a
        trial, so that it can be given up."""
        np = nonfinite.module("numpy")
        if np is None:
            raise Refused("Matrix figures need numpy in the script.")
        frame = self.exchange.frame(of.frame_id)
        return self._in_trial(of.expression, frame, lambda value: {"facts": compare.matrix_facts(np, value)}, LONG)

    @request("unevenSum/export")
    def export(self, of: Shown, path: str = "") -> Body:
        """Writes the grid (its slice, sorted and filtered as shown) to a file: CSV, NPY or Parquet by its ending."""
        path = os.path.abspath(os.path.expanduser(path))

        def work(value: object) -> Body:
            grid = self._grid(value, of)
            try:
                return compare.export(grid, self._order(grid, of), path)
            except (OSError, ValueError) as e:
                raise Refused(f"{path} could not be written: {getattr(e, 'strerror', None) or e}.") from None

        frame = self.exchange.frame(of.frame_id)
        try:
            value = provenance.read(ast.parse(of.expression, mode="eval").body, Scope(frame))
        except (provenance.Unreadable, SyntaxError):
            raise Refused("Only a value that has a name can be written to a file.") from None
        return work(value)


def _text_of(value: object) -> str:
    kind = find(type(value))
    if kind.text is None:
        raise Refused("This value has no text to read.")
    return kind.text(value)


def _safely(value: object, name: str) -> Any:
    """An attribute that can be had without running code; None where it cannot."""
    found = read_attribute(value, name)
    return None if found is MISSING else found


def _told(work: Work, value: object) -> Body:
    """In a trial a refusal must travel as data."""
    try:
        return work(value)
    except Refused as e:
        if run_state.in_trial:
            return {"·wrong": str(e)}
        raise
    except BadSlice as e:
        if run_state.in_trial:
            return {"·wrong": str(e)}
        raise Refused(str(e)) from None
