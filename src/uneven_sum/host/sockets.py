"""Sockets: where they stand, since their paths must be short, and how connections to them are served."""

from __future__ import annotations

import asyncio
import contextlib
import os
import re
import shutil
import tempfile
from collections.abc import Callable, Coroutine

from .launch import BadUse

LONGEST = 85  # characters of a folder's path without its random end: the system takes 107 for a socket
SHORT = "/tmp"
OWNED = re.compile(r"uneven-(?:sum-)?(\d+)-[^-]+$")  # a folder, and the process that it is of


def base_for(prefix: str) -> str:
    """The temporary folder, or a shorter one where its name is too long."""
    base = tempfile.gettempdir()
    return base if len(os.path.join(base, prefix)) <= LONGEST else SHORT


def folder_for_sockets(prefix: str) -> str:
    """A new folder of the user's alone, not below a temporary folder of a long name.  BadUse where there is no room."""
    base = base_for(prefix)
    try:
        return tempfile.mkdtemp(prefix=prefix, dir=base)
    except OSError as e:
        told = f"No folder can be made in {base}: {e.strerror}. Make room there, or set TMPDIR to another one."
        raise BadUse(told) from None


def scratch_prefix() -> str:
    """The begin of the name of a temporary folder of this process; those of killed processes are removed."""
    remove_stale(tempfile.gettempdir())
    return f"uneven-sum-{os.getpid()}-"


def remove_stale(base: str) -> None:
    """Remove the folders of hosts, and the temporary ones, whose process was killed."""
    with contextlib.suppress(OSError):
        for name in os.listdir(base):
            owner = OWNED.match(name)
            path = os.path.join(base, name)
            if owner is not None and not os.path.exists(f"/proc/{owner[1]}"):
                with contextlib.suppress(OSError):
                    if os.lstat(path).st_uid == os.getuid():
                        shutil.rmtree(path, ignore_errors=True)


Serve = Callable[[asyncio.StreamReader, asyncio.StreamWriter], Coroutine[object, object, None]]


def in_tasks(serve: Serve) -> Callable[[asyncio.StreamReader, asyncio.StreamWriter], None]:
    """A callback for asyncio's servers that serves each connection in a task.

    asyncio's own task for a connection writes a traceback when it is cancelled (before 3.12).
    """
    under_way: set[asyncio.Task[None]] = set()

    def accept(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        task = asyncio.get_running_loop().create_task(serve(reader, writer))
        under_way.add(task)
        task.add_done_callback(under_way.discard)

    return accept
