"""The last passes of the recorded loop around a paused call."""

from __future__ import annotations

import math
import os
import types
from typing import Any

from ..frames import stack
from ..frames.exception_handlers import statement_at
from ..source import registry
from ..values.snapshot import FIGURES, Cells, exact
from . import columns
from .recorder import Recorder
from .recorder_set import Recorders


def recent(recorders: Recorders, frame: types.FrameType, count: int) -> tuple[Recorder, list[tuple[int, Any]]] | None:
    """The innermost recorded loop around a call's statement, and its last passes."""
    file = registry.file_of(frame)
    if file is None or not recorders.all:
        return None
    path = os.path.realpath(file.path)
    for loop in stack.loops(frame, statement_at(file, frame)):
        recorder = recorders.find(path, loop["line"])
        if recorder is not None and recorder.runs:
            rows = recorder.runs[-1].latest(count)
            if rows:
                return recorder, rows
    return None


def last_passes(recorders: Recorders, frame: types.FrameType, count: int) -> list[dict[str, object]]:
    """The last passes before a pause, those that are over: `pass`, and `values` by name; finite numbers as they are,
    arrays by their figures, all else as exact text."""
    found = recent(recorders, frame, count) if count else None
    if found is None:
        return []
    recorder, rows = found
    labels = [label for label in recorder.labels if label not in (columns.BRANCHES, columns.SECONDS)]
    told = []
    for number_, row in rows:
        values = {label: _as_json(row[recorder.labels.index(label)]) for label in labels}
        told.append({"pass": number_, "values": {n: v for n, v in values.items() if v is not None}})
    return told


def _as_json(value: object) -> object:
    if isinstance(value, Cells):
        figures = {name: _as_json(getattr(value, name)) for name in FIGURES}
        return {"shape": list(value.shape), **figures}
    if type(value) in (bool, int) or (isinstance(value, float) and math.isfinite(value)):
        return float(value) if isinstance(value, float) else value
    return exact(value)
