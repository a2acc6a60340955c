"""Expressions and matrices of SymPy, numbers and matrices of mpmath: their own text."""

from __future__ import annotations

from typing import Any

from ...core.text import clean
from ..nonfinite import module
from .base import Fact, Kind, Pair, Summary, register

NODES = 400  # of an expression whose text is made
CELLS = 64  # of a matrix
DIGITS = 20
LONGEST = 200  # characters


def _home(kind: type) -> str:
    return str(type.__getattribute__(kind, "__module__") or "").partition(".")[0]


def _is_symbolic(kind: type) -> bool:
    """An undefined function has a class of its own, without a module."""
    made = any(_home(base) == "sympy" for base in type.__dict__["__mro__"].__get__(kind))
    return made and _home(kind) in ("sympy", "") and hasattr(kind, "args") and hasattr(kind, "free_symbols")


def _is_matrix(kind: type) -> bool:
    return _home(kind) == "sympy" and hasattr(kind, "applyfunc") and hasattr(kind, "tolist")


def _is_precise(kind: type) -> bool:
    return _home(kind) == "mpmath" and hasattr(kind, "__add__")


def _nodes(value: Any) -> int | None:
    """How many parts an expression has; None beyond NODES, or where one is of a class of the script's."""
    todo, count = [value], 0
    while todo:
        node = todo.pop()
        count += 1
        if count > NODES or _home(type(node)) not in ("sympy", ""):
            return None
        todo += list(getattr(node, "args", ()))
    return count


def _expression(value: Any) -> Summary:
    if _nodes(value) is None:
        return {"text": f"an expression, {type(value).__name__} of {len(value.args)} parts", "kind": "object"}
    return {"text": clean(str(value), LONGEST), "kind": "scalar" if not value.args else "object"}


def _parts(value: Any, start: int, count: int) -> list[Pair]:
    return [(f"args[{n}]", part) for n, part in enumerate(value.args)][start : start + count]


def _facts(value: Any) -> list[Fact]:
    if _nodes(value) is None:
        return []
    symbols = ", ".join(sorted(map(str, value.free_symbols))) or "none"
    return [("symbols", clean(symbols, 80)), ("kind", type(value).__name__)]


def _matrix(value: Any) -> Summary:
    rows, columns = (int(n) for n in value.shape)
    size = f"{rows} x {columns} matrix"
    cells = list(value) if rows * columns <= CELLS else []
    if not cells or any(_nodes(cell) is None for cell in cells):
        return {"shape": [rows, columns], "kind": "object", "text": f"{size} of expressions"}
    listed = ", ".join("[" + ", ".join(map(str, value.tolist()[r])) + "]" for r in range(rows))
    return {"shape": [rows, columns], "kind": "object", "text": clean(f"{size} [{listed}]", LONGEST)}


def _cells(value: Any, start: int, count: int) -> list[Pair]:
    columns = int(value.shape[1])
    last = min(start + count, int(value.shape[0]) * columns)
    return [(f"[{n // columns}, {n % columns}]", value[n // columns, n % columns]) for n in range(start, last)]


def _precise(value: Any) -> Summary:
    """A number with its first digits, however many it has."""
    mp = module("mpmath")
    if hasattr(type(value), "rows"):
        return _precise_matrix(value)
    text = mp.nstr(value, DIGITS) if mp is not None else str(value)
    return {"text": clean(str(text), LONGEST), "kind": "scalar"}


def _precise_matrix(value: Any) -> Summary:
    mp, rows, columns = module("mpmath"), int(value.rows), int(value.cols)
    size = f"{rows} x {columns} matrix"
    if mp is None or rows * columns > CELLS:
        return {"shape": [rows, columns], "kind": "object", "text": f"{size} of mpmath"}
    listed = ", ".join("[" + ", ".join(mp.nstr(value[r, c], 6) for c in range(columns)) + "]" for r in range(rows))
    return {"shape": [rows, columns], "kind": "object", "text": clean(f"{size} [{listed}]", LONGEST)}


def _precise_count(value: Any) -> int:
    return int(value.rows) * int(value.cols) if hasattr(type(value), "rows") else 0


def _precise_cells(value: Any, start: int, count: int) -> list[Pair]:
    last = min(start + count, _precise_count(value))
    columns = int(value.cols) if last else 1
    return [(f"[{n // columns}, {n % columns}]", value[n // columns, n % columns]) for n in range(start, last)]


register(Kind(_matrix, None, lambda v: int(v.shape[0]) * int(v.shape[1]), _cells), test=_is_matrix)
register(Kind(_expression, _facts, lambda v: len(v.args), _parts), test=_is_symbolic)
register(Kind(_precise, None, _precise_count, _precise_cells), test=_is_precise)
