"""Decides when to pause, holds the pause, and sets the script going again."""

from __future__ import annotations

import os
import signal
import sys
import threading
import time
import traceback
import types
import warnings
from typing import Any

from ..core import run_state, signal_masking
from ..core.markers import TRIPS
from ..core.original_builtins import with_originals
from ..core.text import str_of
from ..core.transport import Closed, Wire, holding_others
from ..diagnosis.gaps import Gap
from ..frames import fast_form, other_compilers, stack, task_waiters, tests
from ..frames.context_managers import escaped
from ..pause import end_of_run, report
from ..pause.facts import Pause
from ..pause.last_calls import LastCalls
from ..probes import run_texts, runtime
from ..recording.recent_passes import last_passes
from ..recording.value_stream import ValueStream
from ..reload.loader import Loader
from ..rewind.checkpoint import SnapshotMaker
from ..source import gates, registry
from ..source.sites import Options, Site
from ..source.source_file import Statement
from ..stepping import tracer
from ..trials import process_resources
from ..trials.assignment import Assignments
from ..triggers.on_nonfinite import NonfiniteTrigger
from ..triggers.settings import Switches, Tripwire
from ..values import snapshot
from . import audited, children, nested_call, ticks
from .answering import Answering
from .checkpoints import Snapshots
from .doubts import FindingTrigger
from .fate import UnderWay, answers_protocol, handling, raised_in_head

CALL_SIGNAL = signal.SIGURG  # ignored by default: never fatal, however late it comes


class Engine(FindingTrigger, NonfiniteTrigger, Snapshots, tracer.Hooks):
    """One run of one script."""

    def __init__(self, wire: Wire) -> None:
        super().__init__()
        self.wire = wire
        self.loader = Loader(Options())
        self.loader.unwatched = self.unwatched
        run_texts.loader, run_texts.heard = self.loader, self.unwatched
        self.pauses_on: set[str] = set()  # error, handled, warning, nonfinite (created), arrived, carried, frames
        self.switches = Switches()
        self.go_on = False  # tell of each distinct statement that trips, and go on
        self.told: set[tuple[str, int, str]] = set()
        self.accepted: set[tuple[str, int]] = set()
        self.accepted_as: set[str] = set()
        self.motion = tracer.Stepper(self)
        self.held: dict[types.FrameType, list[str]] = {}
        self.lock = threading.RLock()
        self.present: Pause | None = None
        self.facts: dict[str, Any] = {}
        self.judged: BaseException | None = None
        self.met_handled: BaseException | None = None
        self.under_way = UnderWay()  # an exception that a call further out will handle
        self.requests: Answering  # set by who builds both
        self.process = os.getpid()
        self.began = 0.0  # when the script did, by the clock that stops in pauses
        self.launch: dict[str, Any] = {}  # the arguments of the launch request
        self.old_main: types.ModuleType | None = None
        self.ended = False  # no pause any more
        self.gone = False  # the host does not listen any more
        self._show: object = None
        self.refusal = ""
        self.rewind: SnapshotMaker | None = None
        self.shows_figures = os.environ.get("MPLBACKEND") == "agg"
        self.nested: nested_call.Nested | None = None  # the call that is run within a pause
        self.boundary: types.FrameType | None = None  # what is further out handles none of its errors
        self.by_hand = Assignments()
        self.stream: ValueStream | None = None
        self.answering = False  # what the host has sent while the script was running
        self.deciding = False  # whether an error is worth a pause
        self.interrupting = False  # a pause was asked for between two lines
        self.hurry = False  # back to a place of before: nothing else pauses on the way
        self.last_calls = LastCalls()
        self.entering = False  # on the way to the first line
        self.at_first_line = self.anew = False  # paused there; to be compiled again

    # -- set-up --------------------------------------------------------------------------------------

    def install(self) -> None:
        """Puts the engine behind the probes, the warnings and the host's signal."""
        runtime.listener, runtime.present = self, self.loader.lookouts.all
        self._show = warnings._showwarnmsg  # type: ignore[attr-defined]  # no public way
        warnings._showwarnmsg = self._warned  # type: ignore[attr-defined]  # no public way
        signal.signal(CALL_SIGNAL, self._called)
        self.start_ticks()
        sys.breakpointhook = self.breakpoint_hook
        other_compilers.heard = self._left_alone
        os.register_at_fork(after_in_child=self._in_child)

    def unwatched(self, file: str, why: str, **more: object) -> None:
        """Say that a file, or a function of one, runs without probes."""
        if run_state.in_trial or self.gone or os.getpid() != self.process:
            return
        try:
            with self.lock:
                self.wire.event("unevenSum/unwatched", {"file": os.path.abspath(file), "why": why, **more})
        except Closed:
            pass

    def _left_alone(self, found: other_compilers.Unwatched) -> None:
        self.unwatched(found.file, found.why, function=found.function, line=found.first, endLine=found.last)

    def start_ticks(self) -> None:
        if ticks.start(CALL_SIGNAL):
            self.wire.event("unevenSum/ticks", {})

    def first_met(self) -> None:
        children.note_met(self)

    def others_met(self) -> bool:
        return children.others_met(self)

    def _in_child(self) -> None:
        """A child of the script runs on without pauses."""
        if not run_state.own_fork:
            children.begin(self)
            audited.in_process(self, forked=True)

    # -- trips ---------------------------------------------------------------------------------------

    def finite(self, site: Site, frame: types.FrameType) -> None:
        """A statement's result needs no pause: its warnings are reported now."""
        if frame in self.held and site.role in ("value", "return", "yield", "test", "augmented", "iterable"):
            self._settle(frame)

    @with_originals
    def failed(self, site: Site, frame: types.FrameType, head: bool) -> str:
        self.deciding = True
        try:
            return self._failed(site, frame, head)
        except Closed:
            self._alone()
        except RecursionError:
            self.judged = None  # a guard further out has room
            raise
        except Exception as e:
            self._trouble(e)
        finally:
            self.deciding = False
        return ""

    def _failed(self, site: Site, frame: types.FrameType, head: bool) -> str:
        exc = sys.exc_info()[1]
        if exc is None or isinstance(exc, (GeneratorExit, SystemExit, KeyboardInterrupt, runtime.Leave, runtime.Anew)):
            return ""
        stack.hide_ourselves(exc)
        self.pause_at_doubts(frame)
        self._raised(exc, site, frame)
        if exc is self.judged or not self.pauses_on & {"error", "handled"}:
            return ""
        if not self.switches.error.wants_class(type(exc)) or not self.switches.error.wants_place(frame):
            return ""
        if isinstance(exc, (StopIteration, StopAsyncIteration)) and not frame.f_code.co_name.startswith("<module"):
            return ""  # it ends an iteration, or becomes a RuntimeError that is caught further out
        if answers_protocol(exc, frame):
            return ""  # so a class tells `for`, `hasattr` or `in` that there is nothing; an error is caught further out
        if self.under_way.covers(exc, frame) or not stack.has_room(exc, frame):
            return ""  # a call further out handles it, as was found further in, or judges it
        statement = shown = site.file.statement(site.statement)
        if statement is None:
            return ""
        if head:
            shown = raised_in_head(exc, frame, site.file, statement)
            shown = shown or escaped(exc, stack.traceback_from(exc, frame), site.file, statement)
            if shown is None:
                return ""  # a statement of the body has judged it
        will_be_handled = self._will_be_handled(exc, statement, frame)
        if will_be_handled:
            if frame in self.held:
                self._settle(frame)
            if "handled" not in self.pauses_on or exc is self.met_handled:
                return ""
            self.met_handled = exc
        elif "error" not in self.pauses_on or tests.skips(exc) or tests.expects(exc, frame):
            return ""
        self.judged, self.under_way = exc, UnderWay()
        pause = Pause("error", frame, exception=exc, statement=shown, can_retry=not head)
        pause.kind = "handled" if will_be_handled else None
        pause.kept = task_waiters.kept_by(frame)
        pause.dead = stack.dead_calls(exc, frame)
        pause.warnings = self._held_texts(frame)
        self._drop_held(frame)
        action = self.pause(pause)
        if action in ("retry", "skip"):
            self.judged = None
        return action

    def _will_be_handled(self, exc: BaseException, statement: Statement, frame: types.FrameType) -> bool:
        found = handling(exc, statement, frame, self.boundary)
        if found.outer is not None:  # so that the calls on the way there do not judge it again
            self.under_way.begin(exc, frame, found.outer)
        return found.handled

    # -- breakpoints and steps -----------------------------------------------------------------------

    @with_originals
    def lookout(
        self, numbers: tuple[int, ...], site: Site, frame: types.FrameType, by_name: bool, **facts: object
    ) -> None:
        try:
            super().lookout(numbers, site, frame, by_name, **facts)
        except Closed:
            self._alone()

    @with_originals
    def changed(self, site: Site, frame: types.FrameType, begins: bool) -> None:
        try:
            super().changed(site, frame, begins)
        except Closed:
            self._alone()

    @with_originals
    def arrived(self, frame: types.FrameType, returned: object, inside: bool) -> None:
        reason = "entry" if self.entering else "pause" if self.interrupting else "step"
        pause = Pause(reason, frame, "in" if inside else "next")
        self.at_first_line = self.entering and self._begins(frame)
        self.entering = self.interrupting = False
        if not tracer.nothing(returned):
            pause.returned = returned
        pause.said, self.refusal = self.refusal, ""
        pause.held = self.requests.held
        self._guarded(pause)
        self.stepped_to = self.execution(frame) if not inside and registry.file_of(frame) is not None else None

    @staticmethod
    def _begins(frame: types.FrameType) -> bool:
        """Whether nothing of the script has run: its first line is next."""
        file = registry.file_of(frame)
        outer = stack.user_frame(frame.f_back)
        return file is not None and outer is None and frame.f_code.co_name == "<module>"

    def say_gap(self, gap: Gap) -> None:
        if not self.go_on:
            self.write(f"{gap.sentence()[0].upper()}{gap.sentence()[1:]}.   [{os.path.basename(gap.file)}:{gap.line}]")

    def refused(self, text: str) -> None:
        self.refusal = text.rstrip(".")

    def _guarded(self, pause: Pause) -> str:
        try:
            return self.pause(pause)
        except Closed:
            self._alone()
        except Exception as e:
            self._trouble(e)
        return ""

    # -- the pause -----------------------------------------------------------------------------------

    def pause(self, pause: Pause, apart: dict[str, object] | None = None) -> str:
        """Report a pause to the host and answer its requests until it says how to continue."""
        with self.lock, signal_masking.timers_stopped():
            if run_state.quiet or (self.child_told is not None and children.is_told(self, pause)):
                return ""
            if self.hurry and pause.lookout not in self.temporary and pause.reason != "pause":
                return ""  # on the way to where it was before: this was met then
            self.hurry = self.deciding = False
            run_state.quiet = True
            began = time.perf_counter()
            try:
                self.flush()
                self.facts = report.compose(pause, apart=apart)
                self.facts["expectations"] = self._expectations(pause)
                self.facts["hand"] = self.by_hand.told(pause.frame)
                self.facts["chain"] = stack.chain(pause.frame)
                self.facts["test"] = tests.as_dict(pause.frame)
                self.facts["task"] = task_waiters.task_of(pause.frame) if pause.frame is not None else ""
                self.facts["text"] = report._print(pause.dead[0] if pause.dead else pause.frame) if pause.frame else 0
                self.facts["old"] = pause.frame is not None and registry.is_old(pause.frame)
                self.facts["nested"] = self.nested.text if self.nested is not None else ""
                self.facts["passes"] = self._last_passes(pause.frame)
                if pause.reason in TRIPS and self._only_told(pause):
                    return ""
                gates.close()
                self.pauses += 1
                self.present = pause
                self.send_written()
                self._drop_temporary()
                if self.rewind is not None:
                    self.point, self.woken_at = self.woken_at or self.rewind.make(self._point_facts(pause)), 0
                with holding_others():
                    self._tell(pause)
                    if self.rewind is not None:
                        self.rewind.settle()
                    action = self.requests.serve()
                    while action == "nested" and self.requests.nested is not None:
                        nested_call.run(self, self.requests.nested)
                        action = self.requests.serve()
            finally:
                self.present = None
                self.requests.forget()
                run_state.paused += time.perf_counter() - began
                if not self.ended:
                    run_state.quiet = False
            self._set_off(pause, action)
            return action

    def _last_passes(self, frame: types.FrameType | None) -> list[dict[str, Any]]:
        count = int(self.launch.get("passes") or 0)
        return [] if frame is None else last_passes(self.loader.recorders, frame, count)

    def _set_off(self, pause: Pause, action: str) -> None:
        """Leave a pause in the way that the user chose."""
        mode, aim, frame = self.requests.mode, self.requests.aim, pause.frame
        anew, self.at_first_line, self.anew = (self.at_first_line or self.from_cell) and self.anew, False, False
        if run_state.quiet or frame is None:
            return
        if anew and mode == tracer.CONTINUE:
            self.motion.disarm()
            self.late.clear()
            raise runtime.Anew
        if action == "leave" and pause.exception is not None and pause.reason == "error":
            runtime.leave.frame, aim.leave = id(frame), False  # its guard is already at work
            return
        if aim.skip and pause.exception is not None and pause.reason == "error":
            aim.skip = False
        self.motion.begin(mode, frame, aim)

    def _only_told(self, pause: Pause) -> bool:
        """Record or write a problem without a pause; False where it pauses."""
        wire: Tripwire = getattr(self.switches, pause.reason)
        wire.met += 1
        if self.go_on:
            key = (self.facts["file"], self.facts["line"], pause.reason)
            if self.child_told is not None:
                self.facts["processes"] = [children.process_name(self)]
            if key not in self.told:
                self.told.add(key)
                self.wire.event("unevenSum/tripped", self.facts)
            return True
        if wire.write:
            self.write(f"{self.facts['headline']}   [{os.path.basename(self.facts['file'])}:{self.facts['line']}]")
        return wire.write

    def _drop_temporary(self) -> None:
        """The lookouts of one motion end with the next pause."""
        stale: set[str] = set()
        for number in self.temporary:
            stale |= self.lookouts.drop(number)
        self.temporary.clear()
        if stale:
            self.loader.refresh(stale)

    @with_originals
    def given(self, frame: types.FrameType) -> None:
        """A call is left with a user value: pause in its caller."""
        if not run_state.quiet:
            self.motion.leaving(frame)

    @with_originals
    def again(self, frame: types.FrameType) -> None:
        """A statement was given up, to run again: the step continues."""
        if self.motion.mode != tracer.CONTINUE:
            self.motion.resume_jump(frame)

    @with_originals
    def skipped(self, frame: types.FrameType) -> None:
        """A statement was given up, to go on elsewhere."""
        self.motion.resume_jump(frame)

    def _tell(self, pause: Pause) -> None:
        reasons = {"error": "exception", "warning": "exception", "nonfinite": "exception", "end": "pause"}
        self.wire.event(
            "stopped",
            {
                "reason": reasons.get(pause.reason, pause.reason),
                "description": self.facts["headline"],
                "text": self.facts["headline"],
                "threadId": threading.get_ident(),
                "allThreadsStopped": True,
                "unevenSum": self.facts,
                "met": self.met_counts(),
                "ran": snapshot.clock() - self.began if self.began else 0.0,
                "point": self.point,
                "written": list(process_resources.written.items()),
                "noPoint": self.rewind.why if self.rewind is not None else "",
                "process": children.process_name(self),
            },
        )

    def end_pause(self, main: dict[str, object], path: str, seconds: float) -> None:
        """The pause after the last line, while the module's values are still there."""
        self.present, self.facts = end_of_run.pause_at_end(main, path, seconds, self.last_calls)
        self.point = 0
        run_state.quiet = True
        try:
            self.flush()
            self._tell(self.present)
            self.requests.serve()
        except Closed:
            pass
        finally:
            self.present = None

    # -- calls from the host while the script runs ---------------------------------------------------

    def post_mortem(self, exc: BaseException) -> None:
        """The script has ended in an error that no guard has met: every call can still be read."""
        frames = stack.frames_left(exc)
        if not frames:
            return
        pause = Pause("error", frames[0], "ran", exception=exc, past=frames)
        pause.said = f"The script has ended: {type(exc).__name__}: {str_of(exc)[:200]}"
        self.facts = report.compose(pause, may_fork=False)
        self.present, self.point = pause, 0
        run_state.quiet = True
        try:
            self.flush()
            self._tell(pause)
            self.requests.serve()
        except Closed:
            pass
        finally:
            self.present = None

    @with_originals
    def _called(self, number: int, frame: types.FrameType | None) -> None:
        """The host has sent something while the script was running."""
        busy = self.present is not None or self.answering or self.deciding
        if run_state.quiet or run_state.in_trial or busy or fast_form.is_fast(frame):
            return  # what the host has sent waits: it repeats its signal
        try:
            due = self.rewind is not None and self.rewind.is_due()
            if not due and not self.written and not self.wire.has_come():
                return
            if not self.lock.acquire(blocking=False):
                return  # another thread talks with the host
            self.answering = True
            try:
                with signal_masking.held():
                    self.send_written()
                    pausing = self.requests.while_running(frame)
            finally:
                self.answering = False
                self.lock.release()
            if not pausing:
                self.point_on_the_way(frame)
            else:
                inner = stack.user_frame(frame)
                if inner is None or frame is None:
                    self.interrupting = True  # before the script's own code, or between its calls: at its next line
                    self.motion.enter()
                    return
                file = registry.file_of(inner)
                if file is not None and inner.f_lineno != stack.line_of(inner):
                    self.interrupting = True  # between two lines, where a pass is put by: at the next one
                    self.motion.begin(tracer.LINE, inner)
                    return
                within = "" if inner is frame else f", within {clean_name(frame)}"
                self.pause(Pause("pause", inner, "in", interrupted_in=within, held=self.requests.held))
        except Closed:
            self._alone()
        except Exception as e:
            self._trouble(e)

    # -- odds and ends -------------------------------------------------------------------------------

    def flush(self) -> None:
        for stream in (sys.stdout, sys.stderr):
            try:
                stream.flush()
            except Exception:
                pass  # closed or replaced by the script

    def _alone(self) -> None:
        """The host is gone: the script runs on without pauses."""
        run_state.quiet = True
        self.ended = self.gone = True
        self.motion.switch_off()

    def _trouble(self, e: Exception) -> None:
        """Report an internal error without harm to the script.  An exception of a signal handler is raised again."""
        if signal_masking.is_the_scripts(e):
            raise e
        text = "".join(traceback.format_exception(e))
        try:
            self.wire.event("unevenSum/trouble", {"message": f"{type(e).__name__}: {e}", "detail": text})
        except Exception:
            self._alone()


def clean_name(frame: types.FrameType) -> str:
    module = frame.f_globals.get("__name__", "?")
    return f"{module}.{frame.f_code.co_qualname}"
