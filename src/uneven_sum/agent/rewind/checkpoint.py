"""Return points: sleeping forks of the paused script, by which one can go back.

Each has its own connection to the host, made right after the fork.  Woken, it first forks a twin, so that the
point can be used again, and continues in the pause at which it was made.
"""

from __future__ import annotations

import ctypes
import gc
import os
import resource
import signal
import socket
import stat
import sys
import threading
import time
from collections.abc import Callable
from typing import Any, Protocol

from ..core import run_state, signal_masking
from ..core.transport import Closed, Wire
from ..trials import process_resources, trial

PR_SET_PDEATHSIG = 1
SELDOM = 0.2  # seconds between return points on the way, at least
RARELY = 40  # times what the last one took lies between two on the way
PAGE_COST = 1.5e-6  # seconds to copy a page that a sleeper holds too
SLOW = 0.05  # seconds: after a fork that takes longer, none for ten times as long


class Copied(Protocol):
    """What a copy of the process must do to go on with the run."""

    wire: Wire
    process: int

    def flush(self) -> None: ...
    def start_ticks(self) -> None: ...


class SnapshotMaker:
    """Makes return points for one run.  `path`: the host's socket; empty: none are made."""

    def __init__(self, engine: Copied, path: str) -> None:
        self.engine, self.path = engine, path
        self.next = 1
        self.why = ""  # why none is made just now
        self.not_before = 0.0
        self.took = self.made_at = self.next_on_the_way = 0.0  # of the last one, on the way or not
        self.faults = 0
        self.resume: Callable[[], list[int]] = list  # in a copy: starts its timers, gives signals that were held back
        self.woken = False  # this process is a copy that was made by the last `make`
        self.between: tuple[int, Any] | None = None
        self.began = time.monotonic()
        self.files_before = set(_regular_files())
        self.on = True

    def refusal(self) -> str:
        """Why no return point can be made now, in a sentence; empty when one can."""
        if not self.path or not self.on:
            return "Snapshots are off (palette, settings or command line)."
        reason = trial.why_not()
        if reason:
            return f"No snapshot: {reason}."
        if time.monotonic() < self.not_before:
            return "No snapshot here: a copy of this script takes long. Later pauses try again."
        own = trial.with_threads()
        if own:
            return f"No snapshot: the threads of {own} would be missing in a copy."
        if "torch" in sys.modules and _torch_has_gpu():
            return "No snapshot: the graphics processor's state would not be copied."
        started = len(process_resources.children())
        if started:
            who = "a process that the script has started runs" if started == 1 else f"{started} of its processes run"
            return f"No snapshot while {who}."
        if "numba" in sys.modules and _numba_layer() == "omp":
            return "No snapshot: numba's OpenMP layer ends in a copy."
        return ""

    def is_due(self) -> bool:
        """Whether it is time for a return point on the way: what they cost stays under a twentieth of the time."""
        now = time.monotonic()
        if now < self.next_on_the_way:
            return False
        faults = resource.getrusage(resource.RUSAGE_SELF).ru_minflt
        copied = (faults - self.faults) * PAGE_COST  # of pages that were written since the last one
        due = self.made_at + RARELY * (self.took + copied)
        if now < due:
            self.next_on_the_way = due
            return False
        return threading.current_thread() is threading.main_thread()

    def make(self, told: dict[str, object], on_the_way: bool = False) -> int:
        """Makes a return point here; its number, 0 when none was made.  Also returns, much later, in the process
        that is woken."""
        why = self.refusal()
        if not on_the_way:
            self.why = why
        if why:
            return 0
        self.settle()
        number, self.next = self.next, self.next + 1
        began = time.thread_time()  # what a copy costs, however busy the machine is
        self.resume = signal_masking.kept()
        self.woken = self._sleep(number, told)
        if not self.woken:
            took = time.thread_time() - began
            self.took, self.made_at = took, time.monotonic()
            self.next_on_the_way = self.made_at + SELDOM
            self.faults = resource.getrusage(resource.RUSAGE_SELF).ru_minflt
            self.not_before = time.monotonic() + 10 * took if took > SLOW else 0.0
        return number

    def settle(self) -> None:
        """Takes note of the end of the process between us and the last sleeper; before the script continues."""
        if self.between is None:
            return
        child, handler = self.between
        self.between = None
        began = time.thread_time()
        trial._reap(child)
        self.took += time.thread_time() - began
        if handler is not None:
            signal.signal(signal.SIGCHLD, handler)

    # -- the fork ------------------------------------------------------------------------------------

    def _sleep(self, number: int, told: dict[str, object]) -> bool:
        """Forks a sleeper.  False in this process; True in the sleeper, once it is woken."""
        self.engine.flush()
        kept = {self.engine.wire.sock.fileno()}
        told = {**told, "made": time.monotonic_ns(), "cannot": process_resources.cannot_undo(kept)}
        dice = sys.modules.get("random")
        seed = dice.getstate() if dice is not None else None  # CPython seeds it again in every forked child
        files = _regular_files()
        _pause_openmp()
        handler = signal.getsignal(signal.SIGCHLD)
        hears = threading.current_thread() is threading.main_thread() and callable(handler)
        if hears:
            signal.signal(signal.SIGCHLD, signal.SIG_DFL)  # the script must not hear of our child
        gc.freeze()  # a collection would un-share the pages
        child = -1
        try:
            with run_state.silenced():
                child = run_state.fork()
                if child == 0 and run_state.fork() != 0:
                    os._exit(0)  # the sleeper is nobody's child but the host's
        except OSError as e:
            if child == 0:
                os._exit(0)
            if hears:
                signal.signal(signal.SIGCHLD, handler)
            self.why = f"No snapshot: the system refused a copy ({e.strerror})."
            return False
        finally:
            if child != 0:
                gc.unfreeze()
        if child != 0:
            self.between = (child, handler if hears else None)
            return False
        if hears:
            signal.signal(signal.SIGCHLD, handler)
        self._be_asleep(number, told, files)
        if dice is not None:
            dice.setstate(seed)
        return True

    def _be_asleep(self, number: int, told: dict[str, object], files: dict[int, tuple[str, int, int, int]]) -> None:
        """In the sleeper: waits to be woken; ends when the host does."""
        try:
            own = [fd for fd in files if fd not in self.files_before]
            _private_offsets({fd: files[fd] for fd in own})
            self.engine.wire.sock.close()
            sock = socket.socket(socket.AF_UNIX)
            sock.connect(self.path)
            sock.set_inheritable(False)
            wire = Wire(sock)
            wire.event("unevenSum/point", {"number": number, "pid": os.getpid(), **told})
            asleep = time.perf_counter()
            message = wire.receive()
            if told.get("reason") in ("on the way", "start"):  # else the pause counts it
                run_state.paused += time.perf_counter() - asleep
            if message is None or message.get("command") != "wake":
                os._exit(0)
        except (Closed, OSError):
            os._exit(0)
        ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, signal.SIGKILL, 0, 0, 0)
        self.engine.wire = wire
        self.engine.process = os.getpid()
        for fd in own:
            _cut(fd, files[fd])
        gc.unfreeze()
        self.next = number + 1
        self.between = None
        self.engine.start_ticks()
        self._sleep(number, told)  # the twin; woken in its turn, it is the active process


def _regular_files() -> dict[int, tuple[str, int, int, int]]:
    """Open regular files: descriptor -> path, flags, offset, size."""
    found: dict[int, tuple[str, int, int, int]] = {}
    try:
        numbers = [int(n) for n in os.listdir("/proc/self/fd")]
    except OSError:
        return found
    for fd in numbers:
        try:
            info = os.fstat(fd)
            if stat.S_ISREG(info.st_mode):
                with open(f"/proc/self/fdinfo/{fd}") as f:
                    flags = next(int(line.split()[1], 8) for line in f if line.startswith("flags"))
                found[fd] = (os.readlink(f"/proc/self/fd/{fd}"), flags, os.lseek(fd, 0, os.SEEK_CUR), info.st_size)
        except (OSError, StopIteration, ValueError):
            continue
    return found


def _private_offsets(files: dict[int, tuple[str, int, int, int]]) -> None:
    """Offsets are shared with the process that continues: the same files are opened again."""
    for fd, (_, flags, offset, _) in files.items():
        try:
            anew = os.open(f"/proc/self/fd/{fd}", flags & ~(os.O_CREAT | os.O_TRUNC | os.O_EXCL))
            os.lseek(anew, offset, os.SEEK_SET)
            os.dup2(anew, fd, inheritable=False)
            os.close(anew)
        except OSError:
            continue  # deleted, or not to be opened: it stays shared


def _cut(fd: int, was: tuple[str, int, int, int]) -> None:
    """What was appended to a file since the return point goes."""
    _, flags, offset, size = was
    try:
        if flags & (os.O_WRONLY | os.O_RDWR) and os.fstat(fd).st_size > size:
            os.ftruncate(fd, size)
        os.lseek(fd, offset, os.SEEK_SET)
    except OSError:
        pass


def _pause_openmp() -> None:
    """An OpenMP pool that was used would hang the copy: each loaded libgomp lets its threads go."""
    try:
        with open("/proc/self/maps") as f:
            paths = {line.split()[-1] for line in f if "libgomp" in line}
    except OSError:
        return
    for path in paths:
        try:
            ctypes.CDLL(path).omp_pause_resource_all(2)
        except (OSError, AttributeError):
            continue


def _torch_has_gpu() -> bool:
    try:
        return bool(sys.modules["torch"].cuda.is_initialized())
    except Exception:
        return False


def _numba_layer() -> str:
    try:
        return str(sys.modules["numba"].threading_layer())
    except Exception:
        return ""  # not chosen yet
