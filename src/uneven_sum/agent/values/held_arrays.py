"""Numbers and arrays within values of other libraries: labelled arrays, quantities."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from ..core.records import record


@record
class HeldArray:
    """A number or an array within another value, and how that is made anew with other cells."""

    cells: Any
    with_cells: Callable[[Any], object]


def held_array(value: Any) -> HeldArray | None:
    """What a labelled array of xarray or a quantity of pint holds; None for other values."""
    home = type(value).__module__.partition(".")[0]
    if home == "xarray" and type(value).__name__ == "DataArray":
        return HeldArray(value.values, lambda cells: value.copy(data=cells))
    if home == "pint" and hasattr(value, "magnitude") and hasattr(value, "units"):
        return HeldArray(value.magnitude, lambda cells: type(value)(cells, value.units))
    return None
