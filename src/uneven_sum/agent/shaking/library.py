"""Which calls of a library calculate, and so round: their results are moved, of some their inputs too.

What only moves, selects or counts is left alone, and so is what is not known.
"""

from __future__ import annotations

import types
from collections.abc import Callable
from typing import Any

from ..values import nonfinite

EXACT_MATH = {
    *("floor", "ceil", "trunc", "fabs", "copysign", "isnan", "isinf", "isfinite", "isclose", "gcd", "lcm", "comb"),
    *("perm", "factorial", "frexp", "ldexp", "modf", "nextafter", "ulp", "isqrt", "fmod", "remainder"),
}
EXACT_UFUNCS = {
    *("absolute", "fabs", "negative", "positive", "sign", "floor", "ceil", "trunc", "rint", "maximum", "minimum"),
    *("fmax", "fmin", "copysign", "nextafter", "spacing", "isnan", "isinf", "isfinite", "signbit", "conjugate"),
    *("modf", "frexp", "ldexp", "floor_divide", "remainder", "fmod", "heaviside", "equal", "not_equal", "less"),
    *("less_equal", "greater", "greater_equal", "logical_and", "logical_or", "logical_not", "logical_xor"),
}
SUMS = {"sum", "nansum", "cumsum", "nancumsum", "dot", "vdot", "inner", "matmul", "tensordot", "einsum", "convolve"}
SUMS |= {"correlate", "trapezoid", "trapz", "trace"}
RESULTS = {
    *("mean", "average", "var", "std", "nanmean", "nanstd", "nanvar", "prod", "cumprod", "nanprod", "cov", "corrcoef"),
    *("polyval", "interp", "gradient", "outer", "kron", "cross", "percentile", "quantile", "median", "nanmedian"),
    *("nanpercentile", "nanquantile", "logspace", "geomspace", "diff", "ediff1d", "norm", "sinc", "i0", "polyint"),
    *("polyder", "polymul", "polyadd", "polysub", "angle", "unwrap", "cond", "matrix_power", "cumulative_sum"),
}
SYSTEMS = {
    *("solve", "inv", "lstsq", "pinv", "det", "slogdet", "svd", "svdvals", "eig", "eigh", "eigvals", "eigvalsh", "qr"),
    *("cholesky", "polyfit", "roots", "solve_triangular", "solve_banded", "solveh_banded", "cho_solve", "lu_solve"),
    *("lu_factor", "lu", "expm", "logm", "sqrtm", "solve_toeplitz", "curve_fit", "linregress"),
}
TRANSFORMS = {"fft", "ifft", "rfft", "irfft", "fft2", "ifft2", "fftn", "ifftn", "rfft2", "irfft2", "hfft", "dct"}
TRANSFORMS |= {"idct", "dst", "idst"}
OF_FRAMES = {"sum", "mean", "std", "var", "cumsum", "cumprod", "prod", "corr", "cov", "pct_change", "diff", "sem"}
OF_FRAMES |= {"skew", "kurt", "interpolate", "median", "quantile", "describe", "agg", "aggregate", "dot"}
OTHER_PACKAGES = ("scipy.", "sklearn.", "statsmodels.")
NOT_OF_THESE = ("scipy.io", "scipy.sparse", "scipy.constants", "scipy.datasets")
# What is moved; of a function of numbers a whole result too, where its arguments are not whole: cos(1e-9) is not 1.
LEFT_ALONE, RESULT, FUNCTION, SUM, INPUTS = "left alone", "result", "function", "sum", "inputs"
Call = Callable[..., object]


def moved_of(function: Any) -> str:
    """What is moved of a call of this function."""
    kind = type(function)
    if kind is types.BuiltinFunctionType:
        return _of_builtin(function)
    np = nonfinite.module("numpy")
    if np is not None and kind is np.ufunc:
        return LEFT_ALONE if function.__name__ in EXACT_UFUNCS else FUNCTION
    if kind is types.MethodType:
        return _of_method(function)
    if kind is types.FunctionType or (np is not None and kind.__module__ == "numpy"):
        return _of_module(str(getattr(function, "__module__", "")), str(getattr(function, "__name__", "")))
    return LEFT_ALONE


def _of_builtin(function: Any) -> str:
    owner, name = function.__self__, function.__name__
    if isinstance(owner, types.ModuleType):
        return {
            "math": LEFT_ALONE if name in EXACT_MATH else FUNCTION,
            "cmath": FUNCTION,
            "builtins": {"sum": SUM, "pow": RESULT}.get(name, LEFT_ALONE),
            "numpy": _of_module("numpy", name),
        }.get(owner.__name__, LEFT_ALONE)
    np = nonfinite.module("numpy")
    if np is not None and type(owner) is np.ufunc and name in ("reduce", "accumulate"):
        return SUM if owner.__name__ == "add" else RESULT if owner.__name__ == "multiply" else LEFT_ALONE
    if np is not None and isinstance(owner, np.ndarray):
        return SUM if name in SUMS else RESULT if name in RESULTS else LEFT_ALONE
    return _of_module(str(function.__module__ or ""), name)


def _of_method(function: Any) -> str:
    module = type(function.__self__).__module__ or ""
    if module.startswith("pandas."):
        return RESULT if function.__name__ in OF_FRAMES else LEFT_ALONE
    return _of_module(module, function.__name__)


def _of_module(module: str, name: str) -> str:
    if module.startswith(("numpy.random", "random")) or name == "rvs":
        return LEFT_ALONE
    if module.startswith("numpy"):
        if name in SYSTEMS or (name in TRANSFORMS and "fft" in module):
            return INPUTS
        return SUM if name in SUMS else RESULT if name in RESULTS else LEFT_ALONE
    if module.startswith(OTHER_PACKAGES) and not module.startswith(NOT_OF_THESE):
        return INPUTS if name in SYSTEMS or name in TRANSFORMS else RESULT
    return RESULT if module == "statistics" else LEFT_ALONE


def is_exact_sum(args: tuple[Any, ...]) -> bool:
    """Whether all that is summed are whole numbers: their sum is exact."""
    np = nonfinite.module("numpy")
    for value in args:
        if np is not None and type(value) is np.ndarray:
            if value.dtype.kind not in "fc":
                continue
            with np.errstate(all="ignore"):
                if not bool((value == np.rint(value)).all()):
                    return False
        elif not all(_is_whole(v) for v in (value if type(value) in (list, tuple) else [value])):
            return False
    return True


def _is_whole(value: object) -> bool:
    return value.is_integer() if type(value) is float else type(value) is int
