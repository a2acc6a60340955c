"""All that is recorded in a run: loops, comprehensions and functions, by their place in the text."""

from __future__ import annotations

import ast
import itertools
import os
from dataclasses import field

from ..core.records import record
from ..core.trees import Repeated
from ..source.source_file import SourceFile, position
from . import columns
from .recorder import Recorder, Run, numbered


@record
class RecordOptions:
    """What is recorded besides the values that a body assigns."""

    branches: bool = True
    times: bool = False


_numbers = itertools.count()


@record
class Recorders:
    all: list[Recorder] = field(default_factory=list)
    always: RecordOptions | None = None  # every loop of the user's code
    watches: tuple[str, ...] = ()  # expressions that are columns of each loop that sees their names

    def plan(self, file: SourceFile) -> dict[tuple[int, int], Recorder]:
        """What concerns one file, by line and column."""
        path = os.path.realpath(file.path)
        if self.always is not None:
            have = {r.at for r in self.all if r.file == path}
            for loop in columns.all_loops(file):
                if position(loop)[:2] not in have:
                    self.add(file, loop, self.always, bare=False)
        found = {r.at: r for r in self.all if r.file == path}
        for recorder in found.values():
            recorder.branches.clear()  # they are found again as the text is rewritten
        return found

    def add(
        self,
        file: SourceFile,
        node: Repeated,
        how: RecordOptions,
        names: list[str] | None = None,
        bare: bool = True,
        keep: bool = False,
    ) -> Recorder | None:
        """Records a loop, comprehension or function; in the place of an earlier recorder of it, if that records other
        things and is not to be kept.  None when there is nothing to tell of it (and `bare` is not wanted)."""
        path = os.path.realpath(file.path)
        made = columns.recorder_for(file, node, path, how.branches, how.times, names, self.watches)
        if not made.labels:
            if not bare:
                return None
            made = Recorder(made.file, made.at, (), (), (columns.SECONDS,), made.kind)
            made.counted, made.head = not isinstance(node, ast.For), columns.head(file, node)
            made.now = Run(made)
        before = self.find(path, *made.at)
        if before is not None:
            if before.labels == made.labels or keep:
                return before
            self.drop(before)
        if made.kind == "calls":
            made.calls_begin()
        self.all.append(made)
        made.number = next(_numbers)
        numbered[made.number] = made
        return made

    def find(self, path: str, line: int, column: int | None = None) -> Recorder | None:
        real = os.path.realpath(path)
        here = [r for r in self.all if r.file == real and r.line == line and column in (None, r.at[1])]
        return here[0] if here else None

    def drop(self, recorder: Recorder) -> None:
        self.all.remove(recorder)
        numbered.pop(recorder.number, None)
