"""Starts scripts' processes from interpreters that are held ready (`held_ready.py`): importing the agent, NumPy and
pandas takes longer than most tests."""

from __future__ import annotations

import asyncio.unix_events
import atexit
import ctypes
import json
import os
import socket
import subprocess
import sys
import types
from pathlib import Path

from uneven_sum.host.descendants import MARK
from uneven_sum.host.session import BOOT

READ_AT_START = (
    "PYTHON",
    "LC_",
    "LANG",
    "LD_",
    "TZ",
    "HOME",
    "OMP_",
    "OPENBLAS_",
    "MKL_",
    "NUMBA_",
    "JAX_",
    "VIRTUAL_ENV",
)
PR_SET_CHILD_SUBREAPER = 36


def _early(environment: dict[str, str]) -> tuple[tuple[str, str], ...]:
    """What an interpreter reads before a script can change it."""
    return tuple(
        sorted((k, v) for k, v in environment.items() if k.startswith(READ_AT_START) and k != "NUMBA_THREADING_LAYER")
    )


class Ready:
    """An interpreter that is held ready."""

    def __init__(self, python: str, environment: dict[str, str]) -> None:
        self.socket, theirs = socket.socketpair()
        command = [python, str(Path(__file__).with_name("held_ready.py")), str(BOOT), str(theirs.fileno())]
        marked = {**environment, MARK: "0" * 16}
        self.process = subprocess.Popen(command, env=marked, cwd="/", pass_fds=[theirs.fileno()])
        theirs.close()

    def start(self, environment: dict[str, str], folder: str, fds: list[int]) -> int:
        """The number of a new process."""
        env = {k: v for k, v in environment.items() if k != MARK}
        order = {"host": os.getpid(), "cwd": folder, "env": env, "mark": environment[MARK]}
        text = json.dumps(order).encode()
        socket.send_fds(self.socket, [b"%8d" % len(text) + text], fds)
        return int(self.socket.recv(8))

    def end(self) -> None:
        self.socket.close()
        self.process.wait()


_ready: dict[tuple[object, ...], Ready] = {}


class Started(subprocess.Popen):
    """A process of a script, from an interpreter that is held ready if its start is like that one's."""

    def _execute_child(self, args, executable, preexec_fn, close_fds, pass_fds, cwd, env, *rest):
        # The rest: startupinfo, creationflags, shell, then the pipes' descriptors.
        pipes = rest[3:9]
        own = _early(dict(os.environ))
        if len(args) != 3 or args[1] != str(BOOT) or _early(env) != own:
            return super()._execute_child(args, executable, preexec_fn, close_fds, pass_fds, cwd, env, *rest)
        key = (args[0], own)
        if key not in _ready:
            ctypes.CDLL(None).prctl(PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0)
            _ready[key] = Ready(args[0], dict(os.environ))
        streams = [fd if fd != -1 else i for i, fd in enumerate((pipes[0], pipes[3], pipes[5]))]
        self.pid = _ready[key].start(env, str(cwd or os.getcwd()), [*pass_fds, *streams])
        self._child_created = True
        self._close_pipe_fds(*pipes)


@atexit.register
def _end_all() -> None:
    for one in _ready.values():
        one.end()


def start_from_ready(monkeypatch) -> None:
    """Let the scripts' processes of a test come from interpreters that are held ready."""
    if sys.platform == "linux":
        names = {**vars(subprocess), "Popen": Started}
        monkeypatch.setattr(asyncio.unix_events, "subprocess", types.SimpleNamespace(**names))
