"""A child that the script forks: what trips in it goes to the host, and it goes on.

It has no pauses, no lookouts of the user's and no return points.  It connects to the host when the first thing trips:
a child in which nothing does costs nothing.
"""

from __future__ import annotations

import os
import socket
import sys
import threading
from typing import TYPE_CHECKING, Any

from ..core import run_state
from ..core.transport import Closed, Wire
from ..pause.facts import Pause
from ..source import registry

if TYPE_CHECKING:
    from .engine import Engine

TRIPS = ("error", "warning", "nonfinite")
MOST = 50  # places that one child tells; then it runs on unwatched


class ChildWire(Wire):
    """To the host, from a child: it only tells."""

    def __init__(self, path: str) -> None:
        super().__init__(socket.socket(socket.AF_UNIX, socket.SOCK_STREAM))
        self.path = path
        self.connected = False

    def send(self, message: dict[str, Any]) -> None:
        if message.get("event") != "unevenSum/tripped":
            return
        if not self.connected:
            try:
                self.sock.connect(self.path)
            except OSError as e:
                raise Closed(str(e)) from None
            self.connected = True
        super().send(message)

    def receive(self, wait: bool = True) -> dict[str, Any] | None:
        if wait:
            raise Closed("a child has nobody to answer to")
        return None

    def has_come(self) -> bool:
        return False

    def cancelled(self, number: int) -> bool:
        return False


def begin(engine: Engine) -> None:
    """In a child, right after the fork."""
    if engine.stream is not None:
        engine.stream.in_child()
    engine.motion.switch_off()
    try:
        engine.wire.sock.close()
    except OSError:
        pass
    path = str(engine.launch.get("children") or "")
    if run_state.quiet or not path or engine.stream is not None or engine.audit is not None:
        run_state.quiet = True
        return
    engine.wire = ChildWire(path)
    engine.lock = threading.RLock()  # another thread may have held it
    engine.child_told, engine.rewind, engine.go_on = set(), None, True


def process_name() -> str:
    """`ForkPoolWorker-1 (4711)`."""
    known: Any = sys.modules.get("multiprocessing.process")
    name = str(getattr(known.current_process(), "name", "")) if known is not None else ""
    return f"{name if name != 'MainProcess' else 'a child'} ({os.getpid()})"


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
