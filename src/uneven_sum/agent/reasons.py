"""Words for why a term is non-finite: stated rules over the operation and its operands."""

from __future__ import annotations

import ast
import math
from typing import Any

from .expressions import callee


def _real(value: Any) -> float | None:
    try:
        return float(value) if not isinstance(value, (str, bytes, bool, complex)) else None
    except (TypeError, ValueError, OverflowError):
        return None


def reason(node: ast.AST, operands: list[Any]) -> str:
    """Why this operation on these operands (scalars, or the cells at the first bad place) is not finite.

    Empty when no rule knows.
    """
    numbers = [_real(v) for v in operands]
    if isinstance(node, ast.Call):
        return _call(callee(node), numbers)
    if isinstance(node, (ast.BinOp, ast.AugAssign)) and len(numbers) == 2:
        left, right = numbers
        if left is None or right is None:
            return ""
        return _operator(node.op, left, right)
    return ""


def _operator(op: ast.operator, left: float, right: float) -> str:
    if isinstance(op, (ast.Div, ast.FloorDiv, ast.Mod)) and right == 0:
        return "zero divided by zero" if left == 0 else "a division by zero"
    if isinstance(op, ast.Pow):
        if left < 0 and not float(right).is_integer():
            return "a negative number to a fractional power"
        if left == 0 and right < 0:
            return "zero to a negative power"
        return "too large for a float"
    if isinstance(op, (ast.Add, ast.Sub)) and math.isinf(left) and math.isinf(right):
        return "an infinity less another"
    if isinstance(op, ast.Mult) and ((math.isinf(left) and right == 0) or (math.isinf(right) and left == 0)):
        return "zero times infinity"
    if all(map(math.isfinite, (left, right))):
        return "too large for a float"
    return ""


def _call(name: str, numbers: list[float | None]) -> str:
    if not numbers or numbers[0] is None:
        return ""
    first = numbers[0]
    if name in ("log", "log2", "log10"):
        if first == 0:
            return "the logarithm of zero"
        if first < 0:
            return "the logarithm of a negative number"
    if name == "log1p" and first <= -1:
        return "the logarithm of zero or less"
    if name == "sqrt" and first < 0:
        return "the square root of a negative number"
    if name in ("exp", "expm1", "exp2", "cosh", "sinh") and abs(first) > 700:
        return "too large for a float"
    if name in ("arcsin", "arccos", "asin", "acos") and abs(first) > 1:
        return "an argument outside -1 … 1"
    if name in ("arccosh", "acosh") and first < 1:
        return "an argument below 1"
    if name in ("arctanh", "atanh") and abs(first) >= 1:
        return "an argument not within -1 … 1"
    if name in ("divide", "true_divide", "reciprocal", "mod", "fmod", "remainder"):
        divisor = numbers[1] if len(numbers) > 1 else first
        if divisor == 0:
            return "a division by zero"
    if name in ("power", "float_power", "pow") and len(numbers) > 1 and numbers[1] is not None:
        return _operator(ast.Pow(), first, numbers[1])
    return ""
