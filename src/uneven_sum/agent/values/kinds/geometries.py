"""Points, lines and areas (shapely), and frames of them (geopandas)."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from typing import Any

from ...core.data_types import Frame
from ...core.text import clean, number, plural
from . import frames
from .base import BY_TEST, Fact, Kind, Summary, register


def _home(kind: type) -> str:
    return str(type.__getattribute__(kind, "__module__")).partition(".")[0]


def _is_geometry(kind: type) -> bool:
    return _home(kind) == "shapely" and hasattr(kind, "geom_type") and hasattr(kind, "bounds")


def _geometry(value: Any) -> Summary:
    if value.is_empty:
        return {"text": f"{value.geom_type}, empty", "kind": "object"}
    if value.geom_type == "Point":
        return {"text": f"Point ({', '.join(number(v) for v in value.coords[0])})", "kind": "object"}
    west, south, east, north = (number(v) for v in value.bounds)
    return {"text": f"{value.geom_type}, x {west} … {east}, y {south} … {north}", "kind": "object"}


def _geometry_facts(value: Any) -> list[Fact]:
    facts = [
        ("valid", "yes" if value.is_valid else "no"),
        ("area", number(value.area)),
        ("length", number(value.length)),
    ]
    return [("type", value.geom_type), *facts, ("text", clean(value.wkt, 200))]


def _is_geo(name: str) -> Callable[[type], bool]:
    def test(kind: type) -> bool:
        return any(_home(b) == "geopandas" and b.__name__ == name for b in type.__dict__["__mro__"].__get__(kind))

    return test


def _system(value: Any) -> str:
    """The coordinate reference system, by its authority's number where it has one."""
    crs = value.crs
    if crs is None:
        return "no CRS"
    known = crs.to_authority() if hasattr(crs, "to_authority") else None
    return ":".join(known) if known else clean(str(crs), 40)


def _frame(value: Frame) -> Summary:
    found = frames._frame(value)
    try:
        return {**found, "text": f"{found['text']}; {_system(value)}"}
    except AttributeError:  # no column is the geometry
        return found


def _column(value: Any) -> Summary:
    kinds = Counter(value.geom_type.dropna())
    missing = int(value.isna().sum())
    shown = [plural(n, name) for name, n in kinds.most_common(3)] + ([f"{missing} missing"] if missing else [])
    text = f"{plural(len(value), 'row')} of geometry: {', '.join(shown) or 'none'}; {_system(value)}"
    return {"shape": [len(value)], "dtype": "geometry", "kind": "frame", "text": text, "nonfinite": missing}


def _column_facts(value: Any) -> list[Fact]:
    facts: list[Fact] = [("rows", str(len(value))), ("index", frames.index_text(value.index)), ("CRS", _system(value))]
    west, south, east, north = (number(float(v)) for v in value.total_bounds)
    return [*facts, ("x", f"{west} … {east}"), ("y", f"{south} … {north}")]


def _frame_facts(value: Frame) -> list[Fact]:
    return [("CRS", _system(value)), *frames._frame_facts(value)]


register(Kind(_geometry, _geometry_facts), test=_is_geometry)
# Before the frames and series that they are, too.
BY_TEST.insert(
    0,
    (
        _is_geo("GeoDataFrame"),
        Kind(
            _frame,
            _frame_facts,
            lambda v: int(v.shape[1]),
            frames._frame_children,
            frames.frame_grid,
            frames._plots,
        ),
    ),
)
BY_TEST.insert(
    0,
    (_is_geo("GeoSeries"), Kind(_column, _column_facts, len, frames._row_children, frames.frame_grid, lambda v: [])),
)
