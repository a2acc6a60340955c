"""A loop that is recorded while it runs already: its code cannot be changed any more, so its lines are traced.

Each time the line of its head is hit, a pass is over; so it is when the loop or the call is left.
"""

from __future__ import annotations

import ast
import types

from ..core.markers import MISSING as NOTHING
from ..core.trees import Loop
from ..frames import stack
from ..frames.exception_handlers import statement_at
from ..frames.namespace import Scope
from ..source.source_file import SourceFile, head_end
from ..values.snapshot import MISSING, clock
from .columns import BRANCHES, SECONDS
from .recorder import Recorder, Run, read


class TracedLoop:
    """One running loop of one call."""

    def __init__(self, recorder: Recorder, file: SourceFile, loop: Loop, frame: types.FrameType) -> None:
        self.file, self.loop = file, loop
        self.first, self.last, self.head_end = loop.lineno, loop.end_lineno or 0, head_end(loop)
        number, _ = stack.passes(file, frame, loop, False)
        self.run: Run = recorder.begin_late(max(0, number - 1), frame)
        self.recorder = recorder
        here = statement_at(file, frame)
        self.in_body = here is not None and loop in here.loops
        self.began = clock()
        self.branches = 0

    def line(self, frame: types.FrameType) -> bool:
        """A line of the call begins; False when the loop has been left."""
        line = frame.f_lineno
        if self.first <= line <= self.head_end:
            one_line = self.loop.body[0].lineno == line
            if self.in_body:
                self._over(frame)
            self.in_body = one_line and not isinstance(self.loop, ast.While)
            return True
        if self.first <= line <= self.last and not self._in_else(line):
            self.in_body = True
            self._branch(line)
            return True
        if line > len(self.file.lines):
            return True  # where a jump sets off
        self.left(frame)
        return False

    def left(self, frame: types.FrameType) -> None:
        """The loop, or its call, is over."""
        if self.in_body:
            self._over(frame)
        self.in_body = False

    def _in_else(self, line: int) -> bool:
        rest = self.loop.orelse
        return bool(rest) and line >= rest[0].lineno

    def _branch(self, line: int) -> None:
        for bit, (first, _) in enumerate(self.recorder.branches):
            if first == line:
                self.branches |= 1 << bit

    def _over(self, frame: types.FrameType) -> None:
        scope, now = Scope(frame), clock()
        row: list[object] = []
        for name in self.recorder.names:
            value = scope[name] if name in scope.locals or name in scope.globals else NOTHING
            row.append(MISSING if value is NOTHING else value)
        row += read((*self.recorder.places, *self.recorder.reads), frame)
        for text in self.recorder.others[len(self.recorder.reads) :]:
            row.append(self.branches if text == BRANCHES else now - self.began if text == SECONDS else MISSING)
        self.run.put(row)
        self.began, self.branches = clock(), 0
