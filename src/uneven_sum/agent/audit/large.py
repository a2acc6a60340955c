"""Arrays with very many cells: rules look at a part of them, and say so."""

from __future__ import annotations

from typing import Any

from ..core.data_types import Array
from ..values import nonfinite

LARGE = 20_000_000  # cells
PART = 2_000_000  # of them that are looked at


def is_large(value: Array) -> bool:
    np = nonfinite.module("numpy")
    return np is not None and type(value) is np.ndarray and value.size > LARGE


def parts(a: Any, b: Any, result: Array) -> tuple[int, object, object, object] | None:
    """A part of the operands and the result of an operator on large arrays, as views: one slice of how
    many, and the three.  None where their shapes differ, so that their cells do not go together."""
    np = nonfinite.module("numpy")
    axis = int(np.argmax(result.shape))
    step = min(-(-result.size // PART), result.shape[axis])
    cut = (slice(None),) * axis + (slice(None, None, step),)
    shown = []
    for value in (a, b, result):
        if type(value) is np.ndarray and value.size > 1:
            if value.shape != result.shape:
                return None
            shown.append(value[cut])
        else:
            shown.append(value)
    return step, shown[0], shown[1], shown[2]
