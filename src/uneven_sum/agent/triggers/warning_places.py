"""Warnings of calculations that a probe does for the script: they stand at the user's line, and once a line there."""

from __future__ import annotations

import sys
import types
import warnings
from typing import Any

from ..core import identity
from ..source import registry


def give_back(message: Any, frame: types.FrameType | None) -> bool:
    """Give a warning that stands at our own code to the user's line.  False where that line has shown it already.

    `frame`: of what shows it.  `warnings` has noted it in the registry of our module, where it would count for all
    lines of the script: it is noted in the registry of the user's module instead.
    """
    if not str(message.filename).startswith(identity.FOLDER):
        return True
    ours = frame
    while ours is not None and ours.f_code.co_filename != message.filename:
        ours = ours.f_back
    user = ours
    while user is not None and registry.file_of(user) is None:
        user = user.f_back
    if ours is None or user is None:
        return True
    noted: dict[object, object] = ours.f_globals.get("__warningregistry__", {})
    text = str(message.message)
    once = noted.pop((text, message.category, message.lineno), None) is not None
    message.filename, message.lineno = user.f_code.co_filename, user.f_lineno
    if not once:
        return True  # shown each time
    theirs = user.f_globals.setdefault("__warningregistry__", {})
    if theirs.get("version") != noted.get("version"):
        theirs.clear()
        theirs["version"] = noted.get("version")
    key = (text, message.category, message.lineno)
    if theirs.get(key):
        return False
    theirs[key] = True
    return True


def see_through() -> None:
    """Let `warnings.warn` count only calls of the script and of libraries, where a call of ours stands between them: a
    library that looks for its caller by the files of the calls finds our file, and the filters go by that."""
    plain = warnings.warn

    def warn(message: Any, category: Any = None, stacklevel: int = 1, source: object = None, **more: Any) -> None:
        caller, level = sys._getframe(1), stacklevel
        frame: types.FrameType | None = caller
        for _ in range(stacklevel - 1):
            frame = frame.f_back if frame is not None else None
        while frame is not None and identity.is_ours(frame):
            frame, level = frame.f_back, level + 1
        plain(message, category, max(level, 1) + 1, source, **more)

    warn.__module__, warn.__qualname__, warn.__doc__ = plain.__module__, "warn", plain.__doc__
    warnings.warn = warn
