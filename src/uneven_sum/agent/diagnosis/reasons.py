"""Words for why a term is non-finite: stated rules over the operation and its operands."""

from __future__ import annotations

import ast
import difflib
import math
from typing import Any

from ..core.type_identity import is_one_of
from ..source.sites import callee
from ..values.safe_read import read_attribute


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
    if isinstance(op, (ast.Div, ast.FloorDiv)) and math.isinf(left) and math.isinf(right):
        return "infinity divided by infinity"
    if isinstance(op, ast.Mod) and math.isinf(left):
        return "the remainder of infinity"
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
    if name in ("sin", "cos", "tan") and math.isinf(first):
        return "infinity has no angle"
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


# -- errors ------------------------------------------------------------------------------------------


def of_error(exc: BaseException, operands: list[Any]) -> str:
    """Why an operation on these operands raised, where a rule knows more than the message: the nearest keys, index
    and length, the two shapes, the two types."""
    if isinstance(exc, KeyError):
        return _nearest_key(exc, operands)
    if isinstance(exc, IndexError):
        return _index(operands)
    if isinstance(exc, ValueError):
        shapes = [s for v in operands if isinstance(s := _shape(v), tuple)]
        if len(shapes) >= 2 and shapes[0] != shapes[1]:
            return f"shapes {shapes[0]} and {shapes[1]}"
    if isinstance(exc, TypeError) and len(operands) == 2:
        return f"types {type(operands[0]).__name__} and {type(operands[1]).__name__}"
    return ""


def _shape(value: object) -> Any:
    found = read_attribute(value, "shape")
    return found if isinstance(found, tuple) else None


def _nearest_key(exc: KeyError, operands: list[Any]) -> str:
    wanted = exc.args[0] if exc.args else None
    for owner in operands:
        keys: list[Any] = []
        if isinstance(owner, dict):
            keys = [k for k, _ in zip(dict.keys(owner), range(10_000))]
        elif type(owner).__module__.startswith("pandas") and hasattr(owner, "columns"):
            keys = list(owner.columns[:10_000])
        if not keys:
            continue
        if isinstance(wanted, str):
            near = difflib.get_close_matches(wanted, [k for k in keys if isinstance(k, str)], 3, 0.5)
        else:
            numbers = [k for k in keys if is_one_of(type(k), int, float) and is_one_of(type(wanted), int, float)]
            near = [repr(k) for k in sorted(numbers, key=lambda k: abs(k - wanted))[:3]]
        if near:
            return f"the nearest of its {len(keys)} keys: {', '.join(map(str, near))}"
        return f"its {len(keys)} keys begin with {', '.join(repr(k) for k in keys[:3])}"
    return ""


def _index(operands: list[Any]) -> str:
    size: int | None = None
    index: int | None = None
    for value in operands:
        if isinstance(value, (list, tuple)):
            size = list.__len__(value) if isinstance(value, list) else tuple.__len__(value)
        elif (shape := _shape(value)) and size is None:
            size = int(shape[0])
        elif isinstance(value, int) and not isinstance(value, bool):
            index = value
        elif type(value).__module__ == "numpy" and not _shape(value) and hasattr(value, "__index__"):
            index = int(value)
    if size is None:
        return ""
    if index is None:
        return f"its length is {size}"
    return f"index {index} of length {size}" + (f": the last is {size - 1}" if size else "")
