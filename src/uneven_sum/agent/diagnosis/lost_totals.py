"""Totals that are lost to a few missing values: `np.mean(flow)` is nan by one cell of a column that was read.

A nan that was there, or was put there on purpose, does not pause where it is passed on.  Where it makes nan of a whole
total, a script may end in nan without a pause: the first such total of a run is one.
"""

from __future__ import annotations

import ast
import types
from collections.abc import Iterator
from typing import Any

from ..core.records import record
from ..core.text import clean
from ..frames.exception_handlers import statement_at
from ..frames.namespace import Scope
from ..frames.stack import user_frame
from ..source.call_lists import TOTALS
from ..source.registry import file_of
from ..source.sites import callee
from ..source.source_file import SourceFile, Statement
from ..values import nonfinite, quick_look
from ..values.describe import text_of
from .gaps import is_handled
from .provenance import Unreadable, read

MANY = 10_000_000  # cells of an operand that are counted
REASON = "lost-total"
LEAVES = (ast.Name, ast.Attribute, ast.Subscript)


@record
class LostTotal:
    """`missing` of the `size` values of `operand` make `total` nan."""

    missing: int
    size: int
    operand: ast.AST
    total: ast.AST
    held: object  # by the operand

    def sentence(self) -> str:
        operand, total = clean(ast.unparse(self.operand), 60), clean(ast.unparse(self.total), 80)
        makes = "makes" if self.missing == 1 else "make"
        return f"{self.missing} nan among the {self.size} values of {operand} {makes} {total} nan"

    def mark(self, apart: dict[str, Any], file: SourceFile) -> None:
        """Make the total the culprit of a statement that was taken apart; see `report.examine`."""
        text = file.segment(self.total)
        term: dict[str, Any] = next(
            (t for t in apart["terms"] if t["text"] == text), {"text": text, "value": "nan", "type": ""}
        )
        term["culprit"] = True
        apart["culprit"] = {
            **{name: term[name] for name in ("text", "value", "type")},
            "operands": [{"text": file.segment(self.operand), "value": text_of(self.held)}],
            **{
                "cell": None,
                "reason": "",
                "reason_kind": REASON,
                "near": [],
                "shapes": [],
                "element": "",
                "sender": "",
            },
        }


def is_all_nan(value: Any) -> bool:
    """True for a float that is nan, and for an array or a tuple of nothing else."""
    if type(value) is float or type(value) is quick_look.float64:
        return bool(value != value)
    if isinstance(value, tuple):
        return 0 < len(value) <= 16 and all(is_all_nan(v) for v in value)
    np = nonfinite.module("numpy")
    if np is None or type(value) is not np.ndarray or not value.size or value.dtype.kind not in "fc":
        return False
    return value.size <= MANY and bool(np.isnan(value.flat[0])) and bool(np.isnan(value).all())


def lost(node: ast.AST, statement: Statement, frame: types.FrameType) -> LostTotal | None:
    """The first total in an expression that is nan by a few values of an operand, where that is not looked for."""
    if _is_tested(statement, frame):
        return None
    scope = Scope(frame)
    for total in ast.walk(node):
        if isinstance(total, ast.Call) and callee(total) in TOTALS:
            parts = [a.value if isinstance(a, ast.Starred) else a for a in total.args]
            parts += [total.func.value] if isinstance(total.func, ast.Attribute) else []
        elif isinstance(total, ast.BinOp) and isinstance(total.op, ast.MatMult):
            parts = [total.left, total.right]
        else:
            continue
        for part in parts:
            for leaf, value in _values(part, scope):
                missing, size = _count(value)
                if 0 < missing < size:
                    return LostTotal(missing, size, leaf, total, value)
    return None


def _is_tested(statement: Statement, frame: types.FrameType) -> bool:
    """True where what the statement makes is tested, filled or left out: by its function, or by the caller of that."""
    node = statement.node
    if isinstance(node, ast.Return):
        outer = user_frame(frame.f_back)
        file = file_of(outer) if outer is not None else None
        calling = statement_at(file, outer) if outer is not None and file is not None else None
        if outer is None or calling is None or isinstance(calling.node, ast.Return):
            return False
        return _is_tested(calling, outer)
    made: ast.AST = ast.Constant(None)
    if isinstance(node, ast.Expr) and isinstance(node.value, ast.Call) and isinstance(node.value.func, ast.Attribute):
        made = node.value.func.value  # `means.append(…)`
    elif isinstance(node, (ast.AugAssign, ast.AnnAssign)):
        made = node.target
    return is_handled(made, statement)


def _values(node: ast.AST, scope: Scope) -> Iterator[tuple[ast.AST, object]]:
    """The names, attributes and items in an expression that can be read, with their values."""
    if isinstance(node, LEAVES):
        try:
            yield node, read(node, scope)
            return
        except Unreadable:
            pass
    for child in ast.iter_child_nodes(node):
        if isinstance(node, ast.Call) and child is node.func:
            child = getattr(child, "value", child)  # the object of a method
        if isinstance(child, ast.expr):
            yield from _values(child, scope)


def _count(value: Any) -> tuple[int, int]:
    """How many values of an array, a series or a list of numbers are nan, and how many there are; of others none."""
    np, pd = nonfinite.module("numpy"), nonfinite.module("pandas")
    if isinstance(value, (list, tuple)):
        numbers = [
            v
            for v in nonfinite.plain_list(value)
            if type(v) is float or type(v) is quick_look.float64 or type(v) is int
        ]
        return sum(v != v for v in numbers), len(numbers)
    is_array = np is not None and type(value) is np.ndarray and value.dtype.kind in "fc"
    if not is_array and not (pd is not None and isinstance(value, (pd.Series, pd.DataFrame))):
        return 0, 0
    size = int(value.size)
    return (int(np.count_nonzero(nonfinite.nan_mask(value))), size) if size <= MANY else (0, size)
