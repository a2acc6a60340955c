"""Evaluates in a fork of the paused script, so that nothing it does changes the script."""

from __future__ import annotations

import gc
import json
import os
import resource
import select
import signal
import sys
import threading
import time
from collections.abc import Callable
from typing import Any

from ..core import run_state
from ..core.errors import ForbiddenInCopy
from ..core.text import to_json
from . import isolation, system_calls

LIMIT = 5.0  # seconds; set by `launch`
REFUSED = {
    *("os.remove", "os.rename", "os.rmdir", "os.truncate", "os.link", "os.symlink", "os.mkdir", "os.chmod", "os.chown"),
    *("os.killpg", "os.utime", "os.setxattr", "os.removexattr", "os.chflags", "os.lchown", "os.lchmod", "os.mkfifo"),
    *("signal.pidfd_send_signal", "signal.pthread_kill", "socket.sendmsg", "resource.prlimit", "syslog.syslog"),
    *("shutil.copymode", "shutil.copystat", "shutil.copytree", "shutil.chown", "shutil.make_archive"),
    *("os.kill", "os.system", "os.exec", "os.posix_spawn", "os.fork", "os.forkpty", "subprocess.Popen"),
    *("shutil.rmtree", "shutil.move", "shutil.copyfile", "socket.connect", "socket.bind", "socket.sendto"),
}


OWN_THREADS = ("polars", "jax", "tensorflow", "cupy")  # libraries that may hang in a copy
refused: list[str] = []  # in a trial: what it was not let do
_told: list[float] = []  # in a trial: when it last reported its progress
_writer = -1


class Impossible(Exception):
    """No trial can be made here; the text says why."""


def why_not() -> str | None:
    """Why no trial can be made now, or None."""
    if not hasattr(os, "fork"):
        return "this system cannot copy a process"
    others = [t for t in threading.enumerate() if t is not threading.current_thread()]
    if others:
        return f"{len(others)} other thread{'s' if len(others) > 1 else ''} of the script would be missing in a copy"
    return None


def with_threads() -> str:
    """A library that the script uses and that may wait in a copy for threads of its own; empty for none."""
    return next((n for n in OWN_THREADS if n in sys.modules), "")


def too_long(limit: float | None = None) -> str:
    return f"it took longer than {LIMIT if limit is None else limit:g} s"


def run(work: Callable[[], dict[str, object]], limit: float | None = None) -> dict[str, Any]:
    """Runs `work` in a copy of this process and returns what it returned.

    Raises Impossible when no copy can be made; a copy that dies or takes too long gives
    {"failed": sentence}, and under "so far" what it last told by `so_far`.
    """
    limit = LIMIT if limit is None else limit
    reason = why_not()
    if reason:
        raise Impossible(reason)
    for stream in (sys.stdout, sys.stderr):
        try:
            stream.flush()
        except Exception:
            pass
    dice = sys.modules.get("random")
    seed = dice.getstate() if dice is not None else None  # CPython seeds it again in every forked child
    reader, writer = os.pipe()
    handler = signal.getsignal(signal.SIGCHLD)
    hears = threading.current_thread() is threading.main_thread() and callable(handler)
    if hears:
        signal.signal(signal.SIGCHLD, signal.SIG_DFL)  # the script must not hear of our child
    try:
        with run_state.silenced():
            try:
                child = run_state.fork()
            except OSError as e:
                os.close(reader)
                os.close(writer)
                raise Impossible(f"the system refused a copy: {e.strerror}") from None
        if child == 0:
            if dice is not None:
                dice.setstate(seed)
            _be_the_copy(work, reader, writer, limit)
        os.close(writer)
        return _collect(child, reader, limit)
    finally:
        if hears:
            signal.signal(signal.SIGCHLD, handler)


def so_far(answer: Callable[[], dict[str, object]]) -> None:
    """In a trial: keeps what it has found before something that may take long; seldom, where there is much of it."""
    now = time.monotonic()
    if _writer >= 0 and (len(_told) < 20 or now - _told[-1] > 0.1):
        _told.append(now)
        _write({"so far": answer()})


def _write(answer: dict[str, object]) -> None:
    data = to_json(answer) + b"\n"
    while data:
        data = data[os.write(_writer, data) :]


def _be_the_copy(work: Callable[[], dict[str, object]], reader: int, writer: int, limit: float) -> None:
    global _writer
    try:
        gc.disable()
        _writer = writer
        os.close(reader)
        run_state.in_trial = True
        signal.signal(signal.SIGALRM, signal.SIG_DFL)
        signal.setitimer(signal.ITIMER_REAL, limit + 1)
        nothing = os.open(os.devnull, os.O_RDWR)
        output = os.memfd_create("trial") if hasattr(os, "memfd_create") else nothing
        for fd, to in ((0, nothing), (1, output), (2, output)):
            os.dup2(to, fd)
        written = isolation.seclude({writer, output, nothing})
        _bound_memory()
        _know_temporary_folder()
        _Guarded.files, _ = system_calls.raise_up()
        sys.addaudithook(_refuse)
        answer = work()
        told = list(dict.fromkeys(refused)) + isolation.dropped(written)
        if told:
            answer["refused"] = told[:5]
        for stream in (sys.stdout, sys.stderr):
            try:
                stream.flush()
            except Exception:
                pass
        if output != nothing:
            size = os.lseek(output, 0, os.SEEK_CUR)
            os.lseek(output, 0, os.SEEK_SET)
            answer["printed"] = os.read(output, 20_000).decode("utf-8", "replace")
            answer["printed_size"] = size
        _write(answer)
    except BaseException as e:
        try:
            _write({"failed": f"{type(e).__name__}: {e}"})
        except OSError:
            pass
    finally:
        os._exit(0)


def _know_temporary_folder() -> None:
    """`tempfile.gettempdir` tries by writing which folder there is: here it takes the first that can be written."""
    import tempfile

    if tempfile.tempdir is None:
        for folder in tempfile._candidate_tempdir_list():  # type: ignore[attr-defined]  # no public way
            if os.access(folder, os.W_OK | os.X_OK):
                tempfile.tempdir = folder
                return


def _bound_memory() -> None:
    """A trial may take most of the memory that is free, and no more: the script must not suffer from it."""
    try:
        with open("/proc/meminfo") as f:
            free = next(int(line.split()[1]) * 1024 for line in f if line.startswith("MemAvailable"))
        with open("/proc/self/statm") as f:
            have = int(f.read().split()[0]) * resource.getpagesize()
        hard = resource.getrlimit(resource.RLIMIT_AS)[1]
        most = have + free * 8 // 10
        resource.setrlimit(resource.RLIMIT_AS, (most if hard < 0 else min(most, hard), hard))
    except (OSError, ValueError, StopIteration):
        return


class _Guarded:
    """Whether the kernel refuses to write files: a database may then be opened, for reading."""

    files = False


def _refuse(event: str, args: tuple[object, ...]) -> None:
    if event == "sqlite3.connect":
        if not _Guarded.files and not (args and type(args[0]) is str and args[0] == ":memory:"):
            _say_no("A copy of the script opens no database: it might write to it")
    elif event == "open":
        path, mode, flags = (*args, None, None, None)[:3]
        writes = isinstance(mode, str) and any(c in mode for c in "wax+")
        if isinstance(path, (str, bytes)) and isolation.is_device(path):
            _say_no(f"A copy of the script opens no device and no named pipe: {os.fsdecode(path)!r}")
        if isinstance(flags, int):
            writes = writes or bool(flags & (os.O_WRONLY | os.O_RDWR | os.O_CREAT | os.O_TRUNC))
        if writes and not (type(path) is str and path == os.devnull):
            named = str.__repr__(path) if isinstance(path, str) else repr(path)
            _say_no(f"A copy of the script does not write files: {named}")
    elif event in REFUSED:
        words = [str.__repr__(a) for a in args if isinstance(a, str)] + [repr(a) for a in args if type(a) is bytes]
        _say_no(f"A copy of the script does not call {event}({', '.join(words)[:80]})")


def _say_no(text: str) -> None:
    refused.append(text)
    raise ForbiddenInCopy(text)


def _collect(child: int, reader: int, limit: float) -> dict[str, object]:
    data = bytearray()
    end = time.monotonic() + limit
    watched = [reader] + ([run_state.host_fd] if run_state.host_fd >= 0 else [])
    while True:
        left = end - time.monotonic()
        ready = select.select(watched, [], [], max(0.0, left))[0]
        given_up = run_state.host_fd in ready and run_state.cancelled()
        if left <= 0 or given_up:
            os.kill(child, signal.SIGKILL)
            _reap(child)
            os.close(reader)
            failed = "it was cancelled" if given_up else too_long(limit)
            return {**_last(data), "failed": failed}
        if reader not in ready:
            continue  # something else of the host's has come: it is read already, and waits
        chunk = os.read(reader, 1 << 16)
        if not chunk:
            break
        data += chunk
    os.close(reader)
    status = _reap(child)
    found = _last(data)
    if found and "so far" not in found:
        return found
    if status is not None and os.WIFSIGNALED(status):
        failed = f"the copy crashed: {signal.Signals(os.WTERMSIG(status)).name}; the script is unharmed"
        return {**found, "failed": failed}
    return {**found, "failed": "the trial ended its own process; the script is unharmed"}


def _last(data: bytearray) -> dict[str, object]:
    """The last whole line that a copy has written; {} for none: it may have died in the midst of one."""
    lines = bytes(data).split(b"\n")
    found: dict[str, object] = json.loads(lines[-2]) if len(lines) > 1 else {}
    return found


def _reap(child: int) -> int | None:
    try:
        return os.waitpid(child, 0)[1]
    except ChildProcessError:
        return None
