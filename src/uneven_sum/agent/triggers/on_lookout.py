"""What happens when a lookout of the user is hit: it counts, pauses or writes."""

from __future__ import annotations

import ast
import os
import sys
import time
import types
from typing import TYPE_CHECKING, Any

from ..core import run_state, signal_masking
from ..core.markers import INNER, MISSING
from ..core.text import clean, str_of
from ..core.transport import Closed
from ..frames import stack
from ..frames.exception_handlers import statement_at
from ..frames.namespace import BEFORE_313, OPTIMIZED, Scope, let_go
from ..lookouts import expectations, lookout
from ..lookouts.lookout import Lookout
from ..pause import value_cards
from ..pause.facts import Pause
from ..probes.listener import Listener
from ..recording.traced_loop import TracedLoop
from ..source import registry
from ..source.sites import Site
from ..source.source_file import SCOPES, SourceFile, Statement, position
from ..stepping.line_events import Lines, Test
from ..values.describe import text_of

if TYPE_CHECKING:
    from ..core.transport import Wire
    from ..reload.loader import Loader
    from ..stepping.tracer import Stepper

SOON = 0.05  # seconds that written texts are kept to be sent together
LONGEST = 4000  # characters of one written text


class BreakpointTrigger(Listener):
    """The part of the engine that knows the user's lookouts."""

    loader: Loader
    wire: Wire
    pauses_on: set[str]
    motion: Stepper

    temporary: list[int]

    def __init__(self) -> None:
        super().__init__()
        self.written: list[str] = []
        self.sent_at = 0.0
        self.raised_seen: BaseException | None = None
        self.temporary: list[int] = []  # lookouts of one motion
        self.honours_breakpoint = True
        self.pauses = 0
        self.line_of: tuple[object, ...] | None = None  # the execution that was met last by line tracing
        self.line_at = -1
        self.at_module: Statement | None = None
        self.pass_seen: dict[tuple[int, int], int] = {}
        self.late: dict[types.FrameType, list[TracedLoop]] = {}  # loops that are recorded by tracing
        self.stepped_to: tuple[object, ...] | None = None  # where a step has ended: its lookouts pause no second time

    def _guarded(self, pause: Pause) -> str:
        raise NotImplementedError

    def _trouble(self, e: Exception) -> None:
        raise NotImplementedError

    @property
    def lookouts(self) -> lookout.Lookouts:
        return self.loader.lookouts

    def execution(self, frame: types.FrameType) -> tuple[object, ...]:
        """What tells one execution of a statement from the next."""
        file = registry.file_of(frame)
        statement = statement_at(file, frame) if file else None
        passes = tuple(loop["pass"] for loop in stack.loops(frame, statement, lengths=False)) if statement else ()
        return (id(frame), statement.line if statement else frame.f_lineno, passes)

    # -- met ---------------------------------------------------------------------------------------

    def lookout(
        self, numbers: tuple[int, ...], site: Site, frame: types.FrameType, by_name: bool, **facts: object
    ) -> None:
        try:
            made_for = dict(zip(site.lookouts, site.versions))
            found = [lk for n in numbers if (lk := self.lookouts.all.get(n)) is not None]
            # A call that runs on with older code: what has changed since is hit by line tracing.
            found = [lk for lk in found if made_for.get(lk.id, lk.version) == lk.version]
            self._meet(found, site, frame, by_name, facts)
        except Closed:
            raise
        except Exception as e:
            self._trouble(e)

    def _meet(
        self, found: list[Lookout], site: Site | None, frame: types.FrameType, by_name: bool, facts: dict[str, object]
    ) -> bool:
        """Lets each count; pauses at most once.  True when there was a pause."""
        pausing: Lookout | None = None
        stepped_to, self.stepped_to = self.stepped_to, None
        again = stepped_to is not None and stepped_to == self.execution(frame)  # there was a pause here already
        for lk in found:
            if not lk.on or lk.spent or (by_name and not self._holds(lk, site, frame, facts)):
                continue
            if lookout.gate(lk, frame, self.lookouts.all) and self._counts(lk):
                if lk.text:
                    self._write(lk, frame, facts)
                elif again and lk.where == "line":
                    continue
                else:
                    pausing = pausing or lk
                lk.spent = lk.once
        if pausing is None:
            return False
        self._pause_at(pausing, site, frame, facts)
        return True

    @staticmethod
    def _counts(lk: Lookout) -> bool:
        if lk.ticked:
            return True  # a probe in line has counted
        lk.met += 1
        return not lk.counts or (lk.met >= lk.start and (lk.met - lk.start) % lk.every == 0)

    def _holds(self, lk: Lookout, site: Site | None, frame: types.FrameType, facts: dict[str, object]) -> bool:
        """The condition by name, where it is not part of the code; counts in the probe's stead."""
        if lk.tree is not None:
            scope = Scope(frame)
            names = {**scope.globals, **scope.locals, **facts, "__builtins__": scope.builtins}
            try:
                quiet, run_state.quiet = run_state.quiet, True
                try:
                    if not eval(lk.condition_code(), names):
                        return False
                finally:
                    run_state.quiet = quiet
            except Exception as e:
                if signal_masking.is_the_scripts(e):
                    raise
                self.condition_failed(lk.id, site, frame, e)
                return False
        if lk.expected is not None:
            told = expectations.held(lk.expected, frame, facts)
            facts["expected"] = expectations.sentence(told)
            if told["holds"]:
                return False
        return not lk.ticked or next(lk.tick())

    def condition_failed(self, number: int, site: Site | None, frame: types.FrameType, error: BaseException) -> None:
        lk = self.lookouts.all.get(number)
        made_for = dict(zip(site.lookouts, site.versions)) if site is not None else {}
        if lk is None or not lk.on or lk.spent or made_for.get(number, lk.version) != lk.version:
            return
        text = f"{type(error).__name__}: {clean(str_of(error), 120)}" if str_of(error) else type(error).__name__
        pause = Pause("breakpoint", frame, "next", statement=_statement(site))
        pause.said = f"The condition `{clean(lk.condition, 80)}` could not be evaluated: {text}"
        pause.lookout = lk.id
        self._guarded(pause)

    def _pause_at(self, lk: Lookout, site: Site | None, frame: types.FrameType, facts: dict[str, Any]) -> None:
        pause = Pause("breakpoint", frame, "next", statement=_statement(site))
        pause.lookout = lk.id
        if lk.where == "line":  # line tracing, should it begin here, finds that this was met
            self.line_of, self.line_at = self.execution(frame), frame.f_lasti
        if lk.goal is not None:
            pause.said = f"Back in pass {lk.goal[0][2]}"
        name = stack.function_name(frame).rpartition(".")[2]
        if lk.where == "entry":
            pause.said = f"{name} is entered again, with the text of now" if lk.chain else f"{name} is entered"
        elif lk.where == "return":
            pause.state = "in"
            pause.returned, pause.said = facts["returned"], f"{name} returns {text_of(facts['returned'])}"
        elif lk.where == "change":
            pause.state = "ran"
            pause.said = f"{lk.name} changed: {facts['old']} → {facts['new']}"
        elif lk.where == "raise":
            pause.state, pause.exception = "in", facts["error"]
            pause.said = f"{type(facts['error']).__name__} is raised"
        elif lk.where in ("element", "lambda"):
            pause.state = "in"
            pause.said = "Before an element is made" if lk.where == "element" else "The lambda is called"
        if lk.expect:
            pause.said = f"Not as expected: {facts.get('expected', lk.expect)}"
        if lk.condition:
            pause.why = f"{clean(lk.condition, 80)} is true"
        pause.hits = lk.times
        if lk.id in self.temporary and lk.where == "line" and lk.goal is None:
            pause.reached = True
        self._guarded(pause)

    # -- lines of calls that ran before their lookouts were set --------------------------------------

    def lines_that_matter(self, frame: types.FrameType) -> Lines:
        """Lines of lookouts, and those at which a pass of their loops begins, with a test where all lookouts of a line
        have conditions; None where something else is awaited."""
        code, file = frame.f_code, registry.file_of(frame)
        at_module = code.co_name == "<module>"
        if file is None or frame in self.late or self.lookouts.of("change") or (at_module and self.defines_more(frame)):
            return None
        found: dict[int, list[Lookout]] = {}
        path, lines = os.path.realpath(code.co_filename), self.loader.lines_in(code)
        loops = [s.node for s in file.statements if s.line in lines and isinstance(s.node, (ast.For, ast.AsyncFor))]
        for line, at in [*((n, n) for n in lines), *((loop.lineno, loop.body[0].lineno) for loop in loops)]:
            found.setdefault(at, []).extend(self.lookouts.at_line(path, line))
        simple = bool(code.co_flags & OPTIMIZED) or at_module
        return {
            line: lookout.any_condition(here, code, frame.f_globals)
            if simple and all(lk.tree is not None for lk in here)
            else None
            for line, here in found.items()
        }

    def fails(self, test: Test, frame: types.FrameType) -> bool:
        """True when none of the conditions of a line holds: the usual case, which must be fast."""
        quiet, run_state.quiet = run_state.quiet, True
        held = frame.f_locals
        try:
            return test is not None and not test(held)
        except Exception as e:
            if signal_masking.is_the_scripts(e):
                raise
            return False  # the other way says what is wrong
        finally:
            run_state.quiet = quiet
            if BEFORE_313 and held is not frame.f_globals:
                let_go(frame, held, untraced=True)

    def line_met(self, frame: types.FrameType, line: int) -> bool:
        if frame in self.late:
            self._late_line(frame)
        if frame.f_code.co_name == "<module>":
            self._after_definition(frame)
            watching = self.lookouts.of("change") or self.lookouts.of("return")
            wanted = watching or frame in self.late or self.loader.lines_in(frame.f_code)
            if not (wanted or self.defines_more(frame)):
                self.motion.disarm_one(frame)  # it was watched for its definitions only
        changing = self.lookouts.of("change")
        if changing and self._line_after_change(changing, frame):
            return True
        path = os.path.realpath(frame.f_code.co_filename)
        file = registry.file_of(frame)
        statement = statement_at(file, frame) if file else None
        found = self.lookouts.at_line(path, line)
        if statement is not None and isinstance(statement.node, (ast.For, ast.AsyncFor)):
            found = [lk for lk in found if not lk.each_pass]
        begins: list[Lookout] = []
        if file is not None and statement is not None and statement.loops:
            begins = self._at_pass(path, file, frame, statement)
            found += begins
        present = self.loader.probed(frame.f_code)
        found = [lk for lk in found if (lk.id, lk.version) not in present]  # the others have their probes
        if file is None or not found or statement is None or statement.line != line:
            return False
        here, before, self.line_at = self.execution(frame), self.line_at, frame.f_lasti
        same, self.line_of = here == self.line_of, here
        if same and frame.f_lasti > before:
            self.stepped_to = None
            return False  # still the same execution: the probes of a lookout that is gone stand between

        # A pass begins at the head of its loop, as where a probe is.
        node = statement.loops[-1] if begins and found == begins else statement.node
        site = Site(file, position(node), None, "by name")
        return self._meet(found, site, frame, True, {})

    @staticmethod
    def statement_of(frame: types.FrameType) -> Statement | None:
        file = registry.file_of(frame)
        return statement_at(file, frame) if file is not None else None

    def defines_more(self, frame: types.FrameType) -> bool:
        """Whether a running module has functions or classes still to define, here or further on."""
        file, here = registry.file_of(frame), self.statement_of(frame)
        if file is None or here is None:
            return True
        first = (
            getattr(here.loops[0], "lineno", 0) if here.loops else here.line
        )  # in a loop it may come to earlier ones again
        last = max((s.line for s in file.statements if isinstance(s.node, SCOPES)), default=0)
        return last >= first

    def _after_definition(self, frame: types.FrameType) -> None:
        """In a running module: what its last statement has defined gets the present lookouts."""
        here = self.statement_of(frame)
        last, self.at_module = self.at_module, here
        if last is not None and last is not here and isinstance(last.node, SCOPES):
            self.loader.defined(frame, getattr(last.node, "name", ""))

    def _at_pass(self, path: str, file: SourceFile, frame: types.FrameType, statement: Statement) -> list[Lookout]:
        """Lookouts at the head of the `for` whose pass begins with this line."""
        loop = statement.loops[-1]
        if not isinstance(loop, (ast.For, ast.AsyncFor)) or loop.body[0] is not statement.node:
            return []
        found = [lk for lk in self.lookouts.at_line(path, loop.lineno) if lk.each_pass]
        if found:
            key, number = (id(frame), loop.lineno), stack.passes(file, frame, loop, False)[0]
            if self.pass_seen.get(key) == number:
                return []
            self.pass_seen[key] = number
        return found

    def _line_after_change(self, changing: list[Lookout], frame: types.FrameType) -> bool:
        """In a call without the probes: looks at what may have changed, a line late."""
        before = self.pauses
        name = stack.function_name(frame)
        for lk in changing:
            if not lk.spent and not (lk.within and lk.name.isidentifier() and not lookout.fits(lk.within, name)):
                self._look_at(lk, None, frame, False)
        return self.pauses > before

    def old_call(self, frame: types.FrameType) -> bool:
        """A call begins: True when its code lacks the present lookouts."""
        if not self.loader.stale(frame):
            return False
        name = stack.function_name(frame)
        found = [lk for lk in self.lookouts.of("entry") if self._fits_call(lk, frame, name)]
        if found:
            self._meet(found, None, frame, True, {})
        return True

    def _late_line(self, frame: types.FrameType) -> None:
        """Loops of this call that are recorded by tracing."""
        try:
            self.late[frame] = [one for one in self.late[frame] if one.line(frame)]
        except Exception as e:
            self.late[frame] = []
            self._trouble(e)
        if not self.late[frame]:
            del self.late[frame]

    def old_return(self, frame: types.FrameType, value: object) -> None:
        for one in self.late.pop(frame, []):
            one.left(frame)
        name = stack.function_name(frame)
        found = [lk for lk in self.lookouts.of("return") if self._fits_call(lk, frame, name)]
        if found:
            self._meet(found, None, frame, True, {"returned": value})

    @staticmethod
    def _fits_call(lk: Lookout, frame: types.FrameType, name: str) -> bool:
        return lookout.fits(lk.name, name) and lk.file in ("", os.path.realpath(frame.f_code.co_filename))

    # -- changes and raises --------------------------------------------------------------------------

    def changed(self, site: Site, frame: types.FrameType, begins: bool) -> None:
        try:
            for number in site.lookouts:
                lk = self.lookouts.all.get(number)
                if lk is not None and lk.on and not lk.spent:
                    self._look_at(lk, site, frame, begins)
        except Closed:
            raise
        except Exception as e:
            self._trouble(e)

    def _look_at(self, lk: Lookout, site: Site | None, frame: types.FrameType, begins: bool) -> None:
        value, key = lookout.read_watched(lk, frame)
        if key is None:
            return
        now = ("", "not assigned") if value is MISSING else (value_cards.fingerprint(value), text_of(value))
        before = lk.seen.get(key)
        if len(lk.seen) > 10_000:
            lk.seen.clear()
        lk.seen[key] = now
        first = before is None and (begins or not (lk.name.isidentifier() and lk.within))
        if begins or first or before == now or (before is None and value is MISSING):
            return
        facts = {"old": before[1] if before else "not assigned", "new": now[1], "new_value": value}
        if lk.tree is not None:
            facts = {**facts, "new": value}
        if self._holds(lk, site, frame, facts) and lookout.gate(lk, frame, self.lookouts.all) and self._counts(lk):
            lk.spent = lk.once
            facts["new"] = now[1]
            if lk.text:
                self._write(lk, frame, facts)
            else:
                self._pause_at(lk, site, frame, facts)

    def set_baseline(self, lk: Lookout, frame: types.FrameType | None) -> None:
        """At a pause: what later values are compared with, and which object is meant."""
        if frame is None:
            return
        if lk.where == "change":
            if lk.owner is MISSING:
                lookout.bind_owner(lk, Scope(frame))
            value, key = lookout.read_watched(lk, frame)
            if key is not None and key not in lk.seen and value is not MISSING:
                lk.seen[key] = (value_cards.fingerprint(value), text_of(value))
        if lk.object and lk.only is None:
            lookout.bind_object(lk, Scope(frame))

    def _raised(self, exc: BaseException, site: Site, frame: types.FrameType) -> None:
        """Lookouts on exception classes: once for each exception, where it is raised or comes in."""
        wanted = self.lookouts.of("raise")
        if not wanted or exc is self.raised_seen:
            return
        names = {n for c in type(exc).__mro__ for n in (c.__name__, f"{c.__module__}.{c.__qualname__}")}
        found = [lk for lk in wanted if lk.name in names]
        if found:
            self.raised_seen = exc
            self._meet(found, site, frame, True, {"error": exc})

    # -- breakpoint() --------------------------------------------------------------------------------

    def breakpoint_hook(self, *args: object, **named: object) -> object:
        """Stands where `breakpoint()` of the script's own text looks for what to call."""
        wanted = os.environ.get("PYTHONBREAKPOINT", "")
        if wanted == "0" or not self.honours_breakpoint or run_state.quiet or run_state.in_trial:
            return None
        if wanted:
            return sys.__breakpointhook__(*args, **named)
        frame = stack.user_frame(sys._getframe(1))
        if frame is not None:
            pause = Pause("breakpoint", frame, "in")
            pause.said = "The script calls breakpoint()"
            self._guarded(pause)
        return None

    # -- writing -------------------------------------------------------------------------------------

    def _write(self, lk: Lookout, frame: types.FrameType, facts: dict[str, object]) -> None:
        quiet, run_state.quiet = run_state.quiet, True
        try:
            assert lk.writes is not None
            if facts or frame.f_code.co_name in INNER:
                scope = Scope(frame)
                text = str(eval(lk.writes, {**scope.globals, **scope.locals, **facts, "__builtins__": scope.builtins}))
            else:  # the usual one, as quick as can be
                held = frame.f_locals
                text = str(eval(lk.writes, frame.f_globals, held))
                let_go(frame, held)
        except Exception as e:
            if signal_masking.is_the_scripts(e):
                raise
            text = f"{lk.text}   ({type(e).__name__}: {clean(str_of(e), 120)})"
        finally:
            run_state.quiet = quiet
        text = text[:LONGEST] + "…" if len(text) > LONGEST else text
        if lk.trail:
            calls = [f"{stack.function_name(f)}:{stack.line_of(f)}" for f in reversed(stack.calls(frame))]
            text += f"   [{' › '.join(calls)}]"
        self.write(text)

    def write(self, text: str) -> None:
        """Told to the user, without a pause; several are sent together."""
        self.written.append(text + "\n")
        if time.monotonic() - self.sent_at > SOON:
            self.send_written()

    def send_written(self) -> None:
        if self.written:
            text, self.written = "".join(self.written), []
            self.sent_at = time.monotonic()
            self.wire.event("output", {"category": "console", "output": text})

    def met_counts(self) -> dict[str, int]:
        return {str(lk.id): lk.times for lk in self.lookouts.all.values()}


def _statement(site: Site | None) -> Statement | None:
    return site.file.statement(site.statement) if site is not None else None
