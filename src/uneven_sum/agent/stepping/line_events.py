"""Line events of single pieces of code, by `sys.monitoring`: from CPython 3.12 on.

A line that does not matter is switched off at its first event, and costs nothing from then on.  A script, or a tool
that it uses, may use monitoring itself: we take one of the two tool numbers that have no purpose of their own, only
for as long as a call is watched, and none where both are taken.
"""

from __future__ import annotations

import sys
import types
from collections.abc import Callable
from typing import Any

from ..core import run_state

NUMBERS = (4, 3)  # of tools; the others are for debuggers, coverage, profilers and optimizers
NAME = "uneven-sum"
Lines = set[int] | None  # those that matter; None: all do


class LineEvents:
    """The line events of the watched calls, their returns, and calls that begin beside them."""

    def __init__(
        self,
        line: Callable[[types.FrameType], None],
        began: Callable[[types.FrameType], bool],
        ended: Callable[[types.FrameType, object], None],
        idle: Callable[[], bool],
    ) -> None:
        """`began`: whether calls of this code matter; `idle`: whether events do not count just now."""
        self.line, self.began, self.ended, self.idle = line, began, ended, idle
        self.monitoring: Any = getattr(sys, "monitoring", None)
        self.tool = -1
        self.lines: dict[int, tuple[types.CodeType, Lines]] = {}  # by the identity of the code

    def watch(self, code: types.CodeType, lines: Lines) -> bool:
        """Tell of the lines of a piece of code; False where there is no monitoring for us."""
        if self.tool < 0 and not self._begin():
            return False
        _, known = self.lines.get(id(code), (code, set()))
        both = None if lines is None or known is None else known | lines
        if id(code) not in self.lines or both != known:
            self.lines[id(code)] = code, both
            events = self.monitoring.events
            self.monitoring.set_local_events(self.tool, code, events.LINE | events.PY_RETURN)
            self.monitoring.restart_events()
        return True

    def stop(self) -> None:
        """No code is watched any more; the tool number is free."""
        if self.tool < 0:
            return
        for code, _ in self.lines.values():
            self.monitoring.set_local_events(self.tool, code, 0)
        self.lines.clear()
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
        _, lines = self.lines[id(code)]
        if lines is not None and line not in lines:
            return self.monitoring.DISABLE
        if not (run_state.quiet or self.idle()):
            self.line(sys._getframe(1))
        return None

    def _start(self, code: types.CodeType, offset: int) -> object:
        if self.idle():
            return None
        return None if self.began(sys._getframe(1)) else self.monitoring.DISABLE

    def _return(self, code: types.CodeType, offset: int, value: object) -> None:
        if not self.idle():
            self.ended(sys._getframe(1), value)

    def _unwind(self, code: types.CodeType, offset: int, error: BaseException) -> None:
        if id(code) in self.lines and not self.idle():
            self.ended(sys._getframe(1), None)
