"""Calls that only compute: they can be evaluated again in the script's own process, where no copy of it can be made.

A copy of a process has none of its threads, and a progress bar is enough to start one.
"""

from __future__ import annotations

import ast
import builtins
import types
from typing import Any

from ..core.type_identity import is_one_of
from ..source.sites import callee
from ..values import nonfinite

MOST_CELLS = 2_000_000  # of all arguments together: the script waits meanwhile
MOST_ELEMENTS = 10_000  # of a list or tuple
BUILTINS = [
    *(builtins.abs, builtins.min, builtins.max, builtins.sum, builtins.len, builtins.round, builtins.pow),
    *(builtins.float, builtins.int, builtins.complex, builtins.bool, builtins.divmod, builtins.range, builtins.list),
    *(builtins.tuple, builtins.sorted),
]
REDUCTIONS = {
    *("sum", "mean", "std", "var", "min", "max", "prod", "any", "all", "argmin", "argmax", "cumsum", "cumprod"),
}
METHODS = REDUCTIONS | {
    *("dot", "copy", "astype", "reshape", "ravel", "flatten", "transpose", "squeeze", "item", "tolist", "conj"),
}
FUNCTIONS = REDUCTIONS | {
    *("median", "average", "diff", "dot", "outer", "inner", "linspace", "arange", "zeros", "ones", "full", "array"),
    *("asarray", "where", "clip", "sort", "percentile", "quantile", "interp", "convolve", "gradient", "trapezoid"),
    *("zeros_like", "ones_like", "full_like", "eye", "identity", "stack", "concatenate", "vstack", "hstack", "ptp"),
    *(
        "column_stack",
        "reshape",
        "ravel",
        "transpose",
        "squeeze",
        "expand_dims",
        "meshgrid",
        "cross",
        "trace",
        "nansum",
    ),
    *("nanmean", "nanstd", "nanmin", "nanmax", "nan_to_num", "isclose", "polyval", "logspace", "geomspace", "cov"),
    *("corrcoef", "histogram", "atleast_1d", "atleast_2d", "broadcast_to", "tile", "repeat", "flip", "roll", "real"),
}


def is_harmless(node: ast.Call, function: Any, values: list[Any]) -> bool:
    """True for a call of a function of Python, `math` or NumPy that only computes, on numbers, arrays and their lists.

    `values`: those of its arguments, and of the object whose method it is.
    """
    if any(k.arg in (None, "out", "key", "default") for k in node.keywords) or not _are_data(values):
        return False
    np = nonfinite.module("numpy")
    home = str(type.__getattribute__(type(function), "__module__"))
    if home != "builtins" and home.partition(".")[0] != "numpy":
        return False  # an object that can be called
    if any(function is one for one in BUILTINS):
        return True
    if type(function) is types.BuiltinFunctionType and function.__module__ in ("math", "cmath"):
        return True
    if np is None:
        return False
    if type(function) is np.ufunc:
        return getattr(np, function.__name__, None) is function and len(node.args) <= int(getattr(function, "nin", 0))
    name = callee(node)
    if type(getattr(function, "__self__", None)) is np.ndarray:
        return type(function) is types.BuiltinFunctionType and name in METHODS and len(node.args) <= 1
    is_numpys = str(getattr(function, "__module__", "")).partition(".")[0] == "numpy"
    return is_numpys and name in FUNCTIONS and getattr(np, name, None) is function and len(node.args) <= 3


def _are_data(values: list[Any]) -> bool:
    """True for numbers, texts, arrays of numbers, and lists and tuples of these, of no subclass and not too large."""
    np = nonfinite.module("numpy")
    cells = 0
    left = list(values)
    while left:
        value = left.pop()
        kind = type(value)
        if is_one_of(kind, list, tuple):
            if len(value) > MOST_ELEMENTS:
                return False
            left += value
            cells += len(value)
        elif np is not None and kind is np.ndarray:
            if value.dtype.kind not in "fciub":
                return False
            cells += value.size
        elif is_one_of(kind, float, int, complex, bool, str, slice, range, type(None)):
            cells += len(value) if kind is range else 1
        elif np is None or not isinstance(value, np.generic) or kind.__module__ != "numpy":
            return False
        if cells > MOST_CELLS:
            return False
    return True
