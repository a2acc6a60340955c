"""Rows of a ledger that an expression over its columns chooses: `head < 0 and total > 3`."""

from __future__ import annotations

import ast
import cmath
import math
from collections.abc import Callable
from typing import Any

from ..core.records import record
from ..values.snapshot import FIGURES, MISSING
from .retention import Row

NUMBER = "number"  # of the pass
NODES = (
    *(ast.Expression, ast.BoolOp, ast.BinOp, ast.UnaryOp, ast.Compare, ast.Call, ast.Name, ast.Constant, ast.Attribute),
    *(ast.IfExp, ast.Tuple, ast.List, ast.Set, ast.Load, ast.boolop, ast.operator, ast.unaryop, ast.cmpop),
)


def _of_any(real: Callable[[float], object], other: Callable[[complex], object]) -> Callable[[Any], object]:
    return lambda v: other(v) if isinstance(v, complex) else real(v)


FUNCTIONS: dict[str, object] = {
    **{f.__name__: f for f in (abs, min, max, round, int, float, len, bool, str)},
    **{name: getattr(math, name) for name in ("sqrt", "log", "log10", "exp", "floor", "ceil")},
    "isnan": _of_any(math.isnan, cmath.isnan),
    "isinf": _of_any(math.isinf, cmath.isinf),
    "isfinite": _of_any(math.isfinite, cmath.isfinite),
    "nan": math.nan,
    "inf": math.inf,
}


class Unusable(Exception):
    """The expression cannot be a filter; the text says why."""


@record
class FilterResult:
    rows: list[int]  # places of the rows for which it holds
    failed: int = 0  # rows for which it raised
    why: str = ""  # of the first of them


def choose(text: str, labels: tuple[str, ...], rows: list[tuple[int, Row]]) -> FilterResult:
    """The rows for which `text` is true.  Names are the columns (of an array: `inflow.mean`), `number` is the pass.

    Raises Unusable when the text is no such expression.
    """
    code = _compiled(text, labels)
    found: list[int] = []
    failed, why = 0, ""
    for at, (number, row) in enumerate(rows):
        names = {NUMBER: number, **{_hidden(n): v for n, v in enumerate(row) if v is not MISSING}}
        try:
            if eval(code, {"__builtins__": {}, **FUNCTIONS}, names):
                found.append(at)
        except Exception as e:
            failed += 1
            why = why or f"in pass {number}: {_reason(e, labels)}"
    return FilterResult(found, failed, why)


def _hidden(number: int) -> str:
    return f"·{number}"


def _reason(e: Exception, labels: tuple[str, ...]) -> str:
    if isinstance(e, NameError) and e.name and e.name.startswith("·"):
        return f"{labels[int(e.name[1:])]} is not assigned"
    return f"{type(e).__name__}: {e}"


def _compiled(text: str, labels: tuple[str, ...]) -> Any:
    try:
        tree = ast.parse(text.strip(), "<filter>", mode="eval")
    except (SyntaxError, ValueError, RecursionError, MemoryError) as e:
        raise Unusable(f"`{text}` is not an expression: {getattr(e, 'msg', e)}.") from None
    tree = ast.fix_missing_locations(_Columns(labels).visit(tree))
    for node in ast.walk(tree):
        if isinstance(node, ast.Call) and not (
            isinstance(node.func, ast.Name) and callable(FUNCTIONS.get(node.func.id))
        ):
            raise Unusable(f"A filter calls only {', '.join(n for n, f in FUNCTIONS.items() if callable(f))}.")
        if isinstance(node, ast.Attribute) and node.attr not in (*FIGURES, "shape"):
            raise Unusable(f"Of an array a filter knows {', '.join(FIGURES)} and shape, not {node.attr}.")
        if isinstance(node, ast.Name) and node.id not in FUNCTIONS and node.id != NUMBER and node.id[0] != "·":
            raise Unusable(f"There is no column {node.id}. There are {', '.join(labels)}, and number, of the pass.")
        if isinstance(node, (ast.Pow, ast.LShift)):
            continue
        if not isinstance(node, NODES):
            raise Unusable(f"A filter may not hold {type(node).__name__}: it compares columns, like head < 0.")
    return compile(tree, "<filter>", "eval", dont_inherit=True)


class _Columns(ast.NodeTransformer):
    """Puts the columns in the place of their names: `flow[day]` is one too."""

    def __init__(self, labels: tuple[str, ...]) -> None:
        self.by_text: dict[str, int] = {}
        for number, label in enumerate(labels):
            try:
                self.by_text[ast.unparse(ast.parse(label, mode="eval"))] = number
            except (SyntaxError, ValueError):
                self.by_text[label] = number

    def visit(self, node: ast.AST) -> Any:
        if isinstance(node, (ast.Name, ast.Attribute, ast.Subscript)):
            number = self.by_text.get(ast.unparse(node))
            if number is not None:
                return ast.Name(_hidden(number), ast.Load())
        return self.generic_visit(node)
