"""The processes that a script starts: noted while it runs, ended with it, by the warden too should we die."""

from __future__ import annotations

import contextlib
import os
import subprocess
import sys

from . import descendants
from .descendants import Family


class Warden:
    """A process of its own, started when the script starts the first process."""

    def __init__(self, family: Family) -> None:
        self.family = family
        self._process: subprocess.Popen[bytes] | None = None
        self._known: set[int] = set()  # process numbers that the warden knows

    def look(self, pid: int) -> None:
        """Note the processes below `pid`, the script."""
        self.family.look(pid)
        news = [(pid, begun) for pid, begun in self.family.seen.items() if pid not in self._known]
        if not news:
            return
        if self._process is None:
            command = [sys.executable, "-I", "-S", descendants.__file__, self.family.mark, str(self.family.session)]
            quiet = subprocess.DEVNULL
            try:
                self._process = subprocess.Popen(
                    command, stdin=subprocess.PIPE, stdout=quiet, stderr=quiet, env={}, start_new_session=True
                )
            except OSError:
                return
        assert self._process.stdin is not None
        with contextlib.suppress(OSError):
            self._process.stdin.write(b"".join(b"%d %d\n" % one for one in news))
            self._process.stdin.flush()
            self._known.update(pid for pid, _ in news)

    def dismiss(self) -> None:
        if self._process is not None:
            with contextlib.suppress(OSError, subprocess.TimeoutExpired):
                self._process.communicate(b"bye\n", timeout=2)
            self._process = None

    def reap(self, script: int | None) -> None:
        """Orphans that we have ended are our children, since we are the subreaper."""
        for pid in self.family.seen:
            if pid != script:
                with contextlib.suppress(ChildProcessError, OSError):
                    os.waitpid(pid, os.WNOHANG)
