"""What is done when our own code fails: a file for its makers, a sentence for the user."""

from __future__ import annotations

import os
import platform
import sys
import time
import traceback
from pathlib import Path

from platformdirs import user_state_path

from . import __version__
from .state_files import write_private

KEPT = 20  # crash files


def sentence(error: BaseException) -> str:
    """Write a crash report; returns the message for the user."""
    what = f"Uneven Sum crashed ({type(error).__name__}). Script and case are intact"
    try:
        path = write(error)
    except OSError as e:
        return f"{what}; a crash report could not be written ({e.strerror}). Restart it."
    return f"{what}. Restart it, and report {path}."


def write(error: BaseException) -> Path:
    """The crash file; OSError when it cannot be written."""
    folder = user_state_path("uneven-sum") / "crashes"
    path = folder / f"crash-{time.strftime('%Y%m%d-%H%M%S')}-{os.getpid()}.txt"
    head = [
        f"Uneven Sum {__version__}, Python {platform.python_version()}, {platform.platform()}",
        f"command: {' '.join(sys.argv[1:2])}",  # not the script and its arguments: they are the user's
        "",
    ]
    write_private(path, ("\n".join(head) + "".join(traceback.format_exception(error))).encode("utf-8", "replace"))
    for old in sorted(folder.glob("crash-*.txt"))[:-KEPT]:
        old.unlink(missing_ok=True)
    return path
