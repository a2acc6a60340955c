"""Warnings of calculations that a probe does for the script: they stand at the user's line, and once a line there."""

from __future__ import annotations

import types
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
