"""Return points of the engine: at pauses, on the way through a loop, before the first line; and expectations."""

from __future__ import annotations

import threading
import time
import types
from typing import TYPE_CHECKING, Any

from ..core import run_state, signal_masking
from ..core.transport import Wire
from ..frames import stack
from ..lookouts import expectations, lookout
from ..pause.facts import Pause
from ..reload.loader import Loader
from ..rewind.checkpoint import SnapshotMaker
from ..source import registry
from ..stepping.tracer import Stepper

if TYPE_CHECKING:
    from .cell_motions import CellMotions


class Snapshots:
    """A part of the engine."""

    wire: Wire
    loader: Loader
    motion: Stepper
    lock: threading.RLock
    rewind: SnapshotMaker | None
    facts: dict[str, Any]
    present: Pause | None
    entering: bool
    point = 0  # the return point of the present pause
    cells: CellMotions | None = None  # of a notebook
    started = False  # it has started another process, which may run its functions
    child_name = ""  # of a process that the script has started
    child_told: set[tuple[str, int, str]] | None = None  # what a child that never pauses has told
    from_cell = False  # the module is to be compiled again, from another cell on
    woken_at = 0  # the return point, made on the way, that the coming pause is about

    def __init__(self) -> None:
        super().__init__()
        self.awaited: list[tuple[expectations.Expectation, types.FrameType]] = []  # of the coming pause, in which call

    def pause(self, pause: Pause, apart: dict[str, object] | None = None) -> str:
        raise NotImplementedError

    def _tell(self, pause: Pause) -> None:
        raise NotImplementedError

    def _expectations(self, pause: Pause) -> list[dict[str, object]]:
        """What was expected of this pause, and what is expected of each, beside what is."""
        frame = pause.frame
        if frame is None:
            return []
        found = []
        present = {id(f) for f in stack.calls(frame, True)}
        for expected, of in self.awaited:
            found.append({**expectations.held(expected, of if id(of) in present else frame), "kept": 0})
        self.awaited.clear()
        for lk in self.loader.lookouts.of("pause"):
            if lk.expected is not None and lookout.gate(lk, frame, self.loader.lookouts.all):
                told = expectations.held(lk.expected, frame)
                lk.met += not told["holds"] and not told["problem"]
                found.append({**told, "kept": lk.id})
        return found

    def _point_facts(self, pause: Pause) -> dict[str, Any]:
        """What the list of return points shows of one."""
        facts = self.facts
        loop = facts["loops"][0] if facts["loops"] else None
        return {
            "reason": facts["reason"],
            "file": facts["file"],
            "line": facts["line"],
            "function": facts["function"],
            "pass": loop["pass"] if loop else 0,
            "loops": [{"file": k["file"], "line": k["line"], "pass": k["pass"]} for k in facts["loops"] if k["pass"]],
            "chain": facts["chain"],
            "statement": facts["statement"][:200],
        }

    def announce_renewal(self) -> None:
        """Before the answer to what changes something for good: who goes back now waits for the new point."""
        if self.rewind is not None and self.point:
            self.wire.event("unevenSum/renewing", {"point": self.point, "since": time.monotonic_ns()})

    def renew_point(self) -> None:
        """After a change for good: going back to this pause shall find it."""
        pause = self.present
        if self.rewind is None or pause is None or not self.point:
            return
        self.rewind.next = self.point
        number = self.rewind.make(self._point_facts(pause))
        if self.rewind.woken:
            self._tell(pause)
        elif not number:
            self.rewind.next = self.point + 1
        self.rewind.settle()

    def point_on_the_way(self, frame: types.FrameType | None) -> None:
        """A return point in a running loop, now and then: seldom enough to cost little."""
        inner = stack.user_frame(frame)
        if self.rewind is None or inner is None or not self.rewind.is_due():
            return
        with signal_masking.held() as came:
            number, loops = self._point_in_loops(inner)
            woken = number > 0 and self.rewind.woken
            late = list(came) if woken else []
            if woken:
                came.clear()  # what their handlers raise would come ahead of the pause
        if woken:
            self.woken_at = number
            self.pause(Pause("pause", inner, "in", said=f"Back at a return point in pass {loops[0]['pass']}"))
            signal_masking.again(list(dict.fromkeys(late + self.rewind.resume())))

    def _point_in_loops(self, inner: types.FrameType) -> tuple[int, list[dict[str, object]]]:
        """The number of the return point, 0 for none, and the loops there."""
        loops = stack.all_loops(inner)
        if not loops or not self.lock.acquire(blocking=False):
            return 0, loops
        assert self.rewind is not None
        try:
            run_state.quiet = True
            told = {
                "reason": "on the way",
                "file": registry.path_of(inner),
                "line": stack.line_of(inner),
            }
            told |= {"function": stack.function_name(inner), "pass": loops[0]["pass"], "statement": ""}
            told["chain"] = stack.chain(inner)
            told["loops"] = [{k: loop[k] for k in ("file", "line", "pass")} for loop in loops if loop["pass"]]
            number = self.rewind.make(told, on_the_way=True)
            self.rewind.settle()
            return number, loops
        finally:
            run_state.quiet = False
            self.lock.release()

    def point_at_start(self) -> None:
        """A return point before the first line.  Woken, the script pauses there."""
        if self.rewind is None:
            return
        told = {"reason": "start", "file": "", "line": 0, "function": "", "pass": 0, "statement": "", "loops": []}
        told["chain"] = []
        number = self.rewind.make(told)
        self.rewind.settle()
        if self.rewind.woken:
            self.woken_at, self.entering = number, True
            self.motion.enter()
