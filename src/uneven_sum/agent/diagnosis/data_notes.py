"""What of the data an error is about: where it does not increase, which label stands twice, where a refused text is,
what weights sum to, which line of a file, which bytes."""

from __future__ import annotations

import ast
import contextlib
import os
import re
from collections.abc import Iterator
from typing import Any

from ..core.text import clean, plural, str_of
from ..core.type_identity import is_one_of
from ..values import nonfinite
from ..values.describe import text_of
from ..values.safe_read import read_attribute, safe_kind
from .reasons import NONE, Reason

MOST = 1_000_000  # cells that are looked at
AROUND = 12  # bytes around one that cannot be decoded
OF_ORDER = re.compile(r"increasing|sorted|monoton|ascending", re.I)
OF_LABELS = re.compile(r"duplicate (labels|axis|entries|names|keys)|Reindexing only valid with uniquely", re.I)
OF_WEIGHTS = re.compile(r"(do not|must) sum to 1|pvals.*sum", re.I)
OF_LINE = re.compile(r"Expected \d+ fields in line (\d+), saw \d+")
OF_CAST = re.compile(r"Cannot cast ufunc '[^']+' output from dtype\('([^']+)'\) to dtype\('([^']+)'\)")
OF_POWER = re.compile(r"Integers to negative integer powers")


def of_error(exc: BaseException, operands: list[object], node: ast.AST | None) -> Reason:
    """`operands`: the values of the term that raised; `node`: that term."""
    said = str_of(exc)
    if isinstance(exc, UnicodeDecodeError):
        return _bytes(exc)
    if isinstance(exc, ValueError) and OF_ORDER.search(said):
        falls = [_falls(cells) for cells in _columns(operands)]
        at = 1 if "bins" in said and len(falls) > 1 else 0
        return next(filter(None, [*falls[at:], *falls[:at]]), NONE)
    if isinstance(exc, ValueError) and OF_LABELS.search(said):
        return next(filter(None, map(_twice, operands)), NONE)
    if isinstance(exc, ValueError) and OF_WEIGHTS.search(said):
        return next(filter(None, map(_sum, _columns(operands))), NONE)
    if isinstance(exc, ValueError) and (line := OF_LINE.search(said)):
        return _line(operands, int(line[1]))
    if isinstance(exc, TypeError) and (cast := OF_CAST.search(said)) and isinstance(node, ast.AugAssign):
        name, longer = ast.unparse(node.target), ast.unparse(ast.BinOp(node.target, node.op, node.value))
        return Reason("cast-in-place", f"{name} stays {cast[2]} in place; {name} = {longer} makes another array")
    if isinstance(exc, ValueError) and OF_POWER.search(said):
        return Reason("integer-power", "floats have such powers, integers have none")
    return NONE


def place_of_text(text: str, operands: list[object]) -> str:
    """Where a refused text is in a column or array of texts, and in how many cells; empty where it is in none."""
    np = nonfinite.module("numpy")
    for cells in _columns(operands):
        if np is None or len(cells) < 2:
            continue
        same = np.flatnonzero(np.fromiter((is_one_of(type(one), str) and one == text for one in cells), bool))
        if same.size:
            many = f", in {same.size} of {plural(len(cells), 'cell')}" if same.size > 1 else ""
            return f"first at [{int(same[0])}]{many}"
    return ""


def _columns(operands: list[object]) -> Iterator[Any]:
    """The operands that are one row of values: lists, arrays, series."""
    np = nonfinite.module("numpy")
    for value in operands:
        if is_one_of(type(value), list, tuple):
            yield value
            continue
        shape = read_attribute(value, "shape")
        if np is None or not safe_kind(type(value)) or not isinstance(shape, tuple):
            continue
        if len(shape) == 1 and 0 < shape[0] <= MOST:
            with contextlib.suppress(Exception):
                yield np.asarray(value)


def _falls(cells: Any) -> Reason | None:
    """The first place where values do not increase."""
    if is_one_of(type(cells), list, tuple):
        plain = len(cells) <= MOST and all(is_one_of(type(one), int, float) for one in cells)
    else:
        plain = cells.dtype.kind in "fiuMm"
    for place in range(1, len(cells) if plain else 0):
        before, after = cells[place - 1], cells[place]
        if not after > before:
            both = f"{text_of(before)} at [{place - 1}], {text_of(after)} at [{place}]"
            return Reason("not-increasing", f"it does not increase: {both}")
    return None


def _twice(value: object) -> Reason | None:
    """The first label that stands twice among the rows of a frame or series."""
    index: Any = read_attribute(value, "index") if nonfinite.is_frame(value) else None
    if index is None or not hasattr(index, "duplicated") or len(index) > MOST:
        return None
    again = index.duplicated(keep=False)
    rows = again.nonzero()[0]
    if not len(rows):
        return None
    label = index[rows[0]]
    same = [int(n) for n in rows if index[n] == label][:2]
    return Reason("labels-twice", f"label {text_of(label)} stands at rows {same[0]} and {same[1]}")


def _sum(cells: Any) -> Reason | None:
    np = nonfinite.module("numpy")
    with contextlib.suppress(Exception):
        numbers = np.asarray(cells)
        if numbers.dtype.kind == "f" and abs(float(numbers.sum()) - 1.0) > 1e-9:
            return Reason("not-one", f"they sum to {float(numbers.sum()):.10g}")
    return None


def _line(operands: list[object], number: int) -> Reason:
    """A line of a file."""
    for value in operands:
        path = value if type(value) is str else str(value) if isinstance(value, os.PathLike) else ""
        if path and os.path.isfile(path):
            with contextlib.suppress(OSError), open(path, encoding="utf-8", errors="replace") as f:
                for count, line in enumerate(f, 1):
                    if count == number:
                        return Reason("line", f"line {number} is `{clean(line.strip(), 80)}`")
    return NONE


def _bytes(exc: UnicodeDecodeError) -> Reason:
    """Bytes that are no text in the encoding, and what they are in another one."""
    data, start = exc.object, exc.start
    if data[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return Reason("encoding", "the file begins as one in UTF-16", near=("utf-16",))
    if exc.encoding.lower().replace("_", "-") not in ("utf-8", "ascii"):
        return NONE
    first = max(data.rfind(b"\n", 0, start) + 1, start - AROUND)
    text = data[first : start + AROUND].partition(b"\n")[0]
    with contextlib.suppress(UnicodeDecodeError):
        shown = text.decode("cp1252").strip()
        if shown.isprintable():
            return Reason("encoding", f"in the encoding cp1252 it reads `{shown}`", near=("cp1252",))
    return NONE
