"""Steps: line tracing, switched on only from a pause to the end of the step that follows it.

Besides, calls that were already running when a lookout was set in them, and a statement whose warning
waits for its result, are traced for as long as that lasts.
"""

from __future__ import annotations

import os
import sys
import types
from collections.abc import Callable
from typing import Any

from ..core import run_state
from ..core.identity import is_ours
from ..core.records import record
from ..core.trees import Loop
from ..frames import fast_form, stack
from ..frames.exception_handlers import instruction_place, statement_at
from ..frames.namespace import TRACERS
from ..probes import runtime
from ..source import gates, registry
from ..source.source_file import LOOPS, Position, Statement, position
from . import jumps
from .line_events import LineEvents, Lines, Test

NONE_HERE: Any = object()
CONTINUE, LINE, INTO, OUT, PASS, LOOP = "continue", "line", "into", "out", "pass", "loop"


@record
class Aim:
    """Where a step goes, besides its mode."""

    call: Position | None = None  # INTO: this call of the statement
    libraries: bool = False  # INTO: also into code that is not the user's
    number: int | None = None  # PASS: this one, else the next
    jump: int = 0  # make this line the next one
    leave: bool = False  # leave the call at once, with probes.leave.value
    skip: bool = False  # give the statement under way up
    retry: bool = False  # the statement runs again first


class Hooks:
    """What the engine is to the tracer."""

    def arrived(self, frame: types.FrameType, returned: object, inside: bool) -> None:
        """A step has ended here."""

    def line_met(self, frame: types.FrameType, line: int) -> bool:
        """A line of a call that ran before its lookouts were set; True when it paused there."""
        return False

    def fails(self, test: Test, frame: types.FrameType) -> bool:
        """True when a test surely does not hold of the names of a call."""
        return False

    def old_call(self, frame: types.FrameType) -> bool:
        """Whether a beginning call lacks the present lookouts (and is hit as an entry, if one is set)."""
        return False

    def old_return(self, frame: types.FrameType, value: object) -> None: ...
    def lines_that_matter(self, frame: types.FrameType) -> Lines:
        """Of a call that lacks the present lookouts: the lines at which one may be met, and a test that must hold of
        the call's names, if there is one; None: all lines."""
        return None

    def settled(self, frame: types.FrameType, statement: Position) -> None:
        """The held statement is over."""

    def refused(self, text: str) -> None:
        """A jump was refused by the language."""


class Stepper:
    """The one tracer."""

    def __init__(self, hooks: Hooks) -> None:
        self.hooks = hooks
        self.mode = CONTINUE
        self.aim = Aim()
        self.start: types.FrameType | None = None
        self.start_statement: Position | None = None
        self.start_at, self.start_line = -1, 0
        self.loop: Loop | None = None  # the loop of PASS and LOOP
        self.passes_by: Callable[[int], bool] = _nowhere  # PASS to a far one: whether a line is surely on the way
        self.left = False  # the call in which the step began has returned
        self.returned: object = _NOTHING
        self.entered: types.FrameType | None = None  # what the chosen call of a step has called
        self.armed: set[types.FrameType] = set()
        self.matter: dict[types.FrameType, Lines] = {}  # of armed calls
        self.events = LineEvents(self._line_event, self._call_event, self._return_event, self._is_idle, hooks.fails)
        self.held: dict[types.FrameType, Position] = {}
        self.scripts_own: Any = None
        self.over: Callable[[types.FrameType], bool] = lambda frame: False  # stepped over

    # -- switching on and off ------------------------------------------------------------------------

    def begin(self, mode: str, frame: types.FrameType | None, aim: Aim | None = None) -> None:
        """Sets off from a pause in `frame`."""
        self.mode = mode if frame is not None else CONTINUE
        self.aim = aim or Aim()
        self.left, self.returned, self.entered = False, _NOTHING, None
        self.start = frame if self.mode != CONTINUE or self.aim.jump or self.aim.leave else None
        if frame is not None and (self.mode != CONTINUE or self.aim.jump or self.aim.leave):
            found = self._found(frame)
            self.start_statement, self.start_at = (position(found.node) if found else None), frame.f_lasti
            self.loop = _loop_around(found) if found else None
            self.start_line = frame.f_lineno
            self.passes_by = self._on_the_way(frame, self.aim.number) if mode == PASS and self.aim.number else _nowhere
            frame.f_trace = self._local
            if self.aim.leave or self.aim.skip:
                frame.f_trace_opcodes = True
            outer: types.FrameType | None = frame
            while outer is not None:
                if registry.file_of(outer) is not None:
                    outer.f_trace = self._local
                outer = outer.f_back
        self._switch()

    def enter(self) -> None:
        """Sets off from nowhere: ends at the first line of the user that is reached."""
        self.mode, self.aim, self.left, self.start, self.returned = INTO, Aim(), False, None, _NOTHING
        self._switch()

    def arm(self, frame: types.FrameType) -> None:
        """Watches a call that runs code without the present lookouts."""
        self.armed.add(frame)
        lines = self.matter[frame] = self.hooks.lines_that_matter(frame)
        if not self.events.watch(frame, lines):
            frame.f_trace = self._local
        self._switch()

    def disarm(self) -> None:
        self.armed.clear()
        self.matter.clear()
        self._switch()

    def disarm_one(self, frame: types.FrameType) -> None:
        self.armed.discard(frame)
        self.events.forget(frame)
        self.matter.pop(frame, None)
        self._switch()

    def switch_off(self) -> None:
        """Nothing is traced or watched any more."""
        sys.settrace(None)
        self.events.stop()

    def hold(self, frame: types.FrameType) -> None:
        """Calls `settled` as soon as the statement under way in `frame` is over."""
        self.held[frame] = self._statement(frame) or (0, 0, 0, 0)
        frame.f_trace = self._local
        self._switch()

    def release(self, frame: types.FrameType) -> None:
        if self.held.pop(frame, None) is not None:
            self._switch()

    def _switch(self) -> None:
        if not self.armed:
            self.events.stop()
        stepping = bool(self.mode != CONTINUE or self.held or self.aim.jump or self.aim.leave)
        gates.trace(stepping or bool(self.armed))
        wanted = stepping or (bool(self.armed) and self.events.tool < 0)
        present = sys.gettrace()
        if wanted:
            if present is not self._global:
                self.scripts_own = present
            sys.settrace(self._global)
        elif present == self._global:
            sys.settrace(self.scripts_own)
            self.scripts_own = None

    # -- tracing -------------------------------------------------------------------------------------

    @staticmethod
    def _found(frame: types.FrameType) -> Statement | None:
        file = registry.file_of(frame)
        return statement_at(file, frame) if file else None

    def _statement(self, frame: types.FrameType) -> Position | None:
        found = self._found(frame)
        return position(found.node) if found else None

    def _global(self, frame: types.FrameType, event: str, arg: object) -> Any:
        if run_state.quiet or is_ours(frame):
            return None
        users = registry.file_of(frame) is not None
        if not users and not (self.mode == INTO and self.aim.libraries):
            return None
        if users and self.armed and self.hooks.old_call(frame):
            self.armed.add(frame)
            self.matter[frame] = self.hooks.lines_that_matter(frame)
            self.events.watch(frame, self.matter[frame])
        enters = self.mode == INTO and not self.over(frame) and (self.aim.call is None or self._is_target(frame))
        if enters:
            self.entered = frame
        return self._local if enters or frame in self.armed else None

    def _is_target(self, frame: types.FrameType) -> bool:
        """True for what the chosen call of the statement calls."""
        caller = frame.f_back
        while caller is not None and caller is not self.start and registry.file_of(caller) is None:
            caller = caller.f_back
        if caller is None or caller is not self.start:
            return False
        place = instruction_place(caller.f_code, caller.f_lasti)
        return place == self.aim.call

    def _local(self, frame: types.FrameType, event: str, arg: object) -> object:
        if run_state.quiet:
            return None
        if event == "line":
            if self.mode == CONTINUE and not (self.held or self.aim.jump or self.aim.leave):
                lines = self.matter.get(frame)
                if lines is not None:
                    test = lines.get(frame.f_lineno, NONE_HERE)
                    if test is NONE_HERE or (test is not None and self.hooks.fails(test, frame)):
                        return self._local
            elif self.aim.number and frame is self.start and not (self.left or self.held or frame in self.armed):
                if self.passes_by(frame.f_lineno):
                    return self._local
            self._line(frame)
        elif event == "opcode":
            if (self.aim.leave or self.aim.skip) and frame is self.start:
                self._give_up(frame)
            elif self.left and frame is not self.start:
                frame.f_trace_opcodes = False
                self._end(frame, inside=True)
        elif event == "return":
            self._return(frame, arg)
        return self._local

    # -- events of calls that lack the present lookouts, when nothing is traced ----------------------------

    def _is_idle(self) -> bool:
        return run_state.quiet or run_state.in_trial or sys.gettrace() == self._global

    def _line_event(self, frame: types.FrameType) -> None:
        if frame not in self.armed or self._is_ours(frame):
            return
        if self.hooks.line_met(frame, frame.f_lineno):
            self._jump(frame)

    def _call_event(self, frame: types.FrameType) -> bool:
        if is_ours(frame) or registry.file_of(frame) is None or not self.hooks.old_call(frame):
            return False
        self.arm(frame)
        return True

    def _return_event(self, frame: types.FrameType, value: object) -> None:
        if frame in self.armed:
            self.disarm_one(frame)
            self.hooks.old_return(frame, value)

    @staticmethod
    def _is_ours(frame: types.FrameType) -> bool:
        """A line that is not the script's: of a guard after an error, where a jump sets off, or of a block whose names
        are not stored yet."""
        file = registry.file_of(frame)
        if file is None:
            return False
        if sys.exc_info()[1] is not None and jumps.is_in_guard(frame.f_code, frame.f_lasti):
            return True
        return frame.f_lineno > len(file.lines) or fast_form.is_fast(frame)

    def _give_up(self, frame: types.FrameType) -> None:
        """Raises where the statement's guard will take it up: leaves the call, or skips the statement."""
        if jumps.is_guarded(frame.f_code, frame.f_lasti):
            frame.f_trace_opcodes = False
            runtime.leave.frame, runtime.leave.skips = id(frame), self.aim.skip
            if self.aim.leave:
                self.aim = Aim()
                self.mode = CONTINUE
            else:
                self.aim.skip = False
            raise runtime.Leave

    def leaving(self, frame: types.FrameType) -> None:
        """The call is about to return the given value: pause in its caller, as after stepping out."""
        self.begin(OUT, frame)

    def resume_jump(self, frame: types.FrameType) -> None:
        """The statement was given up (which has ended the tracing): now the jump."""
        frame.f_trace = self._local
        self._switch()

    def _line(self, frame: types.FrameType) -> None:
        file = registry.file_of(frame)
        if file is not None and sys.exc_info()[1] is not None and jumps.is_in_guard(frame.f_code, frame.f_lasti):
            return  # what we do after an error
        if frame is self.start and self.aim.jump and not self.aim.skip:
            self._jump(frame)
            return
        if file is not None and (frame.f_lineno > len(file.lines) or fast_form.is_fast(frame)):
            return  # where a jump sets off, or a block whose names are not stored yet
        if frame in self.held and self._statement(frame) != self.held[frame]:
            self.hooks.settled(frame, self.held.pop(frame))
            self._switch()
        if frame in self.armed and self.hooks.line_met(frame, frame.f_lineno):
            self._jump(frame)
            return
        if self.mode == CONTINUE:
            return
        if frame is self.start and self.aim.retry and self._statement(frame) == self.start_statement:
            if frame.f_lasti < self.start_at:  # else it is in the guard still, whose lines are the statement's
                self.aim.retry, self.start_at = False, frame.f_lasti
            return
        if frame is self.start and not self.left:
            if self.mode in (PASS, LOOP):
                self._line_of_loop(frame)
            elif self.mode != OUT and not self._same_execution(frame):
                if self.mode == INTO and self.aim.call is not None:
                    self.aim.call = None
                self._end(frame)
        elif self.left or (self.mode == INTO and self._entered(frame)):
            self._end(frame)

    def _line_of_loop(self, frame: types.FrameType) -> None:
        assert self.loop is not None  # a step by passes has a loop
        line = frame.f_lineno
        first, last = self.loop.lineno, self.loop.end_lineno or 0
        if first <= line <= last and (self.mode == LOOP or line != self.start_line):
            if line != first or self.mode == LOOP:
                found = None if first < line < last else self._found(frame)
                if found is None or jumps.lies_in(found, self.loop):
                    return
        found = self._found(frame)
        if found is None:
            return
        if not jumps.lies_in(found, self.loop):
            self._end(frame)
        elif self.mode == PASS and position(found.node) == self.start_statement and not self._same_execution(frame):
            if self.aim.number is not None:
                file = registry.file_of(frame)
                assert file is not None
                if stack.passes(file, frame, self.loop, False)[0] < self.aim.number:
                    return
            self._end(frame)

    def _on_the_way(self, frame: types.FrameType, number: int) -> Callable[[int], bool]:
        """Of a line of the loop: whether a step to a far pass surely does not end there."""
        file, loop, start = registry.file_of(frame), self.loop, self.start_line
        counter = stack.pass_counter(file, frame, loop) if file is not None and loop is not None else None
        if loop is None or start == loop.lineno:
            return _nowhere
        inside = range(loop.lineno, (loop.end_lineno or 0) + (not loop.orelse))

        def passes_by(line: int) -> bool:
            return line in inside and (line != start or (counter is not None and counter() < number))

        return passes_by

    def _same_execution(self, frame: types.FrameType) -> bool:
        """True while the statement in which the step began is still under way."""
        if registry.file_of(frame) is None:
            return frame.f_lineno == self.start_line and frame.f_lasti > self.start_at
        if frame.f_lineno == self.start_line and self._loop_begins(frame):
            return True  # a loop in one line is one line
        return self._statement(frame) == self.start_statement and frame.f_lasti > self.start_at

    @staticmethod
    def _loop_begins(frame: types.FrameType) -> bool:
        file = registry.file_of(frame)
        loops = [s for s in file.statements if isinstance(s.node, LOOPS)] if file else []
        # mypy: of loops
        return any(s.line == frame.f_lineno == s.node.body[0].lineno for s in loops)  # type: ignore[attr-defined]

    def _entered(self, frame: types.FrameType) -> bool:
        """True for a call that this step may end in."""
        if stack._belongs_to_outer(frame) or frame.f_code.co_name == "<genexpr>" or self.over(frame):
            return False
        return self.aim.call is None or self.entered is frame

    def _return(self, frame: types.FrameType, value: object) -> None:
        suspended = jumps.is_suspended(frame)
        if frame in self.armed and not suspended:
            self.armed.discard(frame)
            self.events.forget(frame)
            self.matter.pop(frame, None)
            self.hooks.old_return(frame, value)
        if not suspended and frame in self.held:
            self.hooks.settled(frame, self.held.pop(frame))
        if self.mode != CONTINUE and frame is self.start:
            if suspended and self.mode != OUT:
                return  # a coroutine that waits: the step continues when it does
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
        self.hooks.arrived(frame, returned, inside)
        if not inside:
            self._jump(frame)

    def _jump(self, frame: types.FrameType) -> None:
        """Makes another line the next one, if that was asked for; within a line event only."""
        while self.aim.jump and frame is self.start and not self.aim.skip:
            line, self.aim = self.aim.jump, Aim()
            try:
                with run_state.silenced():
                    frame.f_lineno = line  # type: ignore[misc]  # settable in a trace function
            except (ValueError, RuntimeError) as e:
                self.hooks.refused(jumps.in_words(str(e)))
            self.mode = CONTINUE
            self.hooks.arrived(frame, _NOTHING, False)


def _nowhere(line: int) -> bool:
    return False


def _loop_around(statement: Statement) -> Loop | None:
    if statement.loops:
        return statement.loops[-1]
    return statement.node if isinstance(statement.node, LOOPS) else None


_NOTHING = object()


def nothing(value: object) -> bool:
    return value is _NOTHING


def same_file(name: str, path: str) -> bool:
    return os.path.realpath(name) == path


TRACERS.update((id(code), code) for code in (Stepper._global.__code__, Stepper._local.__code__))
