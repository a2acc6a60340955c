"""Datasets in files (h5py, netCDF4, zarr), and Dask's calculations that have not run.

Nothing is read or computed whole.
"""

from __future__ import annotations

from typing import Any

from ..nonfinite import module
from . import arrays
from .base import Fact, Kind, Summary, clean, plural, register
from .grids import Grid, encoded, numbered_grid

PAGE_LIMIT = 100_000  # cells that one page of a grid may read


def _home(kind: type) -> str:
    return str(type.__getattribute__(kind, "__module__")).partition(".")[0]


def _is_dataset(kind: type) -> bool:
    home = _home(kind)
    names = {"h5py": "Dataset", "netCDF4": "Variable", "zarr": "Array"}
    return home in names and kind.__name__ == names[home]


def _dataset(value: Any) -> Summary:
    shape = [int(n) for n in value.shape]
    name = clean(str(getattr(value, "name", "") or ""), 40)
    text = f"{arrays.cells(tuple(shape))} {value.dtype}, in a file{f': {name}' if name else ''}"
    return {"shape": shape, "dtype": str(value.dtype), "kind": "array", "text": text, "nonfinite": 0}


def _dataset_facts(value: Any) -> list[Fact]:
    facts: list[Fact] = [("shape", " x ".join(map(str, value.shape))), ("dtype", str(value.dtype))]
    for name in ("name", "chunks", "compression", "units", "long_name", "dimensions"):
        found = getattr(value, name, None)
        if found is not None and not callable(found):
            facts.append((name, clean(str(found), 80)))
    return facts


def _dataset_grid(value: Any) -> Grid | None:
    """Pages are read as they are shown; of more than two dimensions the first plane."""
    np = module("numpy")
    if np is None or not value.shape:
        return None
    lead = (0,) * max(0, len(value.shape) - 2)
    rows = int(value.shape[len(lead)])
    columns = int(value.shape[-1]) if len(value.shape) > 1 else 1

    def part(c: int, first: int, last: int) -> tuple[str, Any]:
        last = min(last, first + PAGE_LIMIT)
        place = (*lead, slice(first, last), c) if len(value.shape) > 1 else (slice(first, last),)
        return encoded(np, np.asarray(value[place]))

    return numbered_grid(rows, columns, part, value)


def _is_dask(kind: type) -> bool:
    return _home(kind) in ("dask", "dask_expr") and (hasattr(kind, "__dask_graph__"))


def _dask(value: Any) -> Summary:
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


def _dask_facts(value: Any) -> list[Fact]:
    facts: list[Fact] = []
    for name in ("shape", "dtype", "chunks", "npartitions", "columns", "divisions"):
        try:
            found = getattr(value, name)
        except Exception:
            continue
        if found is not None and not callable(found):
            facts.append((name, clean(str(list(found) if name == "columns" else found), 120)))
    return [*facts, ("values", "ask for .compute()")]


register(Kind(_dataset, _dataset_facts, None, None, _dataset_grid, None), test=_is_dataset)
register(Kind(_dask, _dask_facts), test=_is_dask)
