"""Figures of an array in one pass over its cells, a chunk at a time, so that no large copy is made."""

from __future__ import annotations

import math
import types
from collections.abc import Callable, Iterator
from typing import Any

from ..core.data_types import Array
from ..core.records import record

CHUNK = 1 << 15  # cells: what is worked on stays in the cache


@record
class Measures:
    """Counts, range and moments over the finite cells; of complex cells, of their modulus."""

    size: int = 0
    nan: int = 0
    pinf: int = 0
    ninf: int = 0
    zero: int = 0
    negative: int = 0
    low: float = math.inf
    high: float = -math.inf
    mean: float = 0.0
    m2: float = 0.0  # sum of squared deviations from the mean
    fine: int = 0
    given_up: bool = False

    @property
    def bad(self) -> int:
        return self.nan + self.pinf + self.ninf

    @property
    def std(self) -> float:
        """The population's standard deviation over the finite cells; nan where there is none."""
        return math.sqrt(self.m2 / self.fine) if self.fine else math.nan


def chunks(np: types.ModuleType, array: Array) -> Iterator[Any]:
    """The cells in one-dimensional pieces, in the order of memory; no copy of contiguous arrays."""
    if array.flags.c_contiguous or array.flags.f_contiguous:
        flat = array.reshape(-1, order="A")
        for start in range(0, flat.size, CHUNK):
            yield flat[start : start + CHUNK]
        return
    flags = ["external_loop", "buffered", "zerosize_ok"]
    yield from np.nditer(array, flags=flags, op_flags=["readonly"], buffersize=CHUNK, order="K")


def measure(
    np: types.ModuleType, array: Array, moments: bool = True, cancelled: Callable[[], bool] | None = None
) -> Measures:
    """The measures of a numeric array (bool, integer, float, complex); masked cells do not count.

    Moments are merged chunk by chunk (Chan, Golub and LeVeque, Updating formulae and a pairwise algorithm for
    computing sample variances, 1979).  `cancelled` is asked now and then; a run given up is marked so.
    """
    if isinstance(array, np.ma.MaskedArray):
        array = array.compressed()  # to read a masked cell gives the script a warning
    m = Measures(size=int(array.size))
    scratch: list[object] = []
    with np.errstate(all="ignore"):
        for number, part in enumerate(chunks(np, array)):
            if cancelled is not None and number % 256 == 255 and cancelled():
                m.given_up = True
                break
            if array.dtype.kind == "c":
                part = _modulus(np, part, m)
            elif part.dtype != float:
                part = part.astype(float)
            if part.size:
                _add(np, part, m, scratch, moments)
    return m


def _modulus(np: types.ModuleType, part: Array, m: Measures) -> Array:
    good = np.isfinite(part)
    if good.all():
        return np.abs(part)
    bad = part[~good]
    missing = int(np.count_nonzero(np.isnan(bad)))
    m.nan += missing
    m.pinf += bad.size - missing
    return np.abs(part[good])


def _room(np: types.ModuleType, scratch: list[Any], kind: type, size: int) -> object:
    """Space for so many cells; made when it is first needed, since making it moves the script's own memory about."""
    for room in scratch:
        if room.dtype == kind:
            return room[:size]
    scratch.append(np.empty(CHUNK, dtype=kind))
    return scratch[-1][:size]


def _add(np: types.ModuleType, part: Array, m: Measures, scratch: list[object], moments: bool) -> None:
    low, high = part.min(), part.max()
    if not (math.isfinite(low) and math.isfinite(high)):
        good = np.isfinite(part, out=_room(np, scratch, bool, part.size))
        bad = part[~good]
        m.nan += int(np.count_nonzero(np.isnan(bad)))
        m.pinf += int(np.count_nonzero(bad == np.inf))
        m.ninf += int(np.count_nonzero(bad == -np.inf))
        part = part[good]
        if not part.size:
            return
        low, high = part.min(), part.max()
    m.low, m.high = min(m.low, float(low)), max(m.high, float(high))
    if low <= 0 <= high:
        m.zero += int(np.count_nonzero(np.equal(part, 0.0, out=_room(np, scratch, bool, part.size))))
        if low < 0:
            m.negative += int(np.count_nonzero(np.less(part, 0.0, out=_room(np, scratch, bool, part.size))))
    elif high < 0:
        m.negative += part.size
    count = part.size
    mean = float(np.add.reduce(part)) / count
    if not math.isfinite(mean):  # the sum is too large for a float, the mean is not
        mean = float((part / count).sum())
    if moments:
        squares = float(np.dot(part, part))
        m2 = squares - count * mean * mean
        if not m2 > 1e-4 * squares:  # too much would cancel: from the deviations themselves
            deviations = np.subtract(part, mean, out=_room(np, scratch, float, part.size))
            m2 = float(np.dot(deviations, deviations))
        away = mean - m.mean
        m.m2 += m2 + away * away * (m.fine * count / (m.fine + count))
    m.mean += (mean - m.mean) * (count / (m.fine + count))
    m.fine += count


def bad_places(
    np: types.ModuleType, array: Array, most: int = 5, after: int = -1, backwards: bool = False
) -> list[int]:
    """Flat places (C order) of non-finite cells beyond `after`, nearest first; at most `most`."""
    found: list[int] = []
    size = int(array.size)
    flat = array.reshape(-1) if array.flags.c_contiguous else None
    starts = range(0, size, CHUNK)
    ordered = reversed(starts) if backwards else starts
    for start in ordered:
        end = min(start + CHUNK, size)
        if (backwards and start >= after >= 0) or (not backwards and end <= after + 1):
            continue
        part = flat[start:end] if flat is not None else array.flat[start:end]
        places = np.flatnonzero(~np.isfinite(part)) + start
        places = (
            places[places < after] if backwards and after >= 0 else places[places > after] if not backwards else places
        )
        if len(places):
            found += [int(p) for p in (places[::-1] if backwards else places)[: most - len(found)]]
        if len(found) >= most:
            break
    return found
