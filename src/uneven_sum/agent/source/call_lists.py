"""The lists of names that the rewriting and the judging go by.  The user can add to them."""

from __future__ import annotations

# Calls whose arguments may be non-finite by intent: the caller tests for it or masks it.
ABSORBING = {
    *("where", "select", "choose", "nan_to_num", "isnan", "isfinite", "isinf", "isneginf", "isposinf", "isna"),
    *("notna", "isnull", "notnull", "fillna", "dropna", "interpolate", "ffill", "bfill", "fix_invalid"),
    *("masked_invalid", "masked_where", "is_nan", "is_finite", "is_infinite", "is_null", "fill_nan", "fill_null"),
    *("drop_nans", "drop_nulls", "is_normal", "isclose", "allclose"),
    # A test that compares: the comparison decides.
    *("assert_allclose", "assert_array_equal", "assert_equal", "assert_almost_equal", "assert_array_almost_equal"),
    *("assert_series_equal", "assert_frame_equal", "assert_index_equal", "assertEqual", "assertAlmostEqual", "approx"),
    *("nansum", "nanmean", "nanmax", "nanmin", "nanstd", "nanvar", "nanmedian", "nanpercentile", "nanquantile"),
    *("nanprod", "nanargmax", "nanargmin", "nancumsum", "nancumprod", "is_finite", "combine_first"),
}

# Methods of arrays and frames that are operators by another name.
ARITHMETIC_METHODS = {
    *("add", "sub", "subtract", "mul", "multiply", "div", "divide", "truediv", "floordiv", "mod", "pow", "dot"),
    *("radd", "rsub", "rmul", "rdiv", "rtruediv", "rfloordiv", "rmod", "rpow", "abs", "round", "apply", "map", "eval"),
    *("sum", "prod", "mean", "std", "var", "cumsum", "cumprod", "agg", "aggregate", "transform", "pipe", "assign"),
}

# Calls that leave cells empty by design, and arrays that are not filled yet.
EMPTY_BY_DESIGN = {
    *("shift", "diff", "pct_change", "rolling", "expanding", "ewm", "reindex", "reindex_like", "resample"),
    *("asfreq", "unstack", "pivot", "pivot_table", "lag", "mask", "where"),
    *("when", "upsample", "rolling_mean", "rolling_sum", "rolling_std", "rolling_var", "rolling_median"),
    *("rolling_min", "rolling_max", "rolling_quantile", "rolling_map"),  # polars'
    *("empty", "empty_like", "ndarray", "full", "full_like", "masked_all", "masked_all_like"),
}

# Of these, the calls that divide: nan is by design, an infinity is not.
DIVIDES = {"pct_change"}

# Builtins whose arguments cannot carry a number on.
NO_DATA_PASSED = {
    *("range", "len", "isinstance", "issubclass", "type", "id", "iter", "next", "enumerate", "zip", "super"),
    *("hasattr", "callable", "reversed", "locals", "globals", "vars", "dir"),
}

# Of these, the ones whose result is gone over in their place.
GO_OVER = {"enumerate", "zip", "reversed", "iter"}

# Calls that are arithmetic on each cell: what their result is asked (`np.log(level).max()`) may not show a bad cell.
CELLWISE_CALLS = {
    *("log", "log2", "log10", "log1p", "sqrt", "exp", "expm1", "exp2", "reciprocal", "arcsin", "arccos", "arctanh"),
    *(
        "divide",
        "true_divide",
        "div",
        "rdiv",
        "truediv",
        "rtruediv",
        "power",
        "pow",
        "rpow",
        "mod",
        "fmod",
        "remainder",
    ),
}

# Attributes that tell of data and hold none, and calls that give pieces of text or of data.
NO_DATA_ATTRIBUTES = {"shape", "size", "ndim", "dtype", "nbytes", "columns", "index", "name", "__name__", "__doc__"}
TEXT_CALLS = {"split", "rsplit", "splitlines", "partition", "rpartition", "strip", "readlines", "readline", "groups"}

# Builtins that give what is there: nothing is made by them.
NAMESPACES = {"locals", "globals", "vars", "dir"}

# A function that uses one of these sees its own frame: no temporary names in it.
SEES_FRAME = {
    *("locals", "vars", "dir", "eval", "exec", "currentframe", "_getframe", "stack", "getargvalues"),
    *("f_locals", "query", "getframeinfo"),
}

# What can bind a module's names from elsewhere.
REBINDS = {"globals", "exec", "vars", "setattr", "__dict__", "import_module", "modules", "run_path", "reload"}

# Calls that add up, whose way with infinities is that of arithmetic.
SUMS = {
    *(
        "sum",
        "mean",
        "average",
        "dot",
        "matmul",
        "prod",
        "cumsum",
        "cumprod",
        "std",
        "var",
        "fsum",
        "trapezoid",
        "diff",
    ),
    *("inner", "outer", "vdot", "einsum", "convolve", "fft", "ifft", "ptp", "norm"),
}

# Calls in which each value counts: one that is missing makes all of the result nan.
TOTALS = SUMS - {"diff", "outer", "cumsum", "cumprod", "convolve"} | {
    *("max", "min", "amax", "amin", "median", "percentile", "quantile", "trapz", "simpson", "rfft", "irfft", "fft2"),
    *("fmean", "stdev", "pstdev", "variance", "pvariance", "polyfit", "lstsq", "solve", "inv", "pinv", "det", "cond"),
    *("reduce", "accumulate"),
    *("linregress", "pearsonr", "spearmanr", "kendalltau", "ttest_ind", "ttest_rel", "ttest_1samp", "skew", "kurtosis"),
    *(
        "interp1d",
        "sumprod",
        "vecdot",
        "multi_dot",
        "gmean",
        "hmean",
        "corrcoef",
        "cov",
        "zscore",
        "detrend",
        "theilslopes",
    ),
}
