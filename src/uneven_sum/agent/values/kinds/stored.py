"""Datasets and groups in files (h5py, netCDF4, zarr), and Dask's calculations that have not run.

Nothing is read or computed whole.
"""

from __future__ import annotations

import itertools
from typing import Any

from ...core.data_types import Array
from ...core.text import clean, plural
from ..nonfinite import module
from . import arrays
from .base import BY_TEST, Fact, Kind, Pair, Summary, register
from .grids import BadSlice, Grid, default_slice, encoded, numbered_grid, parse_slice

MEMBERS = 1000  # of a group that are listed
PAGE_LIMIT = 100_000  # cells that one page of a grid may read


def _home(kind: type) -> str:
    return str(type.__getattribute__(kind, "__module__")).partition(".")[0]


def _is_dataset(kind: type) -> bool:
    home = _home(kind)
    names = {"h5py": "Dataset", "netCDF4": "Variable", "zarr": "Array"}
    return home in names and kind.__name__ == names[home]


def _is_group(kind: type) -> bool:
    home = _home(kind)
    names = {"h5py": ("File", "Group"), "netCDF4": ("Dataset", "Group"), "zarr": ("Group",)}
    return home in names and kind.__name__ in names[home]


def _members(value: Any) -> dict[str, object]:
    """The names in a group with what they stand for; nothing is read of datasets."""
    if hasattr(value, "variables"):  # netCDF4
        return {**dict(value.groups), **dict(value.variables)}
    return {str(name): value[name] for name in itertools.islice(value.keys(), MEMBERS)}


def _group(value: object) -> Summary:
    is_open = bool(value) if _home(type(value)) == "h5py" else value.isopen() if hasattr(value, "isopen") else True
    if not is_open:
        return {"text": f"{type(value).__name__}, closed", "kind": "mapping"}
    names = list(_members(value))
    shown = ", ".join(clean(n, 30) for n in names[:5]) + (", …" if len(names) > 5 else "")
    return {"text": f"{type(value).__name__} with {plural(len(names), 'member')}: {shown}", "kind": "mapping"}


def _group_facts(value: Any) -> list[Fact]:
    if hasattr(value, "variables"):
        attributes = {n: value.getncattr(n) for n in value.ncattrs()}
        sizes = [("dimensions", ", ".join(f"{len(d)} {n}" for n, d in value.dimensions.items()) or "none")]
    else:
        attributes, sizes = dict(value.attrs), []
    return sizes + [(clean(str(n), 24), clean(str(v), 80)) for n, v in list(attributes.items())[:30]]


def _group_parts(value: object, start: int, count: int) -> list[Pair]:
    return [(clean(n, 60), v) for n, v in _members(value).items()][start : start + count]


def _dataset(value: Array) -> Summary:
    shape = [int(n) for n in value.shape]
    name = clean(str(getattr(value, "name", "") or ""), 40)
    text = f"{arrays.cells(tuple(shape))} {value.dtype}, in a file{f': {name}' if name else ''}"
    return {"shape": shape, "dtype": str(value.dtype), "kind": "array", "text": text, "nonfinite": 0}


def _dataset_facts(value: Array) -> list[Fact]:
    facts: list[Fact] = [("shape", " x ".join(map(str, value.shape))), ("dtype", str(value.dtype))]
    for name in ("name", "chunks", "compression", "units", "long_name", "dimensions"):
        found = getattr(value, name, None)
        if found is not None and not callable(found):
            facts.append((name, clean(str(found), 80)))
    return facts


def _dataset_grid(value: Array, text: str) -> Grid | None:
    """Pages are read as they are shown."""
    np = module("numpy")
    shape = tuple(int(n) for n in value.shape)
    if np is None or not shape:
        return None
    index = parse_slice(text.strip() or default_slice(shape) or "[...]", len(shape))
    if Ellipsis in index:
        at = index.index(Ellipsis)
        index = (*index[:at], *(slice(None),) * (len(shape) - len(index) + 1), *index[at + 1 :])
    index += (slice(None),) * (len(shape) - len(index))
    places = [range(*i.indices(n)) if isinstance(i, slice) else i for i, n in zip(index, shape)]
    axes = [axis for axis, place in enumerate(places) if isinstance(place, range)]
    for place, n in zip(places, shape):
        if not isinstance(place, range) and not -n <= place < n:
            raise BadSlice(f"{text} does not fit the shape {shape}.")
    if not 1 <= len(axes) <= 2:
        raise BadSlice(f"{text} leaves {plural(len(axes), 'dimension')}; the grid shows one or two.")

    def part(c: int, first: int, last: int) -> tuple[str, object]:
        at: list[object] = list(places)
        found = places[axes[0]][first : min(last, first + PAGE_LIMIT)]
        at[axes[0]] = slice(found.start, found.stop if found.stop >= 0 else None, found.step)
        if len(axes) > 1:
            at[axes[1]] = places[axes[1]][c]
        return encoded(np, np.asarray(value[tuple(at)]).reshape(-1))

    return numbered_grid(len(places[axes[0]]), len(places[axes[-1]]) if len(axes) > 1 else 1, part, value)


def _is_dask(kind: type) -> bool:
    return _home(kind) in ("dask", "dask_expr") and (hasattr(kind, "__dask_graph__"))


def _dask(value: object) -> Summary:
    shape = getattr(value, "shape", None)
    if isinstance(shape, tuple) and hasattr(value, "chunks") and hasattr(value, "dtype"):
        known = [int(n) if n == n else -1 for n in shape]
        size = " x ".join("?" if n < 0 else str(n) for n in known) or "one"
        text = f"{size} cells {value.dtype}, not computed: {plural(int(getattr(value, 'npartitions', 1)), 'block')}"
        return {"shape": known, "dtype": str(value.dtype), "kind": "object", "text": text}
    columns = getattr(value, "columns", None)
    names = ", ".join(clean(str(c), 20) for c in list(columns)[:5]) if columns is not None else ""
    count = plural(int(getattr(value, "npartitions", 1) or 1), "partition")
    return {"kind": "object", "text": f"{type(value).__name__}, not computed: {count}{f', {names}' if names else ''}"}


def _dask_facts(value: object) -> list[Fact]:
    facts: list[Fact] = []
    for name in ("shape", "dtype", "chunks", "npartitions", "columns", "divisions"):
        try:
            found = getattr(value, name)
        except Exception:
            continue
        if found is not None and not callable(found):
            facts.append((name, clean(str(list(found) if name == "columns" else found), 120)))
    return [*facts, ("values", "ask for .compute()")]


# Before data classes, which zarr's are.
BY_TEST.insert(0, (_is_dataset, Kind(_dataset, _dataset_facts, sliced=_dataset_grid)))
BY_TEST.insert(0, (_is_group, Kind(_group, _group_facts, lambda value: len(_members(value)), _group_parts)))
register(Kind(_dask, _dask_facts), test=_is_dask)
