"""How paths are shown."""

from __future__ import annotations

import os


def short(path: str) -> str:
    """A path as it is shown: from the working folder where it lies below it, from the home folder with `~`."""
    here, home = os.getcwd(), os.path.expanduser("~")
    if path.startswith(here + os.sep):
        return path[len(here) + 1 :]
    return "~" + path[len(home) :] if path.startswith(home + os.sep) else path
