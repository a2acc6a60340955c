"""What a script's process is started with."""

from __future__ import annotations

import ctypes
import os
import signal
import sys
from collections.abc import Callable

from .descendants import MARK
from .launch import Launch

PR_SET_PDEATHSIG = 1

_libc = ctypes.CDLL(None, use_errno=True)


def die_with_host(host: int) -> Callable[[], None]:
    """Run in the new process before it becomes the interpreter: it is killed when we end, however."""

    def prepare() -> None:
        if sys.platform == "linux":
            _libc.prctl(PR_SET_PDEATHSIG, signal.SIGKILL, 0, 0, 0)
            if os.getppid() != host:
                os._exit(1)

    return prepare


def environment(launch: Launch, mark: str) -> dict[str, str]:
    """Ours, and what the launch says; `mark`: of the run.  On a terminal a figure's window would block the script:
    matplotlib keeps its figures instead, unless a backend was chosen."""
    own = {"MPLBACKEND": "agg"} if launch.pause_at_end and "MPLBACKEND" not in os.environ else {}
    if launch.rewind and "NUMBA_THREADING_LAYER" not in os.environ:
        own["NUMBA_THREADING_LAYER"] = "workqueue"  # its OpenMP layer ends a copy of the process
    return {**os.environ, **own, **launch.env, MARK: mark}
