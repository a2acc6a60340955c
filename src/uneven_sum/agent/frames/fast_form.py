"""Where a call is within a block of arithmetic: in its fast form, whose names are not stored yet, or before it.

Instructions of a fast form have a line but no column; those that decide whether it may run have a column but no width.
"""

from __future__ import annotations

import types
import warnings
from typing import Any

from ..core import identity

# What arithmetic raises, and reading a name or an attribute.
ITS_ERRORS = (ArithmeticError, AttributeError, NameError, TypeError, ValueError, Warning)


class Unclear(BaseException):
    """Raised within a fast form that warns: the warning belongs to a statement of the precise form."""


Offsets = frozenset[int]
_known: dict[int, tuple[types.CodeType, Offsets, Offsets]] = {}  # by identity: probes among constants have no hash


def is_fast(frame: types.FrameType | None) -> bool:
    """True within a fast form: what it has computed is not stored yet."""
    return frame is not None and frame.f_lasti // 2 in _of(frame.f_code)[1]


def warns(message: Any, frame: types.FrameType | None) -> bool:
    """True when a warning comes from arithmetic in a fast form; then `warnings` forgets that it was shown.

    `frame`: of what shows it.
    """
    while frame is not None and identity.is_ours(frame):
        frame = frame.f_back
    if not is_fast(frame) or issubclass(message.category, ResourceWarning):
        return False  # a file, say, that a name held before
    assert frame is not None
    noted = frame.f_globals.get("__warningregistry__", {})
    text = str(message.message)
    once: dict[object, object] = warnings.onceregistry  # type: ignore[attr-defined]  # no public way
    for at in ((message.lineno,), (0,), ()):  # by the filter that lets it through
        for registry in (noted, once):
            registry.pop((text, message.category, *at), None)
    return True


def is_in(code: types.CodeType, offset: int) -> bool:
    """True within a fast form, and where it is decided whether it may run."""
    _, fast, before = _of(code)
    return offset // 2 in fast or offset // 2 in before


def _of(code: types.CodeType) -> tuple[types.CodeType, Offsets, Offsets]:
    if id(code) not in _known:
        fast, before = [], []
        for number, (line, end, column, end_column) in enumerate(code.co_positions()):
            if line is not None and column is None:
                fast.append(number)
            elif column is not None and (line, column) == (end, end_column):
                before.append(number)
        _known[id(code)] = code, frozenset(fast), frozenset(before)
    return _known[id(code)]
