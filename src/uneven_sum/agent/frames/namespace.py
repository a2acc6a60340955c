"""Names as a paused call sees them, and what may be read without running the script's code."""

from __future__ import annotations

import builtins
import sys
import types
from collections.abc import Iterator, Mapping
from typing import Any

from ..core.markers import HIDDEN, INNER, MISSING

OPTIMIZED = 0x1  # CO_OPTIMIZED: locals are no dictionary
TRACERS: dict[int, types.CodeType] = {}  # the code of our trace functions, by identity: a hash reads all constants
BEFORE_313 = sys.version_info < (3, 13)
HOLDERS = 4  # of a copy that only its frame keeps: that, two internal calls, and the question


def locals_of(frame: types.FrameType) -> Mapping[str, Any]:
    """A call's own names, to be read only."""
    held = frame.f_locals
    if not frame.f_code.co_flags & OPTIMIZED:
        return held  # a module's or a class's, which are a dictionary
    found = dict(held)
    let_go(frame, held)
    return found


def let_go(frame: types.FrameType, held: Any, untraced: bool = False) -> None:
    """Before 3.13 a look at a call's names leaves a copy of them on it, which keeps their values alive: it is emptied.

    Not when somebody else holds that very copy.  Nor where a trace function of the call may be under way, since a
    traced call's values are set from the copy when that function returns: emptying it would unset them all.
    `untraced`: the asker knows that none is, that the call is of this thread, and that it is a function's.
    """
    if not BEFORE_313 or sys.getrefcount(held) > HOLDERS:
        return
    if sys.gettrace() is not None or frame.f_trace is not None:
        return
    if untraced:
        held.clear()
        return
    if not frame.f_code.co_flags & OPTIMIZED:
        return
    inner: types.FrameType | None = sys._getframe(1)
    while inner is not None and inner is not frame:
        if id(inner.f_code) in TRACERS:
            return
        inner = inner.f_back
    if inner is frame:  # not of another thread
        held.clear()


def global_of(frame: types.FrameType, name: str) -> object:
    """The value of a name that a function takes from its module or the built-ins, without a look at its own names.

    MISSING where it may be one of those, or is not there.
    """
    code = frame.f_code
    if not code.co_flags & OPTIMIZED or code.co_name in INNER:
        return MISSING
    if name in code.co_varnames or name in code.co_freevars or name in code.co_cellvars:
        return MISSING
    found = frame.f_globals.get(name, MISSING)
    return frame.f_builtins.get(name, MISSING) if found is MISSING else found


class Scope(Mapping[str, Any]):
    """Locals, then globals, then builtins of a frame, without our temporaries.

    A comprehension's own frame (before 3.12) sees the names of the call around it as well.
    """

    def __init__(self, frame: types.FrameType, around: types.FrameType | None = None) -> None:
        self.frame = frame
        self.locals: dict[str, object] = dict(locals_of(around)) if around is not None else {}
        if frame.f_code.co_name in INNER and frame.f_back is not None:
            outer = frame.f_back
            if frame.f_code.co_qualname.startswith(getattr(outer.f_code, "co_qualname", "\0")):
                self.locals.update(locals_of(outer))
        self.locals.update(locals_of(frame))
        for name in [n for n in self.locals if n.startswith(HIDDEN)]:
            del self.locals[name]
        self.globals = frame.f_globals
        found = frame.f_builtins
        self.builtins: dict[str, object] = found if isinstance(found, dict) else vars(builtins)

    def __getitem__(self, name: str) -> object:
        for names in (self.locals, self.globals, self.builtins):
            if name in names:
                return names[name]
        raise KeyError(name)

    def __iter__(self) -> Iterator[str]:
        yield from {**self.builtins, **self.globals, **self.locals}

    def __len__(self) -> int:
        return len({**self.builtins, **self.globals, **self.locals})
