"""Numbers and arrays within values of other libraries: labelled arrays, quantities."""

from __future__ import annotations

import sys
from collections.abc import Callable
from typing import Any

from ..core.records import record


@record
class HeldArray:
    """A number or an array within another value, and how that is made anew with other cells."""

    cells: Any
    with_cells: Callable[[Any], object]


def _of(library: str, name: str) -> object:
    """A class of a library, where the script has imported it."""
    return vars(sys.modules[library]).get(name, library) if library in sys.modules else library


def held_array(value: Any) -> HeldArray | None:
    """What a labelled array of xarray or a quantity of pint holds; None for other values."""
    kind = type(value)
    if any(base is _of("xarray", "DataArray") for base in kind.__mro__):
        return HeldArray(value.values, lambda cells: value.copy(data=cells))
    if any(base is _of("pint", "Quantity") for base in kind.__mro__):
        return HeldArray(value.magnitude, lambda cells: type(value)(cells, value.units))
    return None
