"""Values in a form that does not change any more, as a ledger keeps them."""

from __future__ import annotations

import math
import time
from collections import deque
from dataclasses import dataclass
from typing import Any

from ..core import run_state, signal_masking
from ..core.text import clean
from ..core.type_identity import TypeIds, key_of
from . import nonfinite, statistics
from .safe_read import kind_name

MISSING = "·missing"  # not assigned
PLAIN = TypeIds(float, int, bool, complex, type(None))
LONG = 200  # characters of a text that are kept; ten times as many bits of an integer
VECTOR = 8  # elements up to which they are kept one by one
NUMBERS = (float, int)
COLLECTIONS = (list, tuple, dict, set, frozenset, deque)


@dataclass(slots=True)
class Cells:
    """An array as it was in one pass; of a small vector, and of a short list of numbers, its elements too."""

    shape: tuple[int, ...]
    low: float
    mean: float
    high: float
    bad: int
    elements: tuple[float, ...] = ()

    def __str__(self) -> str:
        if self.elements:
            return f"[{' '.join(f'{v:.6g}' for v in self.elements)}]"
        shape = " x ".join(map(str, self.shape))
        bad = f", {self.bad} not finite" if self.bad else ""
        return f"{shape} cells {self.low:.6g} … {self.high:.6g}, mean {self.mean:.6g}{bad}"

    # What a filter asks for: `inflow.mean > 3`.
    @property
    def min(self) -> float:
        return self.low

    @property
    def max(self) -> float:
        return self.high

    @property
    def nonfinite(self) -> int:
        return self.bad


FIGURES = ("min", "mean", "max", "nonfinite")


def clock() -> float:
    """Seconds that the script has run: pauses do not count."""
    return time.perf_counter() - run_state.paused


def since(began: float) -> float:
    return time.perf_counter() - run_state.paused - began


def is_scalar(value: object) -> bool:
    """NumPy's numbers do not change."""
    np = nonfinite.module("numpy")
    return np is not None and isinstance(value, np.generic) and not isinstance(value, np.void)


def all_plain(values: list[object]) -> bool:
    """True for numbers of a bounded size: what can be kept as it is."""
    return PLAIN.issuperset(map(key_of, map(type, values))) or all(
        [key_of(type(v)) in PLAIN or is_scalar(v) for v in values]
    )


def told(value: Any) -> object:
    """Numbers as they are, short texts too, arrays by their figures, collections by their length, all else by its
    type."""
    kind = type(value)
    if kind is int and value.bit_length() > 10 * LONG:
        return f"int of {value.bit_length()} bits"
    if key_of(kind) in PLAIN or kind is Cells or is_scalar(value) or value is MISSING:
        return value
    if kind is str or kind is bytes:
        return value if len(value) <= LONG else f"{kind.__name__} of {len(value)}"
    np = nonfinite.module("numpy")
    try:
        if np is not None and isinstance(value, np.ndarray) and value.dtype.kind in "fiub":
            m = statistics.measure(np, value, moments=False)
            small = value.ndim == 1 and 0 < value.size <= VECTOR
            return Cells(value.shape, m.low, m.mean, m.high, m.bad, tuple(value.tolist()) if small else ())
        if (kind is list or kind is tuple) and 0 < len(value) <= VECTOR and all(type(v) in NUMBERS for v in value):
            return _vector(value)
        shape = getattr(value, "shape", None) if np is not None else None
        if isinstance(shape, tuple):
            return f"{kind_name(kind)} of {' x '.join(map(str, shape))}"
        for base in COLLECTIONS:
            if isinstance(value, base):
                # mypy: `base` is the container's type
                return f"{kind.__name__} of {base.__len__(value)}"  # type: ignore[arg-type]
    except Exception as e:
        if signal_masking.is_the_scripts(e):
            raise
    return kind_name(kind)


def _vector(values: Any) -> Cells:
    """A short list of numbers."""
    fine = [float(v) for v in values if v - v == 0]
    low, high = (min(fine), max(fine)) if fine else (math.inf, -math.inf)
    return Cells((len(values),), low, sum(fine) / max(1, len(fine)), high, len(values) - len(fine), tuple(values))


def exact(value: object) -> str | None:
    """The exact text of what is kept; None for what was not assigned."""
    if value is MISSING:
        return None
    if isinstance(value, (str, bytes)):
        return clean(value if isinstance(value, str) else repr(value), LONG)
    return str(value) if isinstance(value, Cells) or is_scalar(value) else repr(value)


def number(value: Any) -> float | None:
    """A value as a float; None when it is none."""
    if value is MISSING or isinstance(value, (str, bytes, Cells)) or value is None:
        return None
    try:
        return abs(value) if isinstance(value, complex) else float(value)
    except OverflowError:
        return float("inf") if value > 0 else float("-inf")
    except (TypeError, ValueError):
        return None
