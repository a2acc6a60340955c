"""Finds nan and infinities in a value: how many, and which cells.

numpy and its kin are used only when the script has imported them.  Nothing here changes a value, and a
value that resists being looked at counts as finite.
"""

from __future__ import annotations

import math
import sys
import types
from collections.abc import Sequence
from typing import Any

from ..core import signal_masking
from ..core.data_types import Array, Column
from ..core.type_identity import TypeIds, TypeTable, is_one_of, key_of
from . import polars_cells, quick_look, tensor_arrays

MAX = sys.float_info.max
ELSEWHERE = ("dask", "dask_expr", "h5py", "netCDF4", "zarr")  # packages whose values are computed or read on demand
LOOKED_INTO = 100_000  # elements of a list or dict that are looked at

# Types that can hold nothing non-finite, or that are somebody else's to judge.
PLAIN = TypeIds(int, str, bytes, bool, type(None), type, range, slice, types.BuiltinFunctionType)
PLAIN.take(
    types.FunctionType,
    types.ModuleType,
    types.GeneratorType,
    bytearray,
    memoryview,
    set,
    frozenset,
    type(Ellipsis),
)


def module(name: str) -> Any:
    """A module if the script has imported it (wholly), else None."""
    found = sys.modules.get(name)
    return found if found is not None and getattr(found, "__spec__", None) is not None else None


def _named(kind: type, home: str, name: str) -> bool:
    """True for a class of a module that the script may not have imported, and for its subclasses."""
    found = getattr(sys.modules.get(home), name, None)
    return isinstance(found, type) and issubclass(kind, found)


def _is_decimal(kind: type) -> bool:
    return _named(kind, "decimal", "Decimal")


def count(value: Any) -> int:
    """The number of non-finite cells of a value (for pandas: missing or infinite); 0 when it is fine."""
    kind = type(value)
    if kind is float:
        return 0 if -MAX <= value <= MAX else 1
    if key_of(kind) in PLAIN:
        return 0
    try:
        looker = _LOOKERS.get(kind) or _looker(kind)
        return int(looker(value))
    except Exception as e:
        if signal_masking.is_the_scripts(e):
            raise
        return 0


def any_bad(value: Any) -> bool:
    """True when a value has a non-finite cell; stops looking at the first."""
    if type(value) is quick_look.ndarray:
        if quick_look.is_fine(value):
            return False
        np = module("numpy")
        if np is not None and value.dtype.kind in "fc":
            return quick_look.has_bad_cell(np, value)
    return count(value) > 0


def mask(value: Any) -> Any:
    """Which cells are non-finite: a numpy array of bool, or one bool for a scalar."""
    np = module("numpy")
    pd = module("pandas")
    if np is None or (
        (isinstance(value, (float, complex, int)) or _is_decimal(type(value))) and not isinstance(value, np.generic)
    ):
        return count(value) > 0
    if tensor_arrays.is_tensor(type(value)):
        value = tensor_arrays.as_numpy(value)
    if pd is not None and isinstance(value, (pd.Series, pd.Index)):
        return _pandas_mask(np, pd, value)
    if pd is not None and isinstance(value, pd.DataFrame):
        return np.column_stack([_pandas_mask(np, pd, value.iloc[:, i]) for i in range(value.shape[1])])
    if polars_cells.is_one(value):
        return polars_cells.mask(np, value)
    if isinstance(value, np.ma.MaskedArray):
        return np.asarray(~np.isfinite(value.filled(0)))
    if isinstance(value, (list, tuple)):
        value = plain_list(value)
        if len(value) > LOOKED_INTO:
            return count(value) > 0
        return np.array([count(v) > 0 for v in value], dtype=bool)
    cells = np.asarray(value)
    if cells.dtype.kind in "fc":
        return ~np.isfinite(cells)
    if cells.dtype.kind == "O" and cells.size <= LOOKED_INTO:
        return np.array([count(v) > 0 for v in cells.ravel()], dtype=bool).reshape(cells.shape)
    return np.zeros(cells.shape, dtype=bool)


def any_infinite(value: object) -> bool:
    """True when a cell of an array, a frame or a number is an infinity; missing cells do not count."""
    np = module("numpy")
    bad, nan = mask(value), nan_mask(value)
    return bool(np.any(bad & ~np.asarray(nan))) if np is not None else bool(bad) and not nan


def only_infinite(value: object) -> bool:
    """True when a value has infinities, and no cell that is nan."""
    nan = nan_mask(value)
    return any_infinite(value) and not (nan if isinstance(nan, bool) else nan.any())


def is_frame(value: object) -> bool:
    """True for pandas' frames, series and indexes."""
    pd = module("pandas")
    return pd is not None and isinstance(value, (pd.DataFrame, pd.Series, pd.Index))


def nan_mask(value: object) -> Any:
    """Which cells are nan: a numpy array of bool, or one bool for a scalar.  Infinities do not count."""
    np, pd = module("numpy"), module("pandas")
    if isinstance(value, (float, complex)) or _is_decimal(type(value)):
        return bool(value != value)
    if np is None:
        return polars_cells.is_one(value) and polars_cells.nan(value) + polars_cells.missing(value) > 0
    if tensor_arrays.is_tensor(type(value)):
        value = tensor_arrays.as_numpy(value)
    if isinstance(value, (list, tuple)):
        return np.array([bool(np.any(nan_mask(v))) for v in plain_list(value)[:LOOKED_INTO]], dtype=bool)
    if pd is not None and isinstance(value, (pd.Series, pd.Index, pd.DataFrame)):
        return np.asarray(value.isna())
    if polars_cells.is_one(value):
        return polars_cells.nan_mask(np, value)
    if isinstance(value, (np.ndarray, np.generic)) and value.dtype.kind in "fc":
        return np.isnan(value.filled(0) if isinstance(value, np.ma.MaskedArray) else _cells(np, value))
    if _LOOKERS.get(type(value)) is _offers_array and is_in_memory(value):
        cells = np.asarray(value)
        return np.isnan(cells) if cells.dtype.kind in "fc" else False
    return False


def _looker(kind: type) -> Any:
    """Chooses, once for each type, how its values are looked at."""
    try:
        return _choose_looker(kind, str(type.__getattribute__(kind, "__module__")))
    except Exception as e:  # a metaclass of the script's that resists
        if signal_masking.is_the_scripts(e):
            raise
        _LOOKERS[kind] = _nothing
        return _nothing


def has_look(kind: type) -> bool:
    """True for a type that has been met, and whose values are looked into."""
    return _LOOKERS.get(kind, _nothing) is not _nothing


def is_never_bad(kind: type) -> bool:
    """True for a type that has been met, and whose values nothing is looked for in."""
    return _LOOKERS.get(kind) is _nothing


def _choose_looker(kind: type, home: str) -> object:
    np, pd = module("numpy"), module("pandas")
    found: object = _nothing
    if np is not None and issubclass(kind, np.ma.MaskedArray):
        found = _masked
    elif np is not None and issubclass(kind, np.ndarray):
        quick_look.prepare(np)
        found = _array
    elif np is not None and issubclass(kind, np.generic):
        found = _scalar if issubclass(kind, (np.floating, np.complexfloating)) else _nothing
    elif issubclass(kind, float):
        found = _float
    elif issubclass(kind, complex):
        found = _complex
    elif _is_decimal(kind):
        found = _decimal
    elif issubclass(kind, (list, tuple)):
        found = _sequence
    elif issubclass(kind, dict):
        found = _mapping
    elif _named(kind, "array", "array"):
        found = _typed_array
    elif pd is not None and issubclass(kind, (pd.Series, pd.Index)):
        found = _series
    elif pd is not None and issubclass(kind, pd.DataFrame):
        found = _frame
    elif tensor_arrays.is_tensor(kind):
        found = _tensor
    elif home.startswith("polars."):
        found = _polars
    elif home.startswith("pyarrow") and hasattr(kind, "null_count") and np is not None:
        found = _arrow
    elif home.startswith("scipy.sparse"):
        found = _sparse
    elif np is not None and hasattr(kind, "__array__") and _is_installed(home):
        found = _offers_array
    if np is not None or not hasattr(kind, "__array__"):  # else numpy may yet be imported
        _LOOKERS[kind] = found
    return found


def _is_installed(home: str) -> bool:
    """True for a class of an installed package: the script's own code is not run to look at a value."""
    path = str(getattr(sys.modules.get(home), "__file__", None) or "")
    return "site-packages" in path or "dist-packages" in path


def _nothing(value: object) -> int:
    return 0


def _float(value: float) -> int:
    return 0 if math.isfinite(value) else 1


def _complex(value: complex) -> int:
    return 0 if math.isfinite(value.real) and math.isfinite(value.imag) else 1


def _decimal(value: Any) -> int:
    return 0 if value.is_finite() else 1


def _scalar(value: object) -> int:
    return 0 if sys.modules["numpy"].isfinite(value) else 1


def _cells(np: types.ModuleType, value: object) -> object:
    """An array without what a subclass makes of its operations: a look at it runs no code of the script's."""
    if type(value) is np.ndarray or not isinstance(value, np.ndarray):
        return value
    return np.ndarray.view(value, np.ndarray)


def _array(value: Any) -> int:
    np = sys.modules["numpy"]
    value = _cells(np, value)
    kind = value.dtype.kind
    if kind in "fc":
        return count_cells(np, value)
    if kind == "O" and value.size <= LOOKED_INTO:
        return sum(count(v) > 0 for v in value.ravel().tolist())
    if kind == "V" and value.dtype.names:
        return sum(_array(value[name]) for name in value.dtype.names)
    return 0


def count_cells(np: types.ModuleType, value: Array) -> int:
    """Non-finite cells of a float or complex array; no copy of it is made."""
    size: int = value.size
    if size <= quick_look.CHUNK:
        good = np.isfinite(value)
        return 0 if good.all() else size - int(np.count_nonzero(good))
    if not (value.flags.c_contiguous or value.flags.f_contiguous):
        return sum(count_cells(np, part) for part in value)
    flat = value.reshape(-1, order="A")
    good = np.empty(quick_look.CHUNK, dtype=bool)
    bad = 0
    for start in range(0, size, quick_look.CHUNK):
        part = flat[start : start + quick_look.CHUNK]
        truth = good[: part.size]
        np.isfinite(part, out=truth)
        if not truth.all():
            bad += part.size - int(np.count_nonzero(truth))
    return bad


def _masked(value: Array) -> int:
    np = sys.modules["numpy"]
    if value.dtype.kind not in "fc":
        return 0
    return int(np.count_nonzero(~np.isfinite(value.filled(0))))


def plain_list(value: object) -> Sequence[object]:
    """The elements of a list or tuple (so many as are looked at), past what a subclass makes of `len` and `iter`."""
    if type(value) is list or type(value) is tuple:
        return value
    base: Any = list if isinstance(value, list) else tuple
    return base.__getitem__(value, slice(0, LOOKED_INTO))


def _sequence(value: Any) -> int:
    value = plain_list(value)
    size = len(value)
    if size == 0:
        return 0
    if size <= 16:
        return sum(_element(v) for v in value)
    first = type(value[0])
    if issubclass(first, (float, complex)):
        try:
            if math.isfinite(abs(sum(value))):
                return 0
        except (TypeError, OverflowError, ValueError):
            pass
        return sum(_element(v) for v in value[:LOOKED_INTO])
    if key_of(first) in PLAIN or size > 1000:
        return 0
    return sum(_element(v) for v in value)


def _element(value: Any) -> int:
    kind = type(value)
    if kind is float:
        return 0 if -MAX <= value <= MAX else 1
    if key_of(kind) in PLAIN:
        return 0
    looker = _LOOKERS.get(kind) or _looker(kind)
    if looker in (_sequence, _mapping, _frame, _offers_array, _polars):
        return 0  # no deeper than one level
    return int(looker(value))


def _mapping(value: dict[object, object]) -> int:
    return sum(_element(v) for v in dict.values(value)) if dict.__len__(value) <= 1000 else 0


def _typed_array(value: Any) -> int:
    return sum(not math.isfinite(v) for v in value) if value.typecode in "fd" and len(value) <= LOOKED_INTO else 0


def _pandas_mask(np: types.ModuleType, pd: types.ModuleType, value: Column) -> Array:
    kind = getattr(value.dtype, "kind", "O")
    if kind == "f" and isinstance(value.dtype, np.dtype):
        return ~np.isfinite(value.to_numpy())
    if kind in "iub" and isinstance(value.dtype, np.dtype):
        return np.zeros(len(value), dtype=bool)
    missing = np.asarray(value.isna())
    if kind == "f":
        missing = missing | np.isinf(value.to_numpy(dtype=float, na_value=np.nan))
    return missing


def _series(value: Column) -> int:
    np, pd = sys.modules["numpy"], sys.modules["pandas"]
    kind = getattr(value.dtype, "kind", "O")
    if kind in "fc" and isinstance(value.dtype, np.dtype):
        return count_cells(np, value.to_numpy())
    if kind in "iub" and isinstance(value.dtype, np.dtype):
        return 0
    if kind not in "fcmM" and len(value) > LOOKED_INTO * 10:
        return 0
    return int(np.count_nonzero(_pandas_mask(np, pd, value)))


def _frame(value: object) -> int:
    return sum(columns(value).values())


def columns(frame: Any) -> dict[Any, int]:
    """Missing or infinite cells of each column of a frame of pandas or polars that has any."""
    if polars_cells.is_one(frame):
        return polars_cells.columns(frame)
    found: dict[object, int] = {}
    for number in range(min(frame.shape[1], 10_000)):
        bad = _series(frame.iloc[:, number])
        if bad:
            name = frame.columns[number]
            found[name] = found.get(name, 0) + bad
    return found


def _polars(value: object) -> int:
    return polars_cells.missing(value) + polars_cells.not_finite(value) if polars_cells.is_one(value) else 0


def _tensor(value: object) -> int:
    cells = tensor_arrays.as_numpy(value)
    return count(cells) if cells is not None else 0


def _arrow(value: Any) -> int:
    """Missing cells, and those of the others that are not finite."""
    np = sys.modules["numpy"]
    bad = int(value.null_count)
    if str(value.type) in ("float", "double", "halffloat"):
        bad += count(np.asarray(value.drop_null()))
    return bad


def _sparse(value: object) -> int:
    data = getattr(value, "data", None)
    np = sys.modules["numpy"]
    return count(data) if isinstance(data, np.ndarray) else 0


def is_in_memory(value: object) -> bool:
    """False for what would have to be read from a file (h5py, netCDF4, zarr, xarray's) or computed (Dask's)."""
    home = str(type.__getattribute__(type(value), "__module__")).partition(".")[0]
    if home in ELSEWHERE or home == "xarray":
        graph = getattr(value, "__dask_graph__", None)
        variable = getattr(value, "variable", value)
        return home == "xarray" and (graph is None or graph() is None) and bool(getattr(variable, "_in_memory", True))
    return True


def _offers_array(value: object) -> int:
    """Only where the value itself holds floats: a conversion may make nan of what is merely missing."""
    np = sys.modules["numpy"]
    if "float" not in str(getattr(value, "dtype", "")) and "complex" not in str(getattr(value, "dtype", "")):
        return 0
    if not is_in_memory(value):
        return 0
    cells = np.asarray(value)
    return _array(cells) if isinstance(cells, np.ndarray) and cells.dtype.kind in "fc" else 0


_LOOKERS: TypeTable[Any] = TypeTable()


def is_number_kind(kind: type) -> bool:
    """True for immutable kinds of numbers: their augmented operators make a new value."""
    np = module("numpy")
    if np is not None and issubclass(kind, np.generic):
        return issubclass(kind, np.number)
    return is_one_of(kind, float, int, complex) or _is_decimal(kind)
