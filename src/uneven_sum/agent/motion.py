"""Steps: line tracing, switched on only from a pause to the end of the step that follows it.

Besides, calls that were already running when a breakpoint was set in them, and a statement whose
warning waits for its result, are traced for as long as that lasts.
"""

from __future__ import annotations

import os
import sys
import types
from collections.abc import Callable
from typing import Any

from . import stack, state
from .handled import statement_at
from .source import LOOPS, Position, position

CONTINUE, LINE, INTO, OUT = "continue", "line", "into", "out"


class Motion:
    """The one tracer.  `arrived(frame, returned, inside)` is called where a step ends, `met(frame, line)` at a
    breakpoint of a call that was running before it was set, `settled(frame)` after a held statement.
    `older(frame)` gives the breakpoints that a call's code lacks, since it was compiled before they were set."""

    def __init__(
        self,
        arrived: Callable[[types.FrameType, Any, bool], None],
        met: Callable[[types.FrameType, int], None],
        settled: Callable[[types.FrameType], None],
    ) -> None:
        self.arrived, self.met, self.settled = arrived, met, settled
        self.older: Callable[[types.FrameType], set[int]] = lambda frame: set()
        self.mode = CONTINUE
        self.start: types.FrameType | None = None
        self.start_statement: Position | None = None
        self.start_at, self.start_line = -1, 0
        self.left = False  # the call in which the step began has returned
        self.returned: Any = _NOTHING
        self.armed: dict[types.FrameType, set[int]] = {}
        self.held: dict[types.FrameType, Position] = {}
        self.scripts_own: Any = None

    # -- switching on and off ------------------------------------------------------------------------

    def begin(self, mode: str, frame: types.FrameType | None) -> None:
        """Sets off from a pause in `frame`."""
        self.mode = mode if frame is not None else CONTINUE
        self.left, self.returned = False, _NOTHING
        self.start = frame
        if frame is not None and self.mode != CONTINUE:
            self.start_statement, self.start_at = self._statement(frame), frame.f_lasti
            self.start_line = frame.f_lineno
            outer: types.FrameType | None = frame
            while outer is not None:
                if stack.file_of(outer) is not None:
                    outer.f_trace = self._local
                outer = outer.f_back
        self._switch()

    def arm(self, frame: types.FrameType, lines: set[int]) -> None:
        """Watches lines of a call that runs code without their breakpoints.

        With no lines the call is only kept under way, so that the calls it makes are seen.
        """
        self.armed[frame] = lines
        frame.f_trace = self._local
        self._switch()

    def disarm(self) -> None:
        self.armed.clear()
        self._switch()

    def hold(self, frame: types.FrameType) -> None:
        """Calls `settled` as soon as the statement under way in `frame` is over."""
        self.held[frame] = self._statement(frame) or (0, 0, 0, 0)
        frame.f_trace = self._local
        self._switch()

    def release(self, frame: types.FrameType) -> None:
        if self.held.pop(frame, None) is not None:
            self._switch()

    def _switch(self) -> None:
        wanted = self.mode != CONTINUE or self.armed or self.held
        present = sys.gettrace()
        if wanted:
            if present is not self._global:
                self.scripts_own = present
            sys.settrace(self._global)
        elif present == self._global:
            sys.settrace(self.scripts_own)
            self.scripts_own = None

    # -- tracing -------------------------------------------------------------------------------------

    def _statement(self, frame: types.FrameType) -> Position | None:
        file = stack.file_of(frame)
        found = file and statement_at(file, frame)
        return position(found.node) if found else None

    def _global(self, frame: types.FrameType, event: str, arg: Any) -> Any:
        if state.quiet or stack.file_of(frame) is None:
            return None
        if self.armed and (lines := self.older(frame)):
            self.armed[frame] = lines
        return self._local if self.mode == INTO or frame in self.armed else None

    def _local(self, frame: types.FrameType, event: str, arg: Any) -> Any:
        if state.quiet:
            return None
        if event == "line":
            self._line(frame)
        elif event == "opcode":
            if self.left and frame is not self.start:
                frame.f_trace_opcodes = False
                self._end(frame, inside=True)
        elif event == "return":
            self._return(frame, arg)
        return self._local

    def _line(self, frame: types.FrameType) -> None:
        if frame in self.held and self._statement(frame) != self.held[frame]:
            del self.held[frame]
            self.settled(frame)
            self._switch()
        lines = self.armed.get(frame)
        if lines and frame.f_lineno in lines:
            self.met(frame, frame.f_lineno)
            return
        if self.mode == CONTINUE:
            return
        if frame is self.start and not self.left:
            if self.mode == OUT or self._same_execution(frame):
                return
            self._end(frame)
        elif self.left or (self.mode == INTO and not stack._belongs_to_outer(frame) and not self._inner(frame)):
            self._end(frame)

    def _same_execution(self, frame: types.FrameType) -> bool:
        """True while the statement in which the step began is still under way."""
        if frame.f_lineno == self.start_line and self._loop_begins(frame):
            return True  # a loop in one line is one line
        return self._statement(frame) == self.start_statement and frame.f_lasti > self.start_at

    @staticmethod
    def _loop_begins(frame: types.FrameType) -> bool:
        file = stack.file_of(frame)
        loops = [s for s in file.statements if isinstance(s.node, LOOPS)] if file else []
        return any(s.line == frame.f_lineno == s.node.body[0].lineno for s in loops)  # type: ignore[attr-defined]

    def _inner(self, frame: types.FrameType) -> bool:
        return frame.f_code.co_name == "<genexpr>"

    def _return(self, frame: types.FrameType, value: Any) -> None:
        self.armed.pop(frame, None)
        if self.held.pop(frame, None) is not None:
            self.settled(frame)
        if self.mode != CONTINUE and frame is self.start:
            self.left, self.returned = True, value
            outer = stack.user_frame(frame.f_back)
            if outer is not None and outer is frame.f_back and self.mode == OUT:
                outer.f_trace, outer.f_trace_opcodes = self._local, True
            if outer is None:
                self.mode = CONTINUE
        self._switch()

    def _end(self, frame: types.FrameType, inside: bool = False) -> None:
        returned = self.returned if inside else _NOTHING
        self.mode, self.start = CONTINUE, None
        self.arrived(frame, returned, inside)


_NOTHING = object()


def nothing(value: Any) -> bool:
    return value is _NOTHING


def same_file(name: str, path: str) -> bool:
    return os.path.realpath(name) == path
