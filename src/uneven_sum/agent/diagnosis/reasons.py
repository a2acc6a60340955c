"""Why a term is non-finite or raised: stated rules over the operation and its operands."""

from __future__ import annotations

import ast
import math
from typing import Any

from ..core.records import fact
from ..source.sites import callee


@fact
class Reason:
    """Why a term is not finite or raised.

    `text`: for a person; `kind`: for code; `near`: the nearest keys or names, or the part that is meant, as they are
    written in Python; `shapes`: the two that do not fit.
    """

    kind: str = ""
    text: str = ""
    near: tuple[str, ...] = ()
    shapes: tuple[tuple[int, ...], ...] = ()


NONE = Reason()  # no rule knows
INF_BY_INF = Reason("inf-by-inf", "infinity divided by infinity")
REMAINDER_OF_INF = Reason("remainder-of-inf", "the remainder of infinity")
NEGATIVE_POWER = Reason("negative-power", "a negative number to a fractional power")
ZERO_POWER = Reason("zero-power", "zero to a negative power")
OVERFLOW = Reason("overflow", "float overflow")
INF_MINUS_INF = Reason("inf-minus-inf", "inf minus inf")
ZERO_TIMES_INF = Reason("zero-times-inf", "zero times infinity")
ANGLE_OF_INF = Reason("angle-of-inf", "infinity has no angle")
LOG_OF_ZERO = Reason("log-of-zero", "the logarithm of zero")
LOG_OF_NEGATIVE = Reason("log-of-negative", "the logarithm of a negative number")
LOG_OF_NOTHING = Reason("log-of-zero-or-less", "the logarithm of zero or less")
ROOT_OF_NEGATIVE = Reason("root-of-negative", "the square root of a negative number")
OUTSIDE_UNIT = Reason("outside-unit", "an argument outside -1 … 1")
ROUNDED_OUTSIDE = Reason("outside-unit", "an argument outside -1 … 1 by rounding alone")
BELOW_ONE = Reason("below-one", "an argument below 1")
NOT_WITHIN_UNIT = Reason("not-within-unit", "an argument not within -1 … 1")
CHANGE_FROM_ZERO = Reason("change-from-zero", "a change relative to zero")
DIVISION_BY_ZERO = Reason("division-by-zero", "a division by zero")
ZERO_BY_ZERO = Reason("zero-by-zero", "zero divided by zero")
POLE = Reason("pole", "a pole, or a result beyond 1.8e308")
OUTSIDE = Reason("outside-domain", "an argument that the function has no value for, or a result that is out of range")
AT_EDGE = {OUTSIDE_UNIT.kind, BELOW_ONE.kind, NOT_WITHIN_UNIT.kind, LOG_OF_NOTHING.kind}  # all digits may count
ROUNDING = 1e-9  # as far as rounding may take a number that is 1


# Functions and methods that are operators by another name; `rdiv` has its operands the other way round.
OPERATORS: dict[str, ast.operator] = {
    **dict.fromkeys(("divide", "true_divide", "truediv", "div", "rdiv", "rtruediv"), ast.Div()),
    **dict.fromkeys(("floor_divide", "floordiv", "rfloordiv"), ast.FloorDiv()),
    **dict.fromkeys(("mod", "fmod", "remainder", "rmod"), ast.Mod()),
    **dict.fromkeys(("power", "float_power", "pow", "rpow"), ast.Pow()),
    **dict.fromkeys(("add", "radd"), ast.Add()),
    **dict.fromkeys(("subtract", "sub", "rsub"), ast.Sub()),
    **dict.fromkeys(("multiply", "mul", "rmul"), ast.Mult()),
}


def _real(value: Any) -> float | None:
    try:
        return float(value) if not isinstance(value, (str, bytes, bool, complex)) else None
    except (TypeError, ValueError, OverflowError):
        return None


def reason(node: ast.AST, operands: list[object]) -> Reason:
    """Why this operation on these operands (scalars, or the cells at the first bad place) is not finite."""
    numbers = [_real(v) for v in operands]
    if isinstance(node, ast.Call):
        return _call(callee(node), numbers)
    if isinstance(node, (ast.BinOp, ast.AugAssign)) and len(numbers) == 2:
        left, right = numbers
        if left is None or right is None:
            return NONE
        return _operator(node.op, left, right)
    return NONE


def of_function(operands: list[object], result: object) -> Reason:
    """Why a function whose rule is not known gives no finite number for finite ones."""
    numbers, made = [_real(v) for v in operands], _real(result)
    if made is None or not numbers or not all(n is not None and math.isfinite(n) for n in numbers):
        return NONE
    return POLE if math.isinf(made) else OUTSIDE


def in_place(op: ast.operator, right: object, result: object) -> Reason:
    """The same of a cell of `a /= b`, where what was in `a` before is gone."""
    if isinstance(op, ast.Div) and _real(right) == 0:
        return ZERO_BY_ZERO if result != result else DIVISION_BY_ZERO
    return NONE


def _operator(op: ast.operator, left: float, right: float) -> Reason:
    if isinstance(op, (ast.Div, ast.FloorDiv)) and math.isinf(left) and math.isinf(right):
        return INF_BY_INF
    if isinstance(op, ast.Mod) and math.isinf(left):
        return REMAINDER_OF_INF
    if isinstance(op, (ast.Div, ast.FloorDiv, ast.Mod)) and right == 0:
        return ZERO_BY_ZERO if left == 0 else DIVISION_BY_ZERO
    if isinstance(op, ast.Pow):
        if left < 0 and not float(right).is_integer():
            return NEGATIVE_POWER
        if left == 0 and right < 0:
            return ZERO_POWER
        return OVERFLOW
    if isinstance(op, (ast.Add, ast.Sub)) and math.isinf(left) and math.isinf(right):
        return INF_MINUS_INF
    if isinstance(op, ast.Mult) and ((math.isinf(left) and right == 0) or (math.isinf(right) and left == 0)):
        return ZERO_TIMES_INF
    if all(map(math.isfinite, (left, right))):
        return OVERFLOW
    return NONE


def _call(name: str, numbers: list[float | None]) -> Reason:
    if not numbers or numbers[0] is None:
        return NONE
    first = numbers[0]
    if name in ("sin", "cos", "tan") and math.isinf(first):
        return ANGLE_OF_INF
    if name in ("log", "log2", "log10"):
        if first == 0:
            return LOG_OF_ZERO
        if first < 0:
            return LOG_OF_NEGATIVE
    if name == "pct_change":
        return CHANGE_FROM_ZERO
    if name == "log1p" and first <= -1:
        return LOG_OF_NOTHING
    if name == "sqrt" and first < 0:
        return ROOT_OF_NEGATIVE
    if name in ("exp", "expm1", "exp2", "cosh", "sinh") and abs(first) > 700:
        return OVERFLOW
    if name in ("arcsin", "arccos", "asin", "acos") and abs(first) > 1:
        return ROUNDED_OUTSIDE if abs(first) < 1 + ROUNDING else OUTSIDE_UNIT
    if name in ("arccosh", "acosh") and first < 1:
        return BELOW_ONE
    if name in ("arctanh", "atanh") and abs(first) >= 1:
        return NOT_WITHIN_UNIT
    if name == "reciprocal" and first == 0:
        return DIVISION_BY_ZERO
    if name in OPERATORS and len(numbers) > 1 and numbers[1] is not None:
        pair = (first, numbers[1]) if not name.startswith("r") or name == "remainder" else (numbers[1], first)
        return _operator(OPERATORS[name], *pair)
    return NONE
