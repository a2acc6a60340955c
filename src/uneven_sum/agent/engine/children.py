"""A child that the script forks: it has a connection of its own to the host.

On the Bench what trips in it pauses it; elsewhere it reports that, and goes on.  It has no return points.
"""

from __future__ import annotations

import contextlib
import os
import socket
import sys
import threading
import time
from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

from ..core import run_state
from ..core.transport import Closed, Wire
from ..frames import task_waiters
from ..pause.facts import Pause
from ..source import registry

if TYPE_CHECKING:
    from .engine import Engine

TRIPS = ("error", "warning", "nonfinite")
# Both only end a wait for a host that was stopped: one that has died ends it at once.
WELCOME = 60.0  # seconds that the host may take to know a new process
ANSWER = 60.0  # seconds at most that an answer of the host is waited for
OFTEN, LASTS = 50, 0.5  # an error that was handled so often in a row is taken to be for so many seconds
MOST = 50  # places that one child tells; then it runs on unwatched


def begin(engine: Engine) -> None:
    """In a child, right after the fork."""
    if engine.stream is not None:
        engine.stream.in_child()
    engine.motion.switch_off()
    run_state.met, engine.answering = 0, False
    path = str(engine.launch.get("children") or "")
    if run_state.quiet or not path or engine.stream is not None:
        path = ""
    wire = _connected(path, engine.wire)
    if wire is None:
        run_state.quiet = True
        return
    engine.wire = wire
    engine.lock = threading.RLock()  # another thread may have held it
    adopt(engine, "")
    try:
        engine.start_ticks()
        engine.wire.event("unevenSum/begins", {})
    except Closed:
        run_state.quiet = True


class Asking:
    """Asks the script's own process, by way of the host, whether it handles an error of a pool's task."""

    def __init__(self, engine: Engine) -> None:
        self.engine = engine
        self.known: dict[type, tuple[int, float]] = {}  # how often it was handled in a row, and when it was last

    def __call__(self, kind: type) -> bool:
        times, when = self.known.get(kind, (0, 0.0))
        if times > OFTEN and time.monotonic() - when < LASTS:
            return True
        wire = self.engine.wire
        wire.event("unevenSum/asksScript", {"module": kind.__module__, "name": kind.__qualname__})
        handled = bool(wire.answer("unevenSum/scriptSays").get("handled"))
        self.known[kind] = (times + 1 if handled else 0, time.monotonic())
        return handled


@contextlib.contextmanager
def asking(engine: Engine) -> Iterator[None]:
    """Within it an answer of the host can be waited for: what comes is not read by the handler of the host's signal,
    in this thread or in the main one."""
    with engine.lock:
        kept, engine.answering = engine.answering, True
        try:
            yield
        finally:
            engine.answering = kept


def note_met(engine: Engine) -> None:
    """The host hears that this process has met a non-finite value."""
    if engine.launch.get("children"):
        with contextlib.suppress(Closed), engine.lock:
            engine.wire.event("unevenSum/met", {})


def others_met(engine: Engine) -> bool:
    """Whether another process has."""
    if not engine.launch.get("children"):
        return False
    with contextlib.suppress(Closed), asking(engine):
        engine.wire.event("unevenSum/asksMet", {})
        return bool(engine.wire.answer("unevenSum/metSays", ANSWER).get("met"))
    return False


def adopt(engine: Engine, name: str) -> None:
    """Make the engine that of a child; `name`: what people call it where `multiprocessing` has no name for it."""
    engine.child_name = name or f"a child ({os.getpid()})"
    engine.rewind, engine.point, engine.woken_at = None, 0, 0
    task_waiters.Parent.handles = staticmethod(Asking(engine))
    if not engine.launch.get("childrenPause"):
        engine.child_told, engine.go_on = set(), True


def connect(sock: socket.socket, path: str) -> None:
    """To the host; when this returns the host knows the process, even should it end at once.  OSError if it fails."""
    sock.settimeout(WELCOME)
    sock.connect(path)
    try:
        if not sock.recv(1):
            raise OSError("the host has closed the connection")
    except TimeoutError:
        Wire(sock).event("unevenSum/tooLate", {})  # the host reads it when it goes on
        raise
    sock.settimeout(None)


def _connected(path: str, old: Wire) -> Wire | None:
    """A connection to the host, under the number of the old one, which is the parent's; None where there is none."""
    try:
        old.check()
    except OSError:
        old.sock.detach()  # the script has closed it: its number is the script's
        return None
    number = old.sock.detach()
    try:
        if not path:
            os.close(number)
            return None
        sock = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
        try:
            connect(sock, path)
            os.dup2(sock.fileno(), number, inheritable=False)
        except OSError:
            os.close(number)
            return None
        finally:
            sock.close()
    except OSError:
        return None
    return Wire(socket.socket(fileno=number))


def process_name(engine: Engine) -> str:
    """`ForkPoolWorker-1 (4711)`; empty for the script's own process."""
    known: Any = sys.modules.get("multiprocessing.process")
    name = str(getattr(known.current_process(), "name", "")) if known is not None else ""
    named = name and name != "MainProcess" and engine.child_name
    return f"{name} ({os.getpid()})" if named else engine.child_name


def is_told(engine: Engine, pause: Pause) -> bool:
    """Whether a child does not report this: it has done so before, or it is no trip."""
    assert engine.child_told is not None
    if pause.reason not in TRIPS or pause.frame is None:
        return True
    place = (registry.path_of(pause.frame), pause.line, pause.reason)
    if place in engine.child_told:
        return True
    engine.child_told.add(place)
    if len(engine.child_told) > MOST:
        run_state.quiet = True
        return True
    return False
