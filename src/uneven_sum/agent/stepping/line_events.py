"""Line events of single pieces of code, by `sys.monitoring`: from CPython 3.12 on.

A line that does not matter is switched off at its first event, and costs nothing from then on.  A script, or a tool
that it uses, may use monitoring itself: we take one of the two tool numbers that have no purpose of their own, only
for as long as a call is watched, and none where both are taken.
"""

from __future__ import annotations

import sys
import types
from collections.abc import Callable
from threading import get_ident
from typing import Any

from ..core import run_state
from ..core.records import record

NUMBERS = (4, 3)  # of tools; the others are for debuggers, coverage, profilers and optimizers
NAME = "uneven-sum"
Test = Callable[[object], object] | None
Lines = dict[int, Test] | None  # the lines that matter, and what must hold of the call's names there; None: all do


@record
class _Watched:
    """A piece of code that is watched.  `only`: its one call, while there is just one, and the thread of that."""

    code: types.CodeType
    lines: Lines
    only: types.FrameType | None
    thread: int


class LineEvents:
    """The line events of the watched calls, their returns, and calls that begin beside them."""

    def __init__(
        self,
        line: Callable[[types.FrameType], None],
        began: Callable[[types.FrameType], bool],
        ended: Callable[[types.FrameType, object], None],
        idle: Callable[[], bool],
        fails: Callable[[Test, types.FrameType], bool],
    ) -> None:
        """`began`: whether calls of this code matter; `idle`: whether events do not count just now; `fails`: whether a
        test is surely false in a call."""
        self.line, self.began, self.ended, self.idle, self.fails = line, began, ended, idle, fails
        self.monitoring: Any = getattr(sys, "monitoring", None)
        self.tool = -1
        self.watched: dict[int, _Watched] = {}  # by the identity of the code

    def watch(self, frame: types.FrameType, lines: Lines) -> bool:
        """Tell of the lines of a call of this thread; False where there is no monitoring for us."""
        if self.tool < 0 and not self._begin():
            return False
        code, known = frame.f_code, self.watched.get(id(frame.f_code))
        if known is None:
            known = self.watched[id(code)] = _Watched(code, lines, frame, get_ident())
            changed = True
        else:
            both = None if lines is None or known.lines is None else {**known.lines, **lines}
            changed = both != known.lines
            known.lines = both
            known.only = None if known.only is not frame else frame
        if changed:
            # What was switched off is on again.  `restart_events` would do that to the script's tools, too.
            events = self.monitoring.events
            for wanted in (0, events.LINE | events.PY_RETURN):
                self.monitoring.set_local_events(self.tool, code, wanted)
            for wanted in (events.PY_UNWIND, events.PY_START | events.PY_UNWIND):
                self.monitoring.set_events(self.tool, wanted)
        return True

    def forget(self, frame: types.FrameType) -> None:
        """A call is over, or not watched any more."""
        known = self.watched.get(id(frame.f_code))
        if known is not None and known.only is frame:
            known.only = None

    def stop(self) -> None:
        """No code is watched any more; the tool number is free."""
        if self.tool < 0:
            return
        for known in self.watched.values():
            self.monitoring.set_local_events(self.tool, known.code, 0)
        self.watched.clear()
        self.monitoring.set_events(self.tool, 0)
        for event in self._callbacks():
            self.monitoring.register_callback(self.tool, event, None)
        self.monitoring.free_tool_id(self.tool)
        self.tool = -1

    def _begin(self) -> bool:
        if self.monitoring is None:
            return False
        free = [number for number in NUMBERS if self.monitoring.get_tool(number) is None]
        if not free:
            return False
        self.tool = free[0]
        self.monitoring.use_tool_id(self.tool, NAME)
        for event, callback in self._callbacks().items():
            self.monitoring.register_callback(self.tool, event, callback)
        self.monitoring.set_events(self.tool, self.monitoring.events.PY_START | self.monitoring.events.PY_UNWIND)
        return True

    def _callbacks(self) -> dict[int, Callable[..., object]]:
        events = self.monitoring.events
        return {
            events.LINE: self._line,
            events.PY_START: self._start,
            events.PY_RETURN: self._return,
            events.PY_UNWIND: self._unwind,
        }

    def _line(self, code: types.CodeType, line: int) -> object:
        # No `id`, no `f_code`, no `_getframe` on the usual path: audit hooks are told of each, which takes long.
        for known in self.watched.values():
            if known.code is code:
                break
        else:
            return None  # another thread has just ended the watch
        if known.lines is not None and line not in known.lines:
            return self.monitoring.DISABLE
        if run_state.quiet or self.idle():
            return None
        frame = known.only if known.thread == get_ident() else None
        test = known.lines[line] if known.lines is not None else None
        if frame is not None and test is not None and self.fails(test, frame):
            return None
        self.line(frame or sys._getframe(1))
        return None

    def _start(self, code: types.CodeType, offset: int) -> object:
        if self.idle():
            return None
        return None if self.began(sys._getframe(1)) else self.monitoring.DISABLE

    def _return(self, code: types.CodeType, offset: int, value: object) -> None:
        if not self.idle():
            self.ended(sys._getframe(1), value)

    def _unwind(self, code: types.CodeType, offset: int, error: BaseException) -> None:
        if id(code) in self.watched and not self.idle():
            self.ended(sys._getframe(1), None)
