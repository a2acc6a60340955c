"""The files that have rewritten code, the texts of code without a file, and the meters of loops."""

from __future__ import annotations

import os
import sys
import types
from typing import Any

from .source_file import SourceFile

# Code of a text that is in no file, and code that still runs, or that running code still makes functions of, though
# its file's new text was taken up; by identity, since equal code may be of either text.
of_code: dict[int, tuple[types.CodeType, SourceFile]] = {}
files: dict[str, SourceFile] = {}  # the rewritten files by the file name that their code has
Meter = tuple[Any, int, int]  # what has counted, the length or -1, and where the count began
meters: dict[int, dict[int, Meter]] = {}  # by the site of a loop, then by the id of the call's frame
MOST_METERS = 500  # of one loop


def note_meter(site: int, frame: types.FrameType, meter: Meter) -> None:
    """Keep the meter of a loop for one call; those of calls that are over are dropped now and then."""
    found = meters.get(site)
    if found is None:
        found = meters[site] = {}
    elif len(found) >= MOST_METERS:
        alive = set()
        for inner in sys._current_frames().values():
            outer: types.FrameType | None = inner
            while outer is not None:
                alive.add(id(outer))
                outer = outer.f_back
        for key in [k for k in found if k not in alive] or list(found)[: MOST_METERS // 2]:
            del found[key]
    found[id(frame)] = meter


def file_of(frame: types.FrameType) -> SourceFile | None:
    """The text that a call runs; None when it is not the user's."""
    if of_code and id(frame.f_code) in of_code:
        return of_code[id(frame.f_code)][1]
    return files.get(frame.f_code.co_filename)


def is_old(frame: types.FrameType) -> bool:
    """True for a call that runs an earlier text of its file."""
    return bool(of_code) and id(frame.f_code) in of_code and not of_code[id(frame.f_code)][1].shown


def keep_text(code: types.CodeType, file: SourceFile) -> None:
    """Note the text of a piece of code, and of what it makes functions and comprehensions of."""
    if id(code) not in of_code:
        of_code[id(code)] = (code, file)
    for const in code.co_consts:
        if isinstance(const, types.CodeType):
            keep_text(const, file)


def path_of(frame: types.FrameType) -> str:
    """The absolute path of a call's file; for a text that is in no file, what it is called."""
    file = file_of(frame)
    return file.shown if file is not None and file.shown else os.path.abspath(frame.f_code.co_filename)
