"""Numbers and arrays with a unit (pint, astropy, unyt), and with an uncertainty."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from ...core.text import clean, number
from ..nonfinite import module
from . import arrays
from .base import BY_TEST, Fact, Kind, Pair, Summary, find, register, summary
from .grids import array_grid


def _home(kind: type) -> str:
    return str(type.__getattribute__(kind, "__module__")).partition(".")[0]


def _is_quantity(kind: type) -> bool:
    return _home(kind) == "pint" and hasattr(kind, "magnitude") and hasattr(kind, "units")


def _unit(value: object) -> str:
    return clean(str(getattr(value, "units", None) or getattr(value, "unit", "")), 40)


def _quantity(value: Any) -> Summary:
    told = summary(value.magnitude)
    unit = _unit(value) or "dimensionless"
    return {**{k: v for k, v in told.items() if k != "type"}, "text": f"{told['text']} {unit}"}


def _quantity_facts(value: Any) -> list[Fact]:
    inner = find(type(value.magnitude))
    facts: list[Fact] = [("unit", _unit(value)), ("dimensions", clean(str(value.dimensionality), 80))]
    return facts + (inner.facts(value.magnitude) if inner.facts is not None else [])


def _inner(name: str) -> Callable[..., Any]:
    """A function of the kind of the magnitude."""

    def call(value: Any, *args: object) -> object:
        found = getattr(find(type(value.magnitude)), name)
        nothing: object = 0 if name == "count" else None if name in ("grid", "sliced") else []
        return found(value.magnitude, *args) if found is not None else nothing

    return call


def _is_array_with_unit(kind: type) -> bool:
    """astropy's and unyt's quantities, which are NumPy arrays."""
    return arrays._is_array(kind) and any(
        _home(base) in ("astropy", "unyt") and base.__name__ in ("Quantity", "unyt_array")
        for base in type.__dict__["__mro__"].__get__(kind)
    )


def _bare(value: Any) -> Any:
    """The cells without the unit; no copy."""
    return value.view(module("numpy").ndarray)


def _with_unit(value: object) -> Summary:
    cells = _bare(value)
    told = arrays._line(cells)
    text = number(float(cells)) if not cells.ndim and cells.dtype.kind in "fiu" else told["text"]
    return {**told, "text": f"{text} {_unit(value) or 'dimensionless'}"}


def _with_unit_facts(value: object) -> list[Fact]:
    return [("unit", _unit(value) or "dimensionless"), *arrays._facts(_bare(value))]


def _with_unit_children(value: Any, start: int, count: int) -> list[Pair]:
    return [("value", value.item())] if not value.ndim else arrays._children(value, start, count)


def _is_uncertain(kind: type) -> bool:
    return _home(kind) == "uncertainties" and hasattr(kind, "nominal_value") and hasattr(kind, "std_dev")


def _uncertain(value: object) -> Summary:
    return {"text": clean(f"{value:.6g}".replace("+/-", " ± "), 80), "kind": "scalar"}


def _uncertain_parts(value: Any, start: int, count: int) -> list[Pair]:
    pairs: list[Pair] = [("nominal_value", value.nominal_value), ("std_dev", value.std_dev)]
    return pairs[start : start + count]


register(
    Kind(
        _quantity,
        _quantity_facts,
        _inner("count"),
        _inner("children"),
        _inner("grid"),
        _inner("plots"),
        sliced=_inner("sliced"),
    ),
    test=_is_quantity,
)
register(Kind(_uncertain, None, lambda value: 2, _uncertain_parts), test=_is_uncertain)
# Before the plain arrays that they are, too.
BY_TEST.insert(
    0,
    (
        _is_array_with_unit,
        Kind(
            _with_unit,
            _with_unit_facts,
            arrays._count,
            _with_unit_children,
            None,
            lambda value: arrays.plots(_bare(value)),
            sliced=lambda value, text: array_grid(_bare(value), text),
        ),
    ),
)
