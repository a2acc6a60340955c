"""pandas: frames, series, indexes, categoricals."""

from __future__ import annotations

import types
from collections.abc import Callable
from typing import Any

from ...core import run_state
from ...core.data_types import Array, Column, Frame
from ...core.text import clean, number, plural
from .. import nonfinite, statistics
from ..nonfinite import module
from .arrays import SCANNED, memory, picture, range_text
from .base import Fact, Kind, Pair, Summary, element, register
from .grids import Grid, encoded

SHOWN = 30  # columns that are described one by one
COUNTED = 5_000_000  # rows up to which distinct values are counted


def _numbers(value: Column) -> Array:
    """The cells of a numeric column as numpy floats; missing ones are nan."""
    np = module("numpy")
    if isinstance(value.dtype, np.dtype) and value.dtype.kind in "fiub":
        return value.to_numpy()
    return value.to_numpy(dtype=float, na_value=float("nan"))


def is_numeric(value: Any) -> bool:
    return getattr(value.dtype, "kind", "O") in "fiu"


def _series(value: Column) -> Summary:
    np = module("numpy")
    base: Summary = {"shape": [len(value)], "dtype": str(value.dtype), "kind": "frame"}
    name = f"{value.name}, " if value.name is not None else ""
    head = f"{name}{plural(len(value), 'row')} {value.dtype}"
    bad = nonfinite.count(value)
    told = ""
    pictured: Summary = {}
    if is_numeric(value) and len(value) and len(value) <= SCANNED:
        data = _numbers(value)
        told = ", " + range_text(statistics.measure(np, data, moments=False), is_whole(value))
        pictured = picture(np, data)
    elif len(value):
        told = ": " + ", ".join(_cell(v) for v in value.iloc[:3]) + (", …" if len(value) > 3 else "")
    if bad:
        mask = nonfinite.mask(value)
        missing = int(nonfinite.nan_mask(value).sum())
        kinds = ", ".join(f"{n} {word}" for n, word in ((missing, "missing"), (bad - missing, "infinite")) if n)
        told += f", {kinds}, first at row {_place(value.index, int(np.argmax(mask)))}"
    return {**base, "text": clean(head, 80) + told, "nonfinite": bad, **pictured}


def _place(index: Column, row: int) -> str:
    """The number of a row, and its label where that is another."""
    name = label(index[row], 20)
    return str(row) if name == str(row) else f"{row} ({name})"


def _cell(value: object) -> str:
    """One cell of a column that is not of numbers, short."""
    home = type(value).__module__.partition(".")[0]
    return label(value, 24) if isinstance(value, str) or home in ("pandas", "datetime") else element(value)


def _series_facts(value: Column) -> list[Fact]:
    np = module("numpy")
    facts: list[Fact] = [("rows", str(len(value))), ("dtype", str(value.dtype)), ("index", index_text(value.index))]
    facts += column_facts(np, value)
    return facts


def column_facts(np: types.ModuleType, value: Column) -> list[Fact]:
    """Missing, range, mean, distinct and top values of one column."""
    missing = int(value.isna().sum())
    facts: list[Fact] = [("missing", str(missing))]
    if is_numeric(value) and len(value):
        m = statistics.measure(np, _numbers(value), cancelled=lambda: run_state.cancelled())
        if m.fine:
            low, high = (str(int(v)) if is_whole(value) else number(v) for v in (m.low, m.high))
            facts += [("minimum", low), ("maximum", high), ("mean", number(m.mean))]
            facts += [("standard deviation", number(m.std))]
        facts += [("+inf", str(m.pinf)), ("-inf", str(m.ninf)), ("zero", str(m.zero)), ("negative", str(m.negative))]
    elif value.dtype == object and missing < len(value) <= COUNTED:
        facts += _exact_facts(value)
    if len(value) <= COUNTED:
        try:
            counts = value.value_counts()
        except Exception:  # cells that cannot be compared: lists, say
            return facts
        facts.append(("distinct", str(len(counts))))
        if len(counts) < len(value) and len(counts):
            top = ", ".join(f"{label(k, 20)} {int(n)} times" for k, n in counts.head(3).items())
            facts.append(("most frequent", top))
    return facts


def _exact_facts(value: Column) -> list[Fact]:
    """Range and mean of a column of `decimal.Decimal` or `fractions.Fraction`, by their own arithmetic."""
    kinds = tuple(
        k for k in (getattr(module("decimal"), "Decimal", None), getattr(module("fractions"), "Fraction", None)) if k
    )
    cells = [v for v in value if v is not None and v == v]
    if not cells or not kinds or not all(type(v) in kinds for v in cells) or len({type(v) for v in cells}) > 1:
        return []
    return [
        ("minimum", str(min(cells))),
        ("maximum", str(max(cells))),
        ("mean", clean(str(sum(cells) / len(cells)), 40)),
    ]


def is_whole(column: Column) -> bool:
    """True for integers, nullable ones among them."""
    return getattr(column.dtype, "kind", "O") in "iu"


def index_text(index: Column) -> str:
    """Type, range, whether unique and sorted."""
    kind = type(index).__name__
    size = len(index)
    if not size:
        return f"{kind}, empty"
    unique = "unique" if index.is_unique else "not unique"
    order = (
        "ascending" if index.is_monotonic_increasing else "descending" if index.is_monotonic_decreasing else "unsorted"
    )
    return f"{kind} {label(index[0], 24)} … {label(index[-1], 24)}, {unique}, {order}"


def _frame(value: Frame) -> Summary:
    rows, columns = value.shape
    names = ", ".join(label(c, 20) for c in value.columns[:5]) + (", …" if columns > 5 else "")
    bad = nonfinite.columns(value)
    told = ""
    if bad:
        told = "; missing: " + ", ".join(f"{label(n, 20)} {c}" for n, c in list(bad.items())[:3])
    text = f"{rows} rows x {plural(columns, 'column')}: {names}{told}"
    return {"shape": [rows, columns], "dtype": None, "kind": "frame", "text": text, "nonfinite": sum(bad.values())}


def _frame_facts(value: Frame) -> list[Fact]:
    np = module("numpy")
    rows, columns = value.shape
    facts: list[Fact] = [("rows", str(rows)), ("columns", str(columns)), ("index", index_text(value.index))]
    if columns <= 5000:
        facts.append(("memory", memory(int(value.memory_usage(deep=False).sum()))))
    for number_ in range(min(columns, SHOWN)):
        column = value.iloc[:, number_]
        told = [f"{column.dtype}"]
        missing = int(column.isna().sum())
        if missing:
            told.append(f"{missing} missing")
        if is_numeric(column) and len(column):
            m = statistics.measure(np, _numbers(column), moments=False, cancelled=lambda: run_state.cancelled())
            told.append(range_text(m, is_whole(column)))
            if m.pinf + m.ninf:
                told.append(f"{m.pinf + m.ninf} infinite")
        elif len(column) <= 200_000:
            try:
                told.append(f"{column.nunique()} distinct")
            except Exception:
                told.append(f"of {type(column.iloc[0]).__name__}" if len(column) else "")
        facts.append((label(value.columns[number_], 24), ", ".join(told)))
    if columns > SHOWN:
        facts.append(("…", f"{columns - SHOWN} more columns"))
    return facts


def _frame_children(value: Frame, start: int, count: int) -> list[Pair]:
    names = list(value.columns[start : start + count])
    return [(label(n, 60), value.iloc[:, i]) for i, n in enumerate(names, start)]


def _row_children(value: Column, start: int, count: int) -> list[Pair]:
    last = min(len(value), start + count)
    return [(label(value.index[i], 40), value.iloc[i]) for i in range(start, last)]


def _element_children(value: Column, start: int, count: int) -> list[Pair]:
    return [(f"[{i}]", value[i]) for i in range(start, min(len(value), start + count))]


def _index(value: Column) -> Summary:
    first = f": {label(value[0], 30)} … {label(value[-1], 30)}" if len(value) else ""
    return {"shape": [len(value)], "dtype": str(value.dtype), "kind": "frame", "text": f"{len(value)} labels{first}"}


def _labels(index: Column, start: int, count: int) -> list[str]:
    return [label(v, 40) for v in index[start : start + count]]


def label(value: object, limit: int) -> str:
    """A row's or column's label; the parts of a compound one apart."""
    text = " / ".join(map(str, value)) if isinstance(value, tuple) else str(value)
    return clean(text.removesuffix(" 00:00:00"), limit)


def frame_grid(value: Frame | Column) -> Grid:
    """A frame, series or index as it is; sorted and filtered pages take rows by number."""
    pd = module("pandas")
    frame: Any = value
    if isinstance(value, pd.Series):
        frame = value.to_frame("value" if value.name is None else value.name)
    elif isinstance(value, pd.MultiIndex):
        return _compound_grid(pd, value)
    elif isinstance(value, pd.Index):
        frame = pd.Series(value).to_frame("label")
    rows, columns = frame.shape
    part = _cells
    return Grid(
        int(rows),
        int(columns),
        lambda start, count: _labels(frame.index, start, count),
        lambda start, count: _labels(frame.columns, start, count),
        lambda c, first, last: part(frame.iloc[first:last, c]),
        None,
        lambda at, c: part(frame.iloc[at, c]),
        frame,
        list(frame.columns),
    )


def _cells(column: Column) -> tuple[str, object]:
    np = module("numpy")
    if isinstance(column.dtype, np.dtype) and column.dtype.kind in "fiu":
        return encoded(np, column.to_numpy())
    if is_numeric(column):
        return "f8", _numbers(column).astype("<f8")
    return "text", [clean(v if isinstance(v, str) else str(v), 80) for v in _plain(column)]


def _compound_grid(pd: types.ModuleType, index: Column) -> Grid:
    """A MultiIndex, with a column for each of its levels."""
    names = [f"level {n}" if name is None else label(name, 40) for n, name in enumerate(index.names)]
    return Grid(
        len(index),
        len(names),
        lambda start, count: [str(n) for n in range(start, min(len(index), start + count))],
        lambda start, count: names[start : start + count],
        lambda c, first, last: _cells(pd.Series(index[first:last].get_level_values(c))),
    )


def _plain(column: Column) -> list[object]:
    from .base import text_of

    return [v if isinstance(v, str) else text_of(v) for v in column.tolist()]


def _plots(value: object) -> list[str]:
    pd = module("pandas")
    if isinstance(value, pd.DataFrame):
        if not value.shape[0] or not value.shape[1]:
            return []
        numeric = sum(is_numeric(value.iloc[:, c]) for c in range(min(value.shape[1], 200)))
        found = ["line", "histogram"] if numeric else []
        return found + (["scatter"] if numeric > 1 else []) + ["frequent"] + (["box"] if numeric else [])
    return ["line", "histogram", "frequent"] if is_numeric(value) else ["frequent"]


def _is(name: str) -> Callable[[type], bool]:
    def test(kind: type) -> bool:
        pd = module("pandas")
        return pd is not None and issubclass(kind, getattr(pd, name))

    return test


def _categorical(value: Column) -> Summary:
    missing = int((value.codes < 0).sum())
    told = f", {missing} missing" if missing else ""
    return {
        "shape": [len(value)],
        "kind": "frame",
        "dtype": "category",
        "text": f"{plural(len(value), 'value')} in {plural(len(value.categories), 'category')}{told}",
        "nonfinite": missing,
    }


register(
    Kind(_frame, _frame_facts, lambda v: int(v.shape[1]), _frame_children, frame_grid, _plots), test=_is("DataFrame")
)
register(Kind(_series, _series_facts, len, _row_children, frame_grid, _plots), test=_is("Series"))
register(
    Kind(
        _index,
        lambda v: [("labels", str(len(v))), ("index", index_text(v))],
        len,
        _element_children,
        frame_grid,
    ),
    test=_is("Index"),
)


def _is_extension(kind: type) -> bool:
    pd = module("pandas")
    return pd is not None and issubclass(kind, pd.api.extensions.ExtensionArray)


def _as_series(value: Column) -> Column:
    series: Column = module("pandas").Series(value, copy=False)
    return series


def _extension(value: Column) -> Summary:
    """An array of pandas' own types: nullable, Arrow-backed, of periods, intervals, geometries."""
    found = _series(_as_series(value))
    return {**found, "text": str(found["text"]).replace(plural(len(value), "row"), plural(len(value), "cell"), 1)}


def _extension_facts(value: Column) -> list[Fact]:
    return [("cells", str(len(value))), ("dtype", str(value.dtype)), *column_facts(module("numpy"), _as_series(value))]


register(
    Kind(
        _categorical,
        _extension_facts,
        len,
        _element_children,
        lambda v: frame_grid(_as_series(v)),
        lambda v: ["frequent"],
    ),
    test=_is("Categorical"),
)
register(
    Kind(
        _extension,
        _extension_facts,
        len,
        _element_children,
        lambda v: frame_grid(_as_series(v)),
        lambda v: _plots(_as_series(v)),
    ),
    test=_is_extension,
)
