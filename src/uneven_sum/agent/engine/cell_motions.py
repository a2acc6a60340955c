"""Motion by cell: a return point before each cell, a pause before the next one, cells that run again."""

from __future__ import annotations

import sys
import types
import zlib
from typing import TYPE_CHECKING

from ..core import run_state, signal_masking
from ..core.original_builtins import with_originals
from ..frames import stack
from ..notebook.outputs import Outputs
from ..pause.facts import Pause
from ..source import registry
from ..source.cells import Cells

if TYPE_CHECKING:
    from .engine import Engine

MOST_SHOWN = 2000  # characters of an output that is listed


class CellMotions:
    """Of the notebook that runs.  `stop_after`: pauses so far when the next cell was asked for; `ran`: each cell that
    has begun, with a CRC-32 of its source, in order."""

    def __init__(self, engine: Engine, outputs: Outputs) -> None:
        self.engine, self.outputs = engine, outputs
        self.stop_after = -1
        self.first = False  # the next cell is the one that is to run
        self.here = 0  # the cell that begins, or is under way
        self.ran: list[tuple[int, int]] = []

    @property
    def cells(self) -> Cells:
        return self.outputs.cells

    def begins(self, number: int) -> None:
        """The probe at the beginning of each cell."""
        if run_state.in_trial:
            return
        frame = sys._getframe(1)
        self.outputs.ends()
        self.here = number
        if not run_state.quiet:
            self._arrives(number, frame)
        self.outputs.begins(number)
        self.ran.append((number, self.source_print(number)))

    def over(self) -> None:
        """The module has run to its end."""
        self.outputs.ends()
        self.here = 0

    def source_print(self, number: int) -> int:
        return zlib.crc32(self.cells.source(number).encode())

    @with_originals
    def _arrives(self, number: int, frame: types.FrameType) -> None:
        engine = self.engine
        if self._point(number, frame):
            engine._guarded(Pause("step", frame, "next", said=f"Back at the beginning of cell {number}"))
            return
        first, self.first = self.first, False
        if self.stop_after == engine.pauses and not first:
            engine._guarded(Pause("step", frame, "next"))
            return
        lookouts = engine.lookouts.of("cell")
        if lookouts and self.ran and not first:
            engine._meet(lookouts, None, frame, True, {})

    def _point(self, number: int, frame: types.FrameType) -> bool:
        """A return point before the cell; True in the process that goes on from it."""
        engine = self.engine
        if engine.rewind is None or not engine.lock.acquire(blocking=False):
            return False
        try:
            run_state.quiet = True
            told = {"reason": "cell", "cell": number, "file": registry.path_of(frame), "line": stack.line_of(frame)}
            told |= {"function": "<module>", "pass": 0, "statement": "", "loops": [], "chain": stack.chain(frame)}
            with signal_masking.held():
                made = engine.rewind.make(told)
                engine.rewind.settle()
            if made and engine.rewind.woken:
                engine.woken_at = made
                return True
            return False
        finally:
            run_state.quiet = False
            engine.lock.release()

    def stop_at_next(self, frame: types.FrameType | None = None) -> None:
        """After the pause; `frame`: the paused call, which may stand before the beginning of a cell."""
        self.stop_after = self.engine.pauses
        if frame is not None and frame.f_code.co_name == "<module>":
            cell = self.cells.at(frame.f_lineno)
            self.first = cell is not None and cell.number != self.here

    def run_from(self, number: int, stop: bool) -> None:
        """After the pause the cells run from this one on; `stop`: until the next begins."""
        self.cells.start = number
        self.first = True
        self.engine.from_cell = self.engine.anew = True
        if stop:
            self.stop_at_next()

    def told(self) -> dict[str, object]:
        """What has run, in order, whether its source has changed since, and its outputs."""
        now = {cell.number: self.source_print(cell.number) for cell in self.cells.code}
        last = {number: (at, source) for at, (number, source) in enumerate(self.ran, 1)}
        cells = []
        for number, (at, source) in sorted(last.items()):
            outputs = self.outputs.told.get(number, [])
            if self.outputs.cell is not None and self.outputs.cell.number == number:
                outputs = [one.told() for one in self.outputs.kept]
            shown = [{**one, "text": one["text"][:MOST_SHOWN], "data": sorted(one["data"])} for one in outputs]
            grid = number in self.outputs.values
            changed = now.get(number, source) != source
            cells.append({"number": number, "at": at, "changed": changed, "grid": grid, "outputs": shown})
        return {"cells": cells, "here": self.here}
