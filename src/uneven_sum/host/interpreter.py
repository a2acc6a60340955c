"""Which interpreter runs the script."""

from __future__ import annotations

import asyncio
import os
import shutil
import sys
from dataclasses import dataclass

from .launch import OLDEST, BadUse

_ASK = "import sys; print('uneven', sys.implementation.name, *sys.version_info[:3])"


@dataclass
class Interpreter:
    path: str
    version: tuple[int, int, int]


def candidate(wanted: str | None) -> str:
    """The path of the interpreter that is asked for, else of the active environment's, else of our own."""
    if wanted:
        found = shutil.which(wanted) if os.sep not in wanted else os.path.abspath(wanted)
        if found is None or not os.path.exists(found):
            raise BadUse(f"There is no interpreter {wanted}. Give the path of a Python with --python.")
        if os.path.isdir(found):
            inside = os.path.join(found, "bin", "python")
            if not os.path.exists(inside):
                raise BadUse(f"{wanted} is a folder without bin/python in it. Give the path of a Python.")
            found = inside
        if not os.access(found, os.X_OK):
            raise BadUse(f"{wanted} cannot be executed. Give the path of a Python with --python.")
        return found
    active = os.environ.get("VIRTUAL_ENV")
    if active:
        found = os.path.join(active, "bin", "python")
        if os.path.exists(found):
            return found
    return sys.executable


async def find_interpreter(wanted: str | None) -> Interpreter:
    """The interpreter asked for, or the active virtual environment's, or our own.

    BadUse when it is missing, is not CPython, or is older than 3.11.
    """
    path = candidate(wanted)
    if os.path.realpath(path) == os.path.realpath(sys.executable):
        return Interpreter(path, (sys.version_info[0], sys.version_info[1], sys.version_info[2]))
    try:
        process = await asyncio.create_subprocess_exec(
            path, "-I", "-S", "-c", _ASK, stdin=-3, stdout=-1, stderr=-3, start_new_session=True
        )
        out, _ = await asyncio.wait_for(process.communicate(), 15)
    except (TimeoutError, OSError):
        raise BadUse(f"{path} does not run as a Python. Give the path of a Python with --python.") from None
    words = out.decode(errors="replace").split()
    if len(words) != 5 or words[0] != "uneven":
        raise BadUse(f"{path} is not a Python of version 3.11 or later. Give another one with --python.")
    version = (int(words[2]), int(words[3]), int(words[4]))
    if words[1] != "cpython":
        raise BadUse(f"{path} is {words[1]}, not CPython. Give a CPython with --python.")
    if version[:2] < OLDEST:
        raise BadUse(
            f"{path} is Python {version[0]}.{version[1]}; 3.11 or later is needed. Give another with --python."
        )
    return Interpreter(path, version)
