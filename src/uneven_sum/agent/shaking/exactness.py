"""Which results of plain arithmetic are exact: these are never moved.

Sums by TwoSum (Knuth, The Art of Computer Programming 2, 4.2.2), products by the splitting of Dekker and Veltkamp
(Dekker, Numerische Mathematik 18, 1971), quotients by the residue of the product.
"""

from __future__ import annotations

import types
from typing import Any

from ..core.data_types import Array

SPLIT = 134217729.0  # 2**27 + 1
LARGE = 2.0**31


def inexact_sum(a: float, b: float, result: float) -> bool:
    """Whether a + b was rounded."""
    b_seen = result - a
    return (a - (result - b_seen)) + (b - b_seen) != 0


def inexact_product(a: float, b: float, result: float) -> bool:
    """Whether a * b was rounded, to another number than is meant."""
    return has_residue(a, b, result) and not is_step_count(result)


def has_residue(a: float, b: float, result: float) -> bool:
    """Whether a * b is not just `result`.  Two factors of more than 26 bits each have a product that no float holds."""
    c = SPLIT * a
    a_high = c - (c - a)
    a_low = a - a_high
    c = SPLIT * b
    b_high = c - (c - b)
    b_low = b - b_high
    if a_low and b_low:
        return True
    return a_low * b_low - (((result - a_high * b_high) - a_low * b_high) - a_high * b_low) != 0


def inexact_quotient(a: float, b: float, result: float) -> bool:
    """Whether a / b was rounded, to another number than is meant."""
    if is_step_count(result):
        return False
    back = result * b
    return back != a or has_residue(result, b, back)


def is_step_count(result: float) -> bool:
    """Whether a quotient or product is a whole number of moderate size, such as 1 / 0.1: it is what is meant."""
    return -LARGE < result < LARGE and result.is_integer()


def inexact_power(a: float, b: float, result: float) -> bool:
    if b == 2:
        return inexact_product(a, a, result)
    return not (b in (0, 1) or (result.is_integer() and float(a).is_integer()))


# -- of arrays: the same on blocks, as truth values ---------------------------------------------------------


def sum_errors(np: types.ModuleType, a: object, b: object, result: Any) -> object:
    """What rounding took from each cell of a + b; arrays of one shape."""
    b_seen = result - a
    error = result - b_seen
    np.subtract(a, error, out=error)
    np.subtract(b, b_seen, out=b_seen)
    error += b_seen
    return error


def product_errors(np: types.ModuleType, a: Array, b: object, result: object) -> object:
    """What rounding took from each cell of a * b."""
    split = a.dtype.type(SPLIT if a.dtype.itemsize == 8 else 4097.0)
    c = split * a
    a_high = c - (c - a)
    a_low = a - a_high
    c = split * b
    b_high = c - (c - b)
    b_low = b - b_high
    return a_low * b_low - (((result - a_high * b_high) - a_low * b_high) - a_high * b_low)


def difference_errors(np: types.ModuleType, a: object, b: Array, result: object) -> object:
    return sum_errors(np, a, -b, result)


def quotient_errors(np: types.ModuleType, a: object, b: object, result: Array) -> object:
    """Of each cell of a / b, how far the quotient times b is from a."""
    back = result * b
    return (a - back) - product_errors(np, result, b, back)


ERRORS = {"add": sum_errors, "sub": difference_errors, "mul": product_errors, "truediv": quotient_errors}
