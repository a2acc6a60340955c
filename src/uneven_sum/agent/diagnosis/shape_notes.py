"""What an operation did to shapes and dtypes, and where an index counts from the end, in words."""

from __future__ import annotations

import ast
from collections import deque
from typing import Any

from ..values import nonfinite
from ..values.safe_read import read_attribute

SIGNS: dict[type[ast.AST], str] = {
    ast.Add: "+",
    ast.Sub: "-",
    ast.Mult: "*",
    ast.Div: "/",
    ast.FloorDiv: "//",
    ast.Mod: "%",
    ast.Pow: "**",
    ast.MatMult: "@",
}
COUNTED = (list, tuple, str, bytes, bytearray, range, deque)


def _shape(value: object) -> tuple[int, ...] | None:
    found = read_attribute(value, "shape") if nonfinite.module("numpy") is not None else None
    return found if isinstance(found, tuple) and found else None


def _dtype(value: object) -> str:
    """The dtype of an array of numbers or a NumPy scalar; empty for all else."""
    found = read_attribute(value, "dtype") if type(value).__module__.partition(".")[0] in ("numpy", "pandas") else None
    kind = getattr(found, "kind", "")
    return str(found) if kind and kind in "biufc" else ""


def told(node: ast.AST, operands: list[object], result: object) -> str:
    """`(365, 1) * (12,) → (365, 12)`, `float64 → float32`: what an operation or call did to shapes and dtypes."""
    op = getattr(node, "op", None)
    sign = SIGNS.get(type(op), ",") if op is not None else ","
    shapes = [s for v in operands if (s := _shape(v)) is not None]
    parts = []
    after = _shape(result)
    if isinstance(op, ast.MatMult) or len(set(shapes)) > 1:
        between = f" {sign} " if sign != "," else ", "
        if shapes and (after is not None or isinstance(op, ast.MatMult)):
            parts.append(f"{between.join(map(str, shapes))} → {after or 'one number'}")
    before = list(dict.fromkeys(d for v in operands if (d := _dtype(v))))
    now = _dtype(result)
    if before and now and (len(before) > 1 or before[0] != now) and not isinstance(node, ast.Compare):
        parts.append(f"{', '.join(before)} → {now}")
    return "; ".join(parts)


def _length(owner: Any, axis: int) -> int | None:
    """How many places an index of a sequence or array may name; None where a negative one is a key."""
    if isinstance(owner, COUNTED):
        return len(owner) if axis == 0 and type(owner) in COUNTED else None
    if type(owner).__name__ == "_iLocIndexer":
        owner = owner.obj
    elif type(owner).__module__.partition(".")[0] != "numpy":
        return None
    shape = _shape(owner)
    return int(shape[axis]) if shape is not None and axis < len(shape) else None


def _computed(node: ast.AST | None) -> bool:
    """True for an index that is not written as a plain number."""
    if isinstance(node, ast.UnaryOp):
        node = node.operand
    return node is not None and not isinstance(node, ast.Constant)


def _negative(value: object) -> bool:
    return isinstance(value, int) and not isinstance(value, bool) and value < 0


def from_the_end(node: ast.AST, owner: object, index: Any) -> str:
    """Says of a computed index that is negative that it counts from the end; empty for all others."""
    nodes = node.elts if isinstance(node, ast.Tuple) else [node]
    values = index if isinstance(node, ast.Tuple) else (index,)
    for axis, (part, value) in enumerate(zip(nodes, values)):
        length = _length(owner, axis)
        if length is None:
            continue
        if not isinstance(value, (int, slice)) and hasattr(value, "__index__") and not _shape(value):
            value = value.__index__()  # a NumPy integer
        if isinstance(part, ast.Slice) and isinstance(value, slice):
            if _computed(part.lower) and _negative(value.start):
                return f"the slice begins at {value.start}: counted from the end, place {max(0, length + value.start)}"
        elif _computed(part) and _negative(value) and -value <= length:
            return f"index {value} counts from the end: place {length + value}"
    return ""
