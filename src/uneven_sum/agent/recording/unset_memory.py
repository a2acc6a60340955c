"""Arrays whose memory is not set yet (`np.empty`), in runs whose values are compared.

What stands in unset memory is another in each run, and no result.  A new array is filled with a number that is this
run's own; the cells that still have it count as missing when the array is told.  A value that is computed from such a
cell differs between two runs: it is the first difference then, where the cell is used.
"""

from __future__ import annotations

import os
import struct
from typing import Any

from ..core import run_state
from ..values import nonfinite

MOST = 64 << 20  # bytes of an array: the memory of larger ones comes from the system when it is used, as zeros
WIDE = 4  # bytes from which on a number of a cell is no likely value
_bits = int.from_bytes(os.urandom(8), "little")
SEEN = False  # whether an array was filled in this run


def _pattern(np: Any, dtype: Any) -> Any:
    """The number of this run for a dtype of reals: some 1e3 as a float, some 1e9 as an integer; short ones get
    nothing."""
    if dtype.itemsize < WIDE:
        return None
    if dtype.kind == "f":
        fraction = struct.unpack("<d", struct.pack("<Q", 0x3FF << 52 | _bits & (1 << 52) - 1))[0]
        return dtype.type(fraction * 1e3)
    if dtype.kind in "iu":
        return dtype.type((1 << 30) + _bits % (1 << 29))
    return None


def filled(made: Any) -> Any:
    """`‹unset›(made)`: fills what a call for unset memory has made, and gives it back."""
    global SEEN
    np = nonfinite.module("numpy")
    if np is None or type(made) is not np.ndarray or run_state.in_trial or not made.flags.writeable:
        return made
    if made.nbytes > MOST:
        return made
    if made.base is not None and made.base is not made:  # `np.ndarray(shape, buffer=…)` shows what is there
        return made
    cells = made.view(made.real.dtype) if made.dtype.kind == "c" and made.flags.c_contiguous and made.ndim else made
    number = _pattern(np, cells.dtype)
    if number is not None:
        cells[...] = number
        SEEN = True
    elif cells.dtype.kind in "fiub":
        cells[...] = 0
    return made


def without(np: Any, cells: Any) -> Any:
    """An array of reals to be told: cells that are not set as nan, in a copy where there are any."""
    number = _pattern(np, cells.dtype) if SEEN else None
    if number is None:
        return cells
    unset = cells == number
    return np.where(unset, np.nan, cells) if unset.any() else cells
