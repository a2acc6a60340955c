"""Why a term is non-finite or raised: stated rules over the operation and its operands."""

from __future__ import annotations

import ast
import difflib
import math
import re
from typing import Any

from ..core.records import fact
from ..core.text import plural, str_of
from ..core.type_identity import is_one_of
from ..source.sites import callee
from ..values import nonfinite
from ..values.safe_read import read_attribute

# What messages are about.
OF_BAD_CELLS = re.compile(
    r"\b(nans?|infs?|infinit\w*|(not |non-?)?finite|converge\w*|singular|overflow\w*|too large)\b", re.I
)
OF_SHAPES = re.compile(r"shape|dimension|broadcast|size|length|align|match|ax[ie]s|inconsistent|conform|elements", re.I)


@fact
class Reason:
    """Why a term is not finite or raised.

    `text`: for a person; `kind`: for code; `near`: the nearest keys, as they are written in Python; `shapes`: the two
    that do not fit.
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
BELOW_ONE = Reason("below-one", "an argument below 1")
NOT_WITHIN_UNIT = Reason("not-within-unit", "an argument not within -1 … 1")
CHANGE_FROM_ZERO = Reason("change-from-zero", "a change relative to zero")
DIVISION_BY_ZERO = Reason("division-by-zero", "a division by zero")
ZERO_BY_ZERO = Reason("zero-by-zero", "zero divided by zero")


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
        return OUTSIDE_UNIT
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


def of_bad_operands(exc: BaseException, operands: list[tuple[str, object]]) -> Reason | None:
    """Which operands hold non-finite cells, where a library refuses them, or does not converge with them."""
    if not isinstance(exc, (ValueError, ArithmeticError, RuntimeError)) or not OF_BAD_CELLS.search(str_of(exc)):
        return None
    held = [(text, nonfinite.count(value)) for text, value in operands]
    bad = [f"{text} holds {plural(cells, 'non-finite cell')}" for text, cells in held if cells]
    return Reason("non-finite-operand", " and ".join(bad)) if bad else None


def of_error(exc: BaseException, operands: list[object]) -> Reason:
    """Why an operation on these operands raised, where a rule knows more than the message: the nearest keys, index
    and length, the two shapes, the two types."""
    if isinstance(exc, KeyError):
        return _nearest_key(exc, operands)
    if isinstance(exc, IndexError):
        return _index(operands)
    if isinstance(exc, (ValueError, TypeError)):
        of_shapes = OF_SHAPES.search(str_of(exc) or "shapes")
        shapes = [s for v in operands if (s := _shape(v)) is not None] if of_shapes else []
        if len(shapes) >= 2 and shapes[0] != shapes[1]:
            whole = all(type(n) is int for shape in shapes[:2] for n in shape)  # else some library's own sizes
            return Reason("shapes", f"shapes {shapes[0]} and {shapes[1]}", shapes=tuple(shapes[:2]) if whole else ())
    if isinstance(exc, TypeError) and len(operands) == 2 and type(operands[0]) is not type(operands[1]):
        return Reason("types", f"types {type(operands[0]).__name__} and {type(operands[1]).__name__}")
    return NONE


def _shape(value: object) -> tuple[Any, ...] | None:
    found = read_attribute(value, "shape")
    return found if isinstance(found, tuple) else None


def _nearest_key(exc: KeyError, operands: list[object]) -> Reason:
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
            close = difflib.get_close_matches(wanted, [k for k in keys if isinstance(k, str)], 3, 0.5)
            near, written = close, [repr(k) for k in close]
        else:
            numbers = [k for k in keys if is_one_of(type(k), int, float) and is_one_of(type(wanted), int, float)]
            near = written = [repr(k) for k in sorted(numbers, key=lambda k: abs(k - wanted))[:3]]
        if near:
            text = f"the nearest of its {len(keys)} keys: {', '.join(near)}"
            text = text if len(keys) > 1 else f"its only key is {near[0]}"
            return Reason("key", text, near=tuple(written))
        if len(keys) == 1:
            return Reason("no-key", f"its only key is {keys[0]!r}")
        return Reason("no-key", f"its {len(keys)} keys begin with {', '.join(repr(k) for k in keys[:3])}")
    return NONE


def _index(operands: list[object]) -> Reason:
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
        return NONE
    if index is None:
        return Reason("length", f"its length is {size}")
    if not size:
        return Reason("empty", f"index {index} of length 0")
    return Reason("index", f"index {index} of length {size}: the last is {size - 1}")
