"""Whether an array of numpy's holds only finite cells, as fast as that can be told.

The sum of the squares of a few thousand cells is one call, and takes as long as the operation that made them, or less.
Where it is finite, so is each cell.  Where it is not, a cell is bad, or the sum overflowed: then the cells are looked
at one by one.
"""

from __future__ import annotations

import types
from collections.abc import Sequence
from math import isfinite
from typing import Any

from ..core.data_types import Array

AT_ONCE = 10_000  # cells of one sum: with more of them, BLAS starts threads
FEW = 10  # cells of which Python's own sum is as fast
TRANSPOSED = 50  # cells from which on a look at the order of their axes pays
CHUNK = 1 << 16  # cells looked at in one go: the truth values stay in the cache

# Of numpy, once the script has used it: what the quickest path needs is held, not looked up.
numpy: Any = None
ndarray: object = None
float64: object = None
double: Any = None  # the dtype of that
_summed: frozenset[int] = frozenset()  # the numbers of the dtypes that BLAS sums
vdot: Any = None
sum_of = sum  # a script may put another in its place
_errors: Any = None  # gives what numpy does at errors, as an object that stays the same until that is set anew
_seen_errors: object = None  # one that was found to have no effect


def prepare(np: types.ModuleType) -> None:
    """The script uses numpy."""
    global numpy, ndarray, float64, double, _summed, vdot, _errors
    numpy, ndarray, float64 = np, np.ndarray, np.float64
    vdot = getattr(np.vdot, "_implementation", np.vdot)  # without the question whether a class has its own
    with np.errstate(all="raise"):
        huge = np.full(2, 1e300)
        try:
            vdot(huge, huge)  # `dot` would warn, in the script's name
        except FloatingPointError:
            return
    double = np.dtype(np.float64)
    _summed = frozenset(np.dtype(kind).num for kind in (np.float64, np.float32, np.complex64, np.complex128))
    set_for_context = getattr(getattr(np, "_core", None), "umath", None)
    _errors = getattr(getattr(set_for_context, "_extobj_contextvar", None), "get", None)  # no public way


def is_fine(value: Any) -> bool:
    """True when one sum shows that an array (of this very type) is finite; False where more must be looked at."""
    dtype = value.dtype
    if dtype is double:
        size = value.size
        if size < FEW and value.ndim == 1:
            return isfinite(sum_of(value.tolist()))
        if size > TRANSPOSED and value.ndim > 1 and value.flags.f_contiguous:
            value = value.T  # else it would be copied
        return size <= AT_ONCE and isfinite(vdot(value, value))
    if dtype.num in _summed:
        return value.size <= AT_ONCE and isfinite(vdot(value, value).real)
    return dtype.kind not in "fcOV"


def is_quickly_fine(value: Any) -> bool:
    """True for a finite complex number, and for a short tuple of nothing but finite floats, ints and arrays."""
    if type(value) is complex:
        return isfinite(value.real) and isfinite(value.imag)
    if len(value) > FEW:
        return False
    for one in value:
        kind = type(one)
        if kind is float or kind is float64:
            if not isfinite(one):
                return False
        elif kind is ndarray:
            if not is_fine(one):
                return False
        elif kind is not int:
            return False
    return True


def has_bad_cell(np: types.ModuleType, value: Array) -> bool:
    """True when an array of floats or complex numbers has a cell that is not finite; stops at the first part with one.

    No copy of it is made.
    """
    if value.size > AT_ONCE and not (value.flags.c_contiguous or value.flags.f_contiguous):
        return any(has_bad_cell(np, part) for part in value)
    flat = value.reshape(-1, order="A")
    first = flat[:AT_ONCE]
    if value.dtype.num in _summed and isfinite(vdot(first, first).real):
        if flat.size <= AT_ONCE or isfinite(vdot(flat, flat).real):
            return False
    return any(not np.isfinite(flat[n : n + AT_ONCE]).all() for n in range(0, flat.size, AT_ONCE))


def new_cells(np: types.ModuleType, value: Array, operands: list[Array]) -> tuple[bool, bool]:
    """Whether an array has a cell that is bad where no operand has a bad one, and one that is nan where none has a nan.

    The operands are arrays of its shape.  Of each part only the cells that are bad are compared, with one operand after
    the other until none is left: what waits for memory is the time that it takes.
    """
    flat = value.reshape(-1)
    parts = [o.reshape(-1) for o in operands]
    room = np.empty(CHUNK, dtype=bool)
    bad = made = False
    for start in range(0, flat.size, CHUNK):
        here = slice(start, start + CHUNK)
        good = room[: flat[here].size]
        np.isfinite(flat[here], out=good)
        if good.all():
            continue
        at = np.logical_not(good, out=good).nonzero()[0]
        left, nan = np.ones(at.size, dtype=bool), np.isnan(flat[here].take(at))
        for part in parts:
            theirs = part[here].take(at)
            left &= np.isfinite(theirs)
            nan &= ~np.isnan(theirs)
            if not (left.any() or nan.any()):
                break
        bad, made = bad or bool(left.any()), made or bool(nan.any())
        if bad and made:
            break
    return bad, made


def carries_float(value: float, operands: Sequence[Any]) -> bool:
    """True when a float that is not finite is so by one of its operands: nan by nan, an infinity by either."""
    for one in operands:
        kind = type(one)
        if kind is float or kind is float64:
            if not isfinite(one) and (value == value or one != one):
                return True
        elif kind is ndarray and one.dtype.kind == "f" and numpy.isnan(one).any():
            return True  # of a call: arithmetic would give an array
    return False


def carries(value: Any, operands: Sequence[Any]) -> bool:
    """True when an array of floats has bad cells, each of them an operand's: nan where that is nan, else either."""
    if type(value) is not ndarray or value.dtype.kind != "f" or not value.ndim or value.size > CHUNK:
        return False
    arrays = []
    all_nan = False
    for one in operands:
        if type(one) is ndarray:
            if one.dtype.kind == "f" and one.shape == value.shape:
                arrays.append(one)
        elif (type(one) is float or type(one) is float64) and one != one:
            all_nan = True
    if not (arrays or all_nan):
        return False
    nan, infinite = numpy.isnan(value), numpy.isinf(value)
    has_nan, has_infinite = True in nan.tobytes(), True in infinite.tobytes()
    if all_nan or not (has_nan or has_infinite):
        return has_nan or has_infinite
    for one in arrays:
        if has_nan:
            numpy.greater(nan, numpy.isnan(one), out=nan)
        if has_infinite:
            numpy.logical_and(infinite, numpy.isfinite(one), out=infinite)
    return True not in nan.tobytes() and True not in infinite.tobytes()


def has_nan(operands: Sequence[Any]) -> bool:
    """True when an array of floats, not a large one, holds nan."""
    for one in operands:
        if type(one) is ndarray and one.dtype.kind == "f" and one.dtype.num in _summed and one.size <= AT_ONCE:
            squares = vdot(one, one)  # those of infinities give an infinity
            if squares != squares:
                return True
    return False


def holds_no_more(value: Any, old: Any) -> bool:
    """True when an array that was changed in place has bad cells where it had them before, and nowhere else."""
    if type(value) is not ndarray or value.dtype.kind != "f" or not value.ndim or value.size > CHUNK:
        return False
    if type(old) is not ndarray or old.shape != value.shape:
        return False
    now = numpy.isfinite(value)
    numpy.logical_not(now, out=now)
    return True in now.tobytes() and True not in numpy.greater(now, old).tobytes()


def are_arrays(*values: Any) -> bool:
    """True where each value is a small array of numbers or a number, and errors of numpy's give warnings or nothing."""
    for one in values:
        kind = type(one)
        if kind is ndarray:
            if one.size > AT_ONCE or (one.dtype is not double and one.dtype.kind not in "fciub"):
                return False
        elif not (kind is float or kind is int or kind is float64):
            return False
    return _errors is not None and (_errors() is _seen_errors or _only_warns())


def all_finite(value: Any) -> bool:
    """True where a result is surely finite, and what it was made of went into it."""
    kind = type(value)
    if kind is ndarray:
        if value.dtype is double and FEW <= value.size <= AT_ONCE:  # as `is_fine` does, without its call
            return isfinite(vdot(value, value))
        return value.size > 0 and is_fine(value)  # an empty one hides what it was made of
    if kind is float or kind is float64:
        return isfinite(value)
    return kind is int or kind is bool or (kind is not complex and getattr(value, "dtype", double).kind == "b")


def _only_warns() -> bool:
    """Whether errors of numpy's call nothing and print nothing, now and for as long as they are set so."""
    global _seen_errors
    if not {"call", "print", "log"}.isdisjoint(numpy.geterr().values()):
        return False
    _seen_errors = _errors()
    return True
