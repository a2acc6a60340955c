"""Names that a library or Python has renamed or removed, and what takes their place: old scripts meet new libraries.

Owners are modules by their names, and classes as `package.Class`.  A new name is given only where the installed
version has it.
"""

from __future__ import annotations

import ast
import builtins
import re
import sys
import types
from collections.abc import Callable

from ..core.text import str_of
from ..values.safe_read import read_attribute
from .reasons import NONE, Reason

TITLES = {"numpy": "NumPy", "scipy": "SciPy", "matplotlib": "Matplotlib", "sklearn": "scikit-learn"}
LEAVE_OUT = "leave it out"
NO_PARAMETER = re.compile(r"got an unexpected keyword argument '([^']+)'")

RENAMED: dict[str, dict[str, str]] = {
    "numpy": {
        **{"trapz": "trapezoid", "in1d": "isin", "row_stack": "vstack", "product": "prod", "cumproduct": "cumprod"},
        **{"sometrue": "any", "alltrue": "all", "round_": "round", "mat": "asmatrix", "asfarray": "asarray"},
        **{"Inf": "inf", "Infinity": "inf", "infty": "inf", "PINF": "inf", "NaN": "nan", "NAN": "nan"},
        **{"float_": "float64", "complex_": "complex128", "cfloat": "complex128", "singlecomplex": "complex64"},
        **{"longfloat": "longdouble", "longcomplex": "clongdouble", "string_": "bytes_", "unicode_": "str_"},
        **{"issubsctype": "issubdtype", "recfromtxt": "genfromtxt"},
    },
    "numpy.ndarray": {"tostring": "tobytes"},
    "pandas": {"TimeGrouper": "Grouper", "Int64Index": "Index", "UInt64Index": "Index", "Float64Index": "Index"},
    "pandas.NDFrame": {
        **{"as_matrix": "to_numpy", "get_values": "to_numpy", "tshift": "shift", "sort": "sort_values"},
        **{"order": "sort_values", "sortlevel": "sort_index", "convert_objects": "infer_objects", "pad": "ffill"},
        **{"backfill": "bfill", "ftypes": "dtypes", "iteritems": "items", "applymap": "map"},
        **{"is_monotonic": "is_monotonic_increasing"},
    },
    "pandas.Index": {"is_monotonic": "is_monotonic_increasing", "get_values": "to_numpy"},
    "pandas.GroupBy": {"pad": "ffill", "backfill": "bfill"},
    "scipy.integrate": {"trapz": "trapezoid", "cumtrapz": "cumulative_trapezoid", "simps": "simpson"}
    | {"quadrature": "quad"},
    "scipy.stats": {"median_absolute_deviation": "median_abs_deviation", "binom_test": "binomtest"},
    "scipy.linalg": {"pinv2": "pinv"},
    "scipy.optimize": {"anneal": "dual_annealing"},
    "scipy.special": {"sph_harm": "sph_harm_y"},
    "matplotlib.Axes": {"set_axis_bgcolor": "set_facecolor", "get_axis_bgcolor": "get_facecolor"},
    "sklearn.BaseEstimator": {"get_feature_names": "get_feature_names_out"},
    "networkx": {
        **{"from_numpy_matrix": "from_numpy_array", "to_numpy_matrix": "to_numpy_array"},
        **{"from_scipy_sparse_matrix": "from_scipy_sparse_array", "to_scipy_sparse_matrix": "to_scipy_sparse_array"},
    },
    "networkx.Graph": {"node": "nodes", "nodes_iter": "nodes", "edges_iter": "edges", "neighbors_iter": "neighbors"},
    "xarray.Dataset": {"drop": "drop_vars"},
    "builtins.dict": {"iteritems": "items", "itervalues": "values", "iterkeys": "keys"},
    "array.array": {"tostring": "tobytes", "fromstring": "frombytes"},
    "threading.Thread": {"isAlive": "is_alive"},
    "xml.Element": {"getiterator": "iter"},
    "time": {"clock": "perf_counter"},
    "sys": {"maxint": "maxsize"},
    "os": {"getcwdu": "getcwd"},
    "itertools": {"izip_longest": "zip_longest", "ifilterfalse": "filterfalse"},
    "string": {"letters": "ascii_letters", "lowercase": "ascii_lowercase", "uppercase": "ascii_uppercase"},
    "inspect": {"getargspec": "getfullargspec"},
    "base64": {"encodestring": "encodebytes", "decodestring": "decodebytes"},
    "locale": {"format": "format_string"},
}

REPLACED: dict[str, dict[str, str]] = {  # a built-in one can be taken as it is; after a point the same name follows
    "": {
        **{"xrange": "range", "unicode": "str", "basestring": "str", "long": "int", "raw_input": "input"},
        **{"unichr": "chr", "file": "open", "buffer": "memoryview", "reduce": "functools.reduce"},
        **{"reload": "importlib.reload", "intern": "sys.intern", "izip": "zip", "execfile": "exec"},
    },
    "numpy": {
        **{"float": "float", "int": "int", "object": "object", "str": "str", "complex": "complex", "unicode": "str"},
        **{"bool": "bool", "msort": "np.sort(a, axis=0)", "cast": "np.asarray(a, dtype)", "NINF": "-np.inf"},
        **{"find_common_type": "np.result_type", "sctypes": "the types themselves"},
    },
    "numpy.ndarray": {"itemset": "write a[k] = value", "ptp": "np.ptp(a)", "newbyteorder": "a.view"},
    "pandas": {
        **{"datetime": "datetime.datetime", "np": "write import numpy as np", "Panel": "xarray"},
        **{"rolling_mean": "x.rolling(n).mean()", "rolling_std": "x.rolling(n).std()", "ewma": "x.ewm(…).mean()"},
        **{"rolling_sum": "x.rolling(n).sum()", "rolling_apply": "x.rolling(n).apply(f)"},
        **{"SparseDataFrame": "pd.DataFrame"},
        **{"ols": "statsmodels or np.linalg.lstsq", "scatter_matrix": "pd.plotting.scatter_matrix"},
    },
    "pandas.NDFrame": {
        **{"append": "pd.concat([a, b])", "ix": ".loc for labels, .iloc for places", "bool": "bool(x.item())"},
        **{"mad": "(x - x.mean()).abs().mean()", "lookup": "x.to_numpy()[rows, columns]", "from_csv": "pd.read_csv"},
        **{"set_value": "write x.at[row, column] = value", "get_value": "x.at[row, column]"},
        **{"first": "x.loc[:end]", "last": "x.loc[start:]", "select": "x.loc", "to_panel": "xarray"},
    },
    "pandas.DatetimeIndex": {"week": "x.isocalendar().week", "weekofyear": "x.isocalendar().week"},
    "pandas.Properties": {"week": "x.dt.isocalendar().week", "weekofyear": "x.dt.isocalendar().week"},
    "scipy": {
        **dict.fromkeys(("interp", "arange", "array", "zeros", "ones", "linspace", "sqrt", "pi", "mean"), "np."),
        **dict.fromkeys(("exp", "log", "log10", "sin", "cos", "dot", "sum", "random", "rand", "randn", "where"), "np."),
    },
    "scipy.misc": {
        **{"factorial": "scipy.special.factorial", "comb": "scipy.special.comb", "imread": "imageio.v3.imread"},
        **{"logsumexp": "scipy.special.logsumexp", "derivative": "scipy.differentiate.derivative"},
        **{"electrocardiogram": "scipy.datasets.electrocardiogram", "face": "scipy.datasets.face"},
        **{"imresize": "skimage.transform.resize", "imsave": "imageio.v3.imwrite"},
    },
    "scipy.signal": dict.fromkeys(
        ("hann", "hanning", "hamming", "blackman", "gaussian", "kaiser", "boxcar", "triang", "bartlett", "tukey"),
        "scipy.signal.windows.",
    )
    | {"cwt": "the package PyWavelets", "ricker": "the package PyWavelets"},
    "scipy.stats": {
        **{
            "itemfreq": "np.unique(x, return_counts=True)",
            "signaltonoise": "x.mean() / x.std()",
            "chisqprob": "chi2.sf",
        },
        **{"histogram": "np.histogram", "nanmean": "np.nanmean", "nanmedian": "np.nanmedian", "nanstd": "np.nanstd"},
    },
    "scipy.integrate": {"romberg": "quad(f, a, b)[0]"},
    "scipy.linalg": {"kron": "np.kron", "triu": "np.triu", "tril": "np.tril"},
    "scipy.interpolate": {"spline": "make_interp_spline", "interp2d": "RegularGridInterpolator"},
    "matplotlib.cm": {"get_cmap": "matplotlib.colormaps[name]"},
    "matplotlib.pyplot": {"hold": LEAVE_OUT},
    "matplotlib.Axes": {"hold": LEAVE_OUT, "set_color_cycle": "set_prop_cycle(color=…)"},
    "networkx": {"connected_component_subgraphs": "[G.subgraph(c) for c in nx.connected_components(G)]"},
    "xml.Element": {"getchildren": "list(element)"},
    "os": {"errno": "write import errno"},
    "matplotlib.FigureCanvasBase": {"set_window_title": "canvas.manager.set_window_title(…)"},
    "builtins.dict": {"has_key": "write key in d"},
    "builtins.str": {"decode": "the text itself: it is decoded"},
    "builtins.generator": {"next": "next(x)"},
    "itertools": {"izip": "zip", "imap": "map", "ifilter": "filter"},
    "fractions": {"gcd": "math.gcd"},
    "string": {"join": "separator.join(parts)", "maketrans": "str.maketrans", "atof": "float", "atoi": "int"},
    "cgi": {"escape": "html.escape"},
    "collections": dict.fromkeys(
        (
            *("Mapping", "MutableMapping", "Sequence", "MutableSequence", "Iterable", "Iterator", "Callable", "Set"),
            *("MutableSet", "Sized", "Hashable", "Container", "Generator"),
        ),
        "collections.abc.",
    ),
}

MODULES = {  # of an import that fails
    **{"ConfigParser": "configparser", "Queue": "queue", "cPickle": "pickle", "StringIO": "io", "cStringIO": "io"},
    **{"urllib2": "urllib.request", "urlparse": "urllib.parse", "httplib": "http.client", "Tkinter": "tkinter"},
    **{"tkMessageBox": "tkinter.messagebox", "commands": "subprocess", "__builtin__": "builtins"},
    **{"imp": "importlib", "pipes": "shlex", "asyncore": "asyncio"},
    **{"scipy.misc": "scipy.special, scipy.datasets or imageio", "pandas.tools": "pandas.plotting"},
    **{"pandas.util.testing": "pandas.testing", "pandas.tseries.tools": "pandas.to_datetime"},
    **{"pandas.io.data": "the package pandas-datareader", "pandas.stats": "statsmodels"},
    **{"sklearn.cross_validation": "sklearn.model_selection", "sklearn.grid_search": "sklearn.model_selection"},
    **{"sklearn.externals": "joblib", "sklearn.learning_curve": "sklearn.model_selection"},
    **{"sklearn.lda": "sklearn.discriminant_analysis", "sklearn.preprocessing.imputation": "sklearn.impute"},
    **{"sklearn.datasets.samples_generator": "sklearn.datasets", "sklearn.utils.linear_assignment_": "scipy.optimize"},
    **{"statsmodels.tsa.arima_model": "statsmodels.tsa.arima.model", "matplotlib.finance": "the package mplfinance"},
    **{"scipy.weave": "numba or Cython"},
    **{"distutils": "setuptools"},
}

KEYWORDS: dict[str, dict[tuple[str, str], str]] = {  # by the function's name and the keyword; those with `=` are values
    "pandas": {
        ("to_csv", "line_terminator"): "lineterminator",
        ("to_csv", "cols"): "columns",
        ("read_excel", "sheetname"): "sheet_name",
        ("to_excel", "sheetname"): "sheet_name",
        ("date_range", "closed"): "inclusive",
        ("between_time", "include_start"): "inclusive",
        ("read_csv", "error_bad_lines"): "on_bad_lines='skip'",
        ("read_csv", "warn_bad_lines"): "on_bad_lines='warn'",
        ("read_csv", "squeeze"): ".squeeze('columns') on the result",
        ("read_csv", "date_parser"): "date_format, or pd.to_datetime afterwards",
        ("read_csv", "infer_datetime_format"): LEAVE_OUT,
        ("read_csv", "delim_whitespace"): "sep=r'\\s+'",
        ("to_datetime", "infer_datetime_format"): LEAVE_OUT,
        ("fillna", "method"): ".ffill() or .bfill()",
        ("replace", "method"): ".ffill() or .bfill()",
        ("resample", "how"): ".resample(…).mean() or another method",
        ("resample", "loffset"): "an offset added to the result's index",
        ("resample", "base"): "offset or origin",
        ("concat", "join_axes"): ".reindex(…) on the result",
        ("groupby", "axis"): "x.T.groupby(…)",
        ("groupby", "squeeze"): ".squeeze() on the result",
        **{
            (f, "level"): f"x.groupby(level=…).{f}()"
            for f in ("sum", "mean", "std", "var", "min", "max", "median", "count", "prod")
        },
    },
    "numpy": {("histogram", "normed"): "density", ("histogram2d", "normed"): "density"},
    "scipy": {
        **{(f, "tol"): "rtol" for f in ("cg", "cgs", "gmres", "bicg", "bicgstab", "minres", "qmr", "lgmres")},
        ("simpson", "even"): LEAVE_OUT,
    },
    "matplotlib": {
        ("hist", "normed"): "density",
        ("subplot", "axisbg"): "facecolor",
        ("add_subplot", "axisbg"): "facecolor",
        ("axes", "axisbg"): "facecolor",
        ("gca", "projection"): "fig.add_subplot(projection=…)",
        ("boxplot", "labels"): "tick_labels",
        ("grid", "b"): "visible",
    },
    "sklearn": {
        ("OneHotEncoder", "sparse"): "sparse_output",
        ("AgglomerativeClustering", "affinity"): "metric",
        ("KFold", "n_folds"): "n_splits",
        ("StratifiedKFold", "n_folds"): "n_splits",
        ("CountVectorizer", "charset"): "encoding",
        ("AdaBoostClassifier", "base_estimator"): "estimator",
        ("BaggingClassifier", "base_estimator"): "estimator",
        ("BaggingRegressor", "base_estimator"): "estimator",
        ("GradientBoostingRegressor", "presort"): LEAVE_OUT,
        ("LinearRegression", "normalize"): "a StandardScaler before it",
        ("Ridge", "normalize"): "a StandardScaler before it",
        ("Lasso", "normalize"): "a StandardScaler before it",
    },
}


def of_name(name: str) -> Reason:
    """Of a variable that is not there: a built-in function of Python 2."""
    return _replaced("", name) or NONE


def of_attribute(name: str, owner: object, names: set[str]) -> Reason:
    """Of an attribute that is not there.  `names`: those that the owner has."""
    for key in _keys(owner):
        new = RENAMED.get(key, {}).get(name)
        if new in names and new != name:
            return Reason("renamed", f"the new name: {new}", near=(str(new),))
        if found := _replaced(key, name):
            return found
    return NONE


def of_keyword(exc: BaseException, node: ast.Call, function: object) -> Reason:
    """Of an argument that a library's function has no more.  `node`: the call, which must name it."""
    said = NO_PARAMETER.search(str_of(exc))
    if said is None or said[1] not in [k.arg for k in node.keywords]:
        return NONE
    library = str(read_attribute(function, "__module__")).partition(".")[0]
    called = node.func.attr if isinstance(node.func, ast.Attribute) else getattr(node.func, "id", "")
    new = KEYWORDS.get(library, {}).get((called, said[1]))
    if new is None:
        return NONE
    if new.isidentifier():
        return Reason("renamed-keyword", f"the new keyword: {new}", near=(said[1], new))
    return Reason("removed", f"{_title(library)} has removed {said[1]}: {_advice(new)}")


def of_module(name: str) -> str:
    """Of a module that cannot be found, as a part of a sentence; empty where it is none of these."""
    parts = name.split(".")
    for n in range(len(parts), 0, -1):
        if new := MODULES.get(".".join(parts[:n])):
            return f"{_title(parts[0])} has removed {name}: use {new}"
    return ""


def _replaced(key: str, name: str) -> Reason | None:
    new = REPLACED.get(key, {}).get(name)
    if new is None:
        return None
    near = (new,) if hasattr(builtins, new) else ()
    text = f"{_title(key)} has removed {name}: {_advice(f'{new}{name}' if new.endswith('.') else new)}"
    return Reason("replaced" if near else "removed", text, near=near)


def _advice(new: str) -> str:
    return new if new.startswith(("leave ", "write ")) else f"use {new}"


def _keys(owner: object) -> list[str]:
    """The names under which an owner stands in the tables."""
    kind = type(owner)
    if issubclass(kind, types.ModuleType):
        return [str(read_attribute(owner, "__name__"))]
    classes = [*(type.__getattribute__(owner, "__mro__") if issubclass(kind, type) else ()), *kind.__mro__]
    return [f"{str(c.__module__).partition('.')[0]}.{c.__name__}" for c in classes]


def _title(key: str) -> str:
    top = key.partition(".")[0]
    own: Callable[[str], bool] = sys.stdlib_module_names.__contains__
    return "Python 3" if not top or own(top) or top in MODULES else TITLES.get(top, top)
