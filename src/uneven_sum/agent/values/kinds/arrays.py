"""NumPy arrays: of numbers, texts, objects, times; structured, masked, memory-mapped; and what offers `__array__`."""

from __future__ import annotations

import base64
import math
import struct
import types

from ...core import run_state
from ...core.data_types import Array
from ...core.text import clean, number, plural
from .. import nonfinite, statistics
from ..nonfinite import module
from .base import Fact, Kind, Pair, Summary, element, register
from .grids import array_grid

SCANNED = 2_000_000  # cells above which a one-line summary says shape only
COLUMNS = 48  # of a small picture


def cells(shape: tuple[int, ...]) -> str:
    if len(shape) == 1:
        return plural(shape[0], "cell")
    return " x ".join(str(n) for n in shape) + " cells"


def range_text(m: statistics.Measures, whole: bool = False) -> str:
    """`2.1 … 6.4, mean 3.9` over the finite cells; `whole`: they are integers."""
    if not m.fine:
        return "no finite cell"
    if whole:
        return f"{int(m.low)} … {int(m.high)}, mean {number(m.mean, 4)}"
    return f"{number(m.low, 4)} … {number(m.high, 4)}, mean {number(m.mean, 4)}"


def bad_text(np: types.ModuleType, value: Array, m: statistics.Measures) -> str:
    """`3 nan 1 inf, first at 41`."""
    counts = [f"{n} {word}" for word, n in (("nan", m.nan), ("inf", m.pinf), ("-inf", m.ninf)) if n]
    if value.dtype.kind == "c":
        counts = [f"{m.bad} not finite"]
    where = place_text(np, value.shape, statistics.bad_places(np, value, 1)[0])
    return f"{' '.join(counts)}, first at {where}"


def place_text(np: types.ModuleType, shape: tuple[int, ...], flat: int) -> str:
    place = ", ".join(str(int(i)) for i in np.unravel_index(flat, shape))
    return place if len(shape) == 1 else f"[{place}]"


def _line(value: Array) -> Summary:
    np = module("numpy")
    dtype = value.dtype
    base: Summary = {"shape": list(value.shape), "dtype": str(dtype), "kind": "array"}
    head = f"{cells(value.shape)} {dtype}" if value.ndim else f"array of one {dtype}"
    if isinstance(value, np.ma.MaskedArray):
        return {**base, **_masked(np, value, head)}
    if not value.size:
        return {**base, "text": f"{head}, empty"}
    if value.ndim == 0:
        return {**base, "text": f"{head}: {element(value[()])}", "nonfinite": nonfinite.count(value)}
    kind = dtype.kind
    if kind == "V" and dtype.names:
        return {**base, "text": f"{cells(value.shape)} with fields {', '.join(dtype.names)}"}
    if kind == "O":
        return {**base, "text": f"{head}: {_first(np, value)}", "nonfinite": nonfinite.count(value)}
    if value.size > SCANNED:
        bad = nonfinite.count(value)
        return {**base, "text": head + (f", {bad} not finite" if bad else ""), "nonfinite": bad}
    if kind == "f" and value.ndim == 1 and value.size > 1000:
        quick = _healthy(np, value, head)
        if quick is not None:
            return {**base, **quick}
    if kind in "fc":
        m = statistics.measure(np, value, moments=False)
        told = range_text(m) if kind == "f" else ""
        if m.bad:
            told = f"{told}, {bad_text(np, value, m)}" if told else bad_text(np, value, m)
        if kind == "f" and value.size <= 6 and value.ndim == 1:
            told = "[" + " ".join(number(float(v)) for v in value) + "]"
        pictured = picture(np, value) if kind == "f" else {}
        return {**base, "text": f"{head}, {told}" if told else head, "nonfinite": m.bad, **pictured}
    if kind in "iu":
        if value.size <= 6 and value.ndim == 1:
            return {**base, "text": f"{head}, [{' '.join(str(v) for v in value.tolist())}]"}
        return {**base, "text": f"{head}, {int(value.min())} … {int(value.max())}", **picture(np, value)}
    if kind == "b":
        return {**base, "text": f"{head}, {int(value.sum())} true"}
    if kind in "mM":
        missing = int(np.isnat(value).sum())
        told = f", {missing} NaT" if missing else f", {value.min()} … {value.max()}"
        return {**base, "text": head + told}
    return {**base, "text": f"{head}: {_first(np, value)}"}


def _first(np: types.ModuleType, value: Array) -> str:
    """The first three cells; taken one by one, since `flat` of NumPy 2's variable texts fails."""
    places = [np.unravel_index(n, value.shape) for n in range(min(3, value.size))]
    return ", ".join(element(value[place]) for place in places) + (", …" if value.size > 3 else "")


def _masked(np: types.ModuleType, value: Array, head: str) -> Summary:
    hidden = int(np.ma.getmaskarray(value).sum())
    told = ""
    if value.dtype.kind in "fiub" and value.size - hidden:
        told = ", " + range_text(statistics.measure(np, value.compressed(), moments=False))
    return {"text": f"{head}, {hidden} masked{told}", "nonfinite": nonfinite.count(value)}


def _healthy(np: types.ModuleType, value: Array, head: str) -> Summary | None:
    """The line of a column without bad cells, from its picture: three passes over the cells."""
    from ..downsample import extremes

    lows, highs, marks = extremes(np, value, COLUMNS)
    with np.errstate(all="ignore"):
        mean = float(np.add.reduce(value, dtype=float)) / value.size
    if set(marks) != {"."} or not math.isfinite(mean):
        return None
    m = statistics.Measures(size=value.size, low=float(lows.min()), high=float(highs.max()), mean=mean, fine=value.size)
    return {"text": f"{head}, {range_text(m)}", "nonfinite": 0, **_packed(lows, highs, marks)}


def picture(np: types.ModuleType, value: Array) -> Summary:
    """The course of a one-dimensional array in at most COLUMNS columns: minimum, maximum and bad cells of
    each, as base64 of little-endian float64 pairs and a string of 0 and 1."""
    if value.ndim != 1 or value.size < 8:
        return {}
    from ..downsample import extremes

    return _packed(*extremes(np, value, min(COLUMNS, value.size)))


def _packed(lows: Array, highs: Array, marks: str) -> Summary:
    both = [float(v) for pair in zip(lows, highs) for v in pair]
    told = "".join("0" if mark == "." else "1" for mark in marks)
    return {"picture": base64.b64encode(struct.pack(f"<{len(both)}d", *both)).decode(), "marks": told}


def _facts(value: Array) -> list[Fact]:
    np = module("numpy")
    shape = " x ".join(str(n) for n in value.shape) or "one cell"
    facts = [("shape", shape), ("dtype", str(value.dtype)), ("memory", memory(value.nbytes))]
    flags = value.flags
    order = "C" if flags.c_contiguous else "Fortran" if flags.f_contiguous else "not contiguous"
    whose = "owns its memory" if flags.owndata else "a view"
    if isinstance(value, np.memmap):
        whose = f"memory-mapped from {clean(str(value.filename or '?'), 60)}"
    facts.append(("layout", f"{order}, {whose}{'' if flags.writeable else ', read only'}"))
    if isinstance(value, np.ma.MaskedArray):
        hidden = int(np.ma.getmaskarray(value).sum())
        facts.append(("masked", str(hidden)))
        return facts + (figures(np, value.compressed()) if value.dtype.kind in "fiuc" else [])
    if isinstance(value, np.matrix):
        value = np.asarray(value)  # whose reductions are scalars
    kind = value.dtype.kind
    if kind in "fiuc" and value.size:
        return facts + figures(np, value)
    if kind == "b":
        facts.append(("true", str(int(np.count_nonzero(value)))))
    elif kind in "mM" and value.size:
        missing = int(np.isnat(value).sum())
        facts += [("NaT", str(missing))]
        if missing < value.size:
            good = value[~np.isnat(value)] if missing else value
            facts += [("first", str(good.min())), ("last", str(good.max()))]
    elif kind == "V" and value.dtype.names:
        facts += [(f"field {n}", str(value.dtype[n])) for n in value.dtype.names[:40]]
    elif kind == "O" and value.size <= 1_000_000:
        names = [type(v).__name__ for v in value.flat]
        facts.append(("types", ", ".join(f"{n} {names.count(n)}" for n in list(dict.fromkeys(names))[:6])))
    return facts


def figures(np: types.ModuleType, value: Array) -> list[Fact]:
    """Range, moments, counts, and where the bad cells are."""
    m = statistics.measure(np, value, cancelled=lambda: run_state.cancelled())
    about = " of the modulus" if value.dtype.kind == "c" else ""
    facts: list[Fact] = []
    if m.fine:
        facts = [
            (f"minimum{about}", number(m.low)),
            (f"maximum{about}", number(m.high)),
            (f"mean{about}", number(m.mean)),
            ("standard deviation", number(m.std)),
        ]
    counts = [("nan", m.nan), ("+inf", m.pinf), ("-inf", m.ninf), ("zero", m.zero), ("negative", m.negative)]
    facts += [(name, str(n)) for name, n in counts]
    if m.bad and value.ndim:
        places = statistics.bad_places(np, value, 5)
        shown = "  ".join(place_text(np, value.shape, p) for p in places)
        facts.append(("bad cells at", shown + ("  …" if m.bad > len(places) else "")))
    if m.given_up:
        facts.append(("given up", f"after {m.fine + m.bad} of {m.size} cells"))
    return facts


def memory(size: int) -> str:
    for unit, factor in (("GB", 1 << 30), ("MB", 1 << 20), ("kB", 1 << 10)):
        if size >= factor:
            return f"{size / factor:.4g} {unit}"
    return plural(size, "byte")


def _children(value: Array, start: int, count: int) -> list[Pair]:
    if not value.ndim:
        return [("value", value[()])]
    if value.dtype.names and value.ndim == 1 and count > 0 and start == 0:
        fields: list[Pair] = [(str(n), value[n]) for n in value.dtype.names]
        return fields
    return [(f"[{n}]", value[n]) for n in range(start, min(value.shape[0], start + count))]


def _count(value: Array) -> int:
    if value.dtype.names and value.ndim == 1:
        return len(value.dtype.names)
    return int(value.shape[0]) if value.ndim else 1


def plots(value: Array) -> list[str]:
    """The plots that make sense for an array's shape and dtype."""
    if value.dtype.kind not in "fiu" or not value.size or not value.ndim:
        return []
    if value.ndim == 1:
        return ["line", "histogram"]
    found = ["heat", "line", "histogram"]
    if value.ndim == 2 and value.shape[1] >= 2:
        found.append("scatter")
    if value.ndim == 2 and min(value.shape) > 1:
        found.append("singular")
    if value.ndim == 3 and value.shape[2] in (3, 4):
        found.insert(0, "image")
    return found


def _is_array(kind: type) -> bool:
    np = module("numpy")
    return np is not None and issubclass(kind, np.ndarray)


register(Kind(_line, _facts, _count, _children, None, plots, sliced=array_grid), test=_is_array)
