"""Arrays mapped from a file.  One whose file has shrunk must not be read: the system would end the process."""

from __future__ import annotations

import mmap
from collections.abc import Callable
from typing import Any

from ...core.data_types import Array
from ...core.text import clean
from .base import BY_TEST, Kind, Summary, register


def has_shrunk(value: object) -> bool:
    """True for a `numpy.memmap` (or a view of one) whose file is shorter than what is mapped."""
    mapped = getattr(value, "_mmap", None)
    if not isinstance(mapped, mmap.mmap):
        return False
    try:
        return mapped.size() < len(mapped)
    except (OSError, ValueError):
        return False  # closed, or not of a file: nothing is known against it


def _array() -> Kind:
    import numpy as np

    return next(kind for test, kind in BY_TEST if test(np.ndarray))


def _shrunk_text(value: Array) -> str:
    path = clean(str(value.filename or "?"), 60)
    shape = " x ".join(map(str, value.shape))
    return f"{shape} cells {value.dtype}, not read: its file {path} has become shorter than the array"


def _line(value: Array) -> Summary:
    if has_shrunk(value):
        return {"text": _shrunk_text(value), "kind": "array", "shape": list(value.shape)}
    return _array().line(value)


def _unless_shrunk(name: str, instead: object) -> Callable[..., Any]:
    def call(value: object, *rest: object) -> object:
        return instead if has_shrunk(value) else getattr(_array(), name)(value, *rest)

    return call


register(
    Kind(
        _line,
        _unless_shrunk("facts", []),
        _unless_shrunk("count", 0),
        _unless_shrunk("children", []),
        _unless_shrunk("grid", None),
        _unless_shrunk("plots", []),
    ),
    names=("numpy.memmap",),
)
