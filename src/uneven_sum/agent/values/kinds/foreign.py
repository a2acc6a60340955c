"""SciPy's sparse matrices, polars, PyArrow, xarray, and what offers `__dataframe__`."""

from __future__ import annotations

from typing import Any

from ...core.data_types import ArrowColumn, ArrowTable, Labelled, SparseMatrix
from ...core.text import clean, plural
from .. import nonfinite
from ..nonfinite import module
from ..safe_read import safe_kind
from .arrays import cells, figures
from .base import Fact, Kind, Pair, Summary, element, register
from .grids import Grid, array_grid, encoded, numbered_grid


def _sparse(value: SparseMatrix) -> Summary:
    shape = [int(n) for n in value.shape]
    text = f"{' x '.join(map(str, shape))} sparse {value.dtype}, {value.nnz} stored"
    bad = nonfinite.count(value)
    told = f", {bad} not finite" if bad else ""
    return {"shape": shape, "dtype": str(value.dtype), "kind": "array", "text": text + told, "nonfinite": bad}


def _sparse_facts(value: SparseMatrix) -> list[Fact]:
    np = module("numpy")
    cells = 1
    for n in value.shape:
        cells *= int(n)
    facts = [("format", value.format), ("stored", f"{value.nnz} of {cells} cells"), ("dtype", str(value.dtype))]
    data = getattr(value, "data", None)
    if isinstance(data, np.ndarray) and data.size and data.dtype.kind in "fiuc":
        facts += [(f"{name} (stored)", text) for name, text in figures(np, data)]
    return facts


def _sparse_grid(value: SparseMatrix) -> Grid:
    """Rows are made dense only for the page that is shown."""
    np = module("numpy")
    table = value if len(value.shape) > 1 else value.reshape((-1, 1))
    by_rows = table.tocsr() if table.format != "csr" else table
    rows, columns = (int(n) for n in table.shape[-2:])

    def part(c: int, first: int, last: int) -> tuple[str, object]:
        return encoded(np, np.asarray(by_rows[first:last, c].todense()).reshape(-1))

    return numbered_grid(rows, columns, part, value)


def _names(value: Any) -> list[str]:
    found = getattr(value, "columns", None)
    if found is None or not all(isinstance(n, str) for n in list(found)[:1]):
        found = value.schema.names
    return [str(n) for n in found]


def _table(value: ArrowTable) -> Summary:
    shape = [int(n) for n in value.shape]
    names = _names(value)
    shown = ", ".join(clean(n, 20) for n in names[:5]) + (", …" if len(names) > 5 else "")
    return {"shape": shape, "kind": "frame", "text": f"{shape[0]} rows x {plural(len(names), 'column')}: {shown}"}


def _column(value: Any, name: str) -> ArrowColumn:
    column: ArrowColumn = value.get_column(name) if hasattr(value, "get_column") else value.column(name)
    return column


def _missing(column: Any) -> int:
    """How many cells are null: a method of polars, a number of PyArrow."""
    return int(column.null_count() if callable(column.null_count) else column.null_count)


def _cells(part: Any) -> tuple[str, Any]:
    np = module("numpy")
    listed = part.to_list() if hasattr(part, "to_list") else part.to_pylist()
    if np is not None and listed and all(isinstance(v, (float, int)) or v is None for v in listed):
        return "f8", np.array([float("nan") if v is None else float(v) for v in listed], dtype="<f8")
    return "text", [clean(v if isinstance(v, str) else str(v), 80) for v in listed]


def _table_grid(value: ArrowTable) -> Grid:
    names = _names(value)
    rows = int(value.shape[0])
    return Grid(
        rows,
        len(names),
        lambda start, count: [str(r) for r in range(start, min(rows, start + count))],
        lambda start, count: [clean(n, 40) for n in names[start : start + count]],
        lambda c, first, last: _cells(_column(value, names[c]).slice(first, last - first)),
        source=value,
    )


def _table_facts(value: ArrowTable) -> list[Fact]:
    names = _names(value)
    facts = [("rows", str(int(value.shape[0]))), ("columns", str(len(names)))]
    for name in names[:30]:
        column = _column(value, name)
        missing = _missing(column)
        kind = getattr(column, "dtype", None) or getattr(column, "type", "")
        facts.append((clean(name, 24), f"{kind}" + (f", {missing} missing" if missing else "")))
    return facts


def _table_children(value: ArrowTable, start: int, count: int) -> list[Pair]:
    return [(clean(n, 60), _column(value, n)) for n in _names(value)[start : start + count]]


def _series(value: ArrowColumn) -> Summary:
    bad = nonfinite.count(value)
    told = f", {bad} missing or not finite" if bad else ""
    kind = getattr(value, "dtype", None) or getattr(value, "type", "")
    return {"shape": [len(value)], "dtype": str(kind), "kind": "frame", "text": f"{len(value)} rows {kind}{told}"}


def _series_facts(value: ArrowColumn) -> list[Fact]:
    missing = _missing(value)
    kind = getattr(value, "dtype", None) or getattr(value, "type", "")
    facts = [("rows", str(len(value))), ("dtype", str(kind)), ("missing", str(missing))]
    np = module("numpy")
    kind_, data = _cells(value.slice(0, min(len(value), 1_000_000)))
    return facts + (figures(np, data) if np is not None and kind_ == "f8" and len(data) else [])


def _series_grid(value: ArrowColumn) -> Grid:
    return Grid(
        len(value),
        1,
        lambda start, count: [str(r) for r in range(start, min(len(value), start + count))],
        lambda start, count: ["value"][start : start + count],
        lambda c, first, last: _cells(value.slice(first, last - first)),
        source=value,
    )


def _series_plots(value: ArrowColumn) -> list[str]:
    numeric = _cells(value.slice(0, min(5, len(value))))[0] == "f8"
    return ["line", "histogram", "frequent"] if numeric else ["frequent"]


def _table_plots(value: ArrowTable) -> list[str]:
    first = [_cells(_column(value, n).slice(0, 5))[0] for n in _names(value)[:50]]
    found = ["line", "histogram"] if "f8" in first else []
    return found + (["scatter"] if first.count("f8") > 1 else []) + (["frequent"] if first else [])


def _labelled(value: Labelled) -> Summary:
    sizes = dict(value.sizes)
    bad = nonfinite.count(value) if hasattr(value, "dtype") else 0
    told = f"{', ' + str(bad) + ' not finite' if bad else ''}"
    told += "" if nonfinite.is_in_memory(value) else ", not computed"
    if hasattr(value, "dtype") and not sizes and nonfinite.is_in_memory(value):
        text = f"one {value.dtype}: {element(value.values[()])}"
        return {"shape": [], "kind": "array", "text": text, "nonfinite": bad}
    text = (", ".join(f"{n} {k}" for n, k in sizes.items()) or "no dimensions") + told
    return {"shape": [int(n) for n in sizes.values()], "kind": "array", "text": text, "nonfinite": bad}


def _labelled_facts(value: Labelled) -> list[Fact]:
    facts = [("dimensions", ", ".join(f"{n} {k}" for n, k in dict(value.sizes).items()))]
    if hasattr(value, "coords"):
        facts.append(("coordinates", ", ".join(map(str, value.coords)) or "none"))
    if hasattr(value, "data_vars"):
        facts.append(("variables", ", ".join(map(str, value.data_vars))))
    if not hasattr(value, "dtype"):
        return facts
    if not nonfinite.is_in_memory(value):
        return [*facts, ("values", "not read or computed: ask for .load()")]
    np = module("numpy")
    array = np.asarray(value.values)
    return facts + (figures(np, array) if array.dtype.kind in "fiuc" and array.size else [])


def _labelled_children(value: Labelled, start: int, count: int) -> list[Pair]:
    held = getattr(value, "data_vars", None)
    names = list(getattr(value, "coords", ()) if held is None else held)
    return [(str(n), value[n]) for n in names[start : start + count]]


def _labelled_grid(value: Labelled, text: str) -> Grid | None:
    if not hasattr(value, "dtype") or not nonfinite.is_in_memory(value):
        return None
    return array_grid(module("numpy").asarray(value.values), text)


def _interchange(value: Any) -> Summary:
    found = value.__dataframe__()
    rows, columns = found.num_rows(), found.num_columns()
    names = ", ".join(clean(str(n), 20) for n in list(found.column_names())[:5])
    return {"shape": [rows, columns], "kind": "frame", "text": f"{rows} rows x {plural(columns, 'column')}: {names}"}


def _offers_line(value: object) -> Summary:
    shape = getattr(value, "shape", None)
    dims = [int(n) for n in shape] if isinstance(shape, tuple) else None
    dtype = str(getattr(value, "dtype", "")) or None
    size = cells(tuple(dims)) if dims else f"{type(value).__name__}, array-like"
    return {"shape": dims, "dtype": dtype, "kind": "array", "text": f"{size} {dtype or ''}".strip()}


def _offers(kind: type) -> bool:
    np = module("numpy")
    return np is not None and hasattr(kind, "__array__") and not kind.__module__.startswith("__") and safe_kind(kind)


def _offers_frame(kind: type) -> bool:
    return hasattr(kind, "__dataframe__") and safe_kind(kind)


register(
    Kind(_sparse, _sparse_facts, None, None, _sparse_grid, None),
    names=("scipy.sparse._dok.dok_matrix", "scipy.sparse._dok.dok_array"),  # dictionaries, too
    test=lambda kind: kind.__module__.startswith("scipy.sparse") and hasattr(kind, "nnz"),
)
_TABLE = Kind(_table, _table_facts, lambda v: len(_names(v)), _table_children, _table_grid, _table_plots)
_SERIES = Kind(_series, _series_facts, None, None, _series_grid, _series_plots)
register(_TABLE, test=lambda kind: kind.__module__.startswith("polars") and hasattr(kind, "get_column"))
register(_TABLE, test=lambda kind: kind.__module__.startswith("pyarrow") and hasattr(kind, "schema"))
register(_SERIES, test=lambda kind: kind.__module__.startswith("polars") and hasattr(kind, "to_list"))
register(
    Kind(lambda v: {"text": f"the expression {clean(str(v))}", "kind": "object"}),
    test=lambda kind: kind.__module__.startswith("polars") and hasattr(kind, "meta"),
)
register(_SERIES, test=lambda kind: kind.__module__.startswith("pyarrow") and hasattr(kind, "null_count"))
register(
    Kind(lambda v: {"text": "a plan that has not run: collect() runs it", "kind": "object"}),
    names=("polars.lazyframe.frame.LazyFrame",),
)
register(
    Kind(
        _labelled,
        _labelled_facts,
        lambda v: len(_labelled_children(v, 0, 1000)),
        _labelled_children,
        sliced=_labelled_grid,
    ),
    test=lambda kind: kind.__module__.startswith("xarray") and hasattr(kind, "dims") and hasattr(kind, "sizes"),
)
register(Kind(_interchange), test=_offers_frame)
register(Kind(_offers_line), test=_offers)
