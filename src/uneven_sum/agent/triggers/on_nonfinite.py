"""Non-finite values that the probes have met: whether they are created, arrived or carried, and whether to pause."""

from __future__ import annotations

import _thread
import ast
import sys
import types
import weakref
from collections.abc import Callable, Sequence
from typing import Any

from ..core import run_state
from ..core.markers import MISSING
from ..core.original_builtins import with_originals
from ..core.text import clean
from ..core.transport import Closed
from ..diagnosis import complex_powers, gaps, lost_totals, provenance, silenced_errors
from ..diagnosis.gaps import Gap, Gaps, stored_names
from ..frames.namespace import Scope
from ..pause import headline, report
from ..pause.facts import Pause
from ..probes import runtime
from ..source import registry
from ..source.cells import place_words
from ..source.sites import Site, read_from
from ..source.source_file import Statement
from ..stepping import jumps, tracer
from ..values import nonfinite, polars_cells
from .settings import Switches

READ = (ast.Name, ast.Attribute, ast.Subscript)
READ_ON = 10  # times after which a place that only reads is not judged any more
TRIED = 10  # times that one place is asked whether its total is lost
LOOKED_AGAIN = 30  # times that one place is taken apart without a pause, before it is taken as carried


class NonfiniteTrigger(tracer.Hooks):
    """A part of the engine."""

    pauses_on: set[str]
    switches: Switches
    go_on: bool
    told: set[tuple[str, int, str]]
    accepted: set[tuple[str, int]]
    accepted_as: set[str]

    def __init__(self) -> None:
        super().__init__()
        self.looked: dict[int, int] = {}
        self.bad_right: tuple[int, object] | None = None  # the right side of an augmented assignment under way
        self.gaps = Gaps()
        self.guarded = Gaps()  # made where NumPy ignores such errors
        self.last_bad: object = MISSING  # what a user call has just returned
        self.paused_for: tuple[object, ...] = ()  # the last pause: its call, statement, culprit; and its expression
        self.only_read: dict[int, int] = {}  # how often a place has read what was judged before, and nothing else
        self.has_paused = False
        self.tried: dict[int, int] = {}  # how often a place was asked whether its total is lost
        self.met_in: set[int] = set()  # the threads that have met a non-finite value

    def pause(self, pause: Pause, apart: dict[str, object] | None = None) -> str:
        raise NotImplementedError

    def say_gap(self, gap: Gap) -> None:
        raise NotImplementedError

    def finite(self, site: Site, frame: types.FrameType) -> None:
        raise NotImplementedError

    def _alone(self) -> None:
        raise NotImplementedError

    def _trouble(self, e: Exception) -> None:
        raise NotImplementedError

    def first_met(self) -> None:
        """The first non-finite value of this process."""
        raise NotImplementedError

    def others_met(self) -> bool:
        """Whether the user's code has met one in another process: what that passes on was checked there."""
        raise NotImplementedError

    def _held_texts(self, frame: types.FrameType) -> list[str]:
        raise NotImplementedError

    def _drop_held(self, frame: types.FrameType) -> list[str]:
        raise NotImplementedError

    @with_originals
    def nonfinite(self, value: object, site: Site, frame: types.FrameType, old: object) -> object:
        """The value, or what the user has put in its place.  Raises `Leave` to run the statement again."""
        if self.only_read.get(id(site), 0) > READ_ON and not self.gaps and not self.guarded:
            run_state.met += 1
            self.finite(site, frame)
            return value
        return self._judged(value, site, frame, lambda: self._judge(value, site, frame, old))

    @with_originals
    def complex_made(self, value: object, site: Site, frame: types.FrameType) -> object:
        return self._judged(value, site, frame, lambda: self._judge_complex(value, site, frame))

    def _judged(self, value: object, site: Site, frame: types.FrameType, judge: Callable[[], Pause | None]) -> object:
        """The value after its pause, if there is one."""
        pause = None
        try:
            pause = judge()
            self.finite(site, frame)  # no pause for the value: its warnings are reported by themselves
        except Closed:
            self._alone()
        except Exception as e:
            self._trouble(e)
        if pause is not None and pause.answer == "retry":
            runtime.leave.frame, runtime.leave.again = id(frame), True
            raise runtime.Leave
        if pause is not None and pause.answer == "give up":
            runtime.leave.frame, runtime.leave.skips = id(frame), True
            raise runtime.Leave
        if pause is not None and pause.answer == "replace":
            return pause.replacement
        return value

    def carried(self, value: object, site: Site, given: Sequence[object]) -> bool:
        """Notes a value whose operands explain it; False where it must be judged all the same.

        `given`: the values of names in the expression, in which a gap may enter it.
        """
        if not run_state.met or "carried" in self.pauses_on or site.role == "right":
            return False
        if (self.gaps or self.guarded) and (
            site.parts is None or self.gaps.may_enter(given, site.parts) or self.guarded.may_enter(given, site.parts)
        ):
            return False
        if not self.has_paused and self._may_be_lost(value, site):
            return False  # judged at leisure
        run_state.met += 1
        if site.role in ("return", "yield"):
            self.last_bad = _remembered(value)
        return True

    def _may_be_lost(self, value: object, site: Site) -> bool:
        """Whether a value may be the first total that is lost; a place is asked a few times."""
        tried = self.tried.get(id(site), 0)
        if tried >= TRIED or "nonfinite" not in self.pauses_on or not lost_totals.may_be_lost(value):
            return False
        self.tried[id(site)] = tried + 1
        return True

    def _at_value(self, pause: Pause, site: Site, apart: dict[str, object] | None = None) -> Pause:
        """Pauses at a value; then the statement may run again, or another value take its place."""
        assert pause.frame is not None and pause.statement is not None
        self.has_paused = True
        node, frame = pause.statement.node, pause.frame
        in_place = site.role == "augmented" and not nonfinite.is_number_kind(type(pause.actual))
        simple = isinstance(node, (ast.Assign, ast.AugAssign, ast.AnnAssign, ast.Expr, ast.Return))
        pause.can_replace = not in_place
        pause.can_retry = simple and not in_place and jumps.is_guarded(frame.f_code, frame.f_lasti)
        pause.answer = self.pause(pause, apart)
        return pause

    def _judge(self, value: object, site: Site, frame: types.FrameType, old: object) -> Pause | None:
        """The pause for a non-finite value, after it; None when there was none."""
        returns = site.role in ("return", "yield")
        fresh = self.last_bad is not value and (type(self.last_bad) is not weakref.ref or self.last_bad() is not value)
        if returns:
            self.last_bad = _remembered(value)
        run_state.met += 1
        self.met_in.add(_thread.get_ident())
        if run_state.met == 1:
            self.first_met()
        if site.role == "right":
            self.bad_right = (id(frame), site.statement)
        wire = self.switches.nonfinite
        if "nonfinite" not in self.pauses_on or not wire.wants_value(value) or not wire.wants_place(frame):
            return None
        statement = site.file.statement(site.statement)
        node = self._expression(site)
        if node is None or statement is None:
            return None
        where = (site.file.path, statement.line)
        if (
            where in self.accepted
            or self._is_accepted_name(statement)
            or (self.go_on and (*where, "nonfinite") in self.told)
        ):
            self._drop_held(frame)  # of the same cause
            return None
        source = read_from(node)
        only_read = isinstance(node, READ) and _is_judged_before(source, Scope(frame))
        only_read = only_read or provenance.takes_out(source, Scope(frame))
        returned = not isinstance(node, ast.AugAssign) and not fresh  # judged where it was returned
        was_bad = old is not None and self._was_bad(value, old)
        if only_read and not returns and "carried" not in self.pauses_on:
            self.only_read[id(site)] = self.only_read.get(id(site), 0) + 1
        if only_read or returned or was_bad or provenance.is_deliberate(node):
            kind = provenance.CARRIED
        else:
            kind = self._kind(value, site, node, frame)
        if kind == provenance.CARRIED:
            passed_on = only_read or returned or was_bad
            return self._pause_if_carried(value, site, frame, node, statement) or (
                None if passed_on or self.has_paused else self._pause_if_lost(value, site, frame, node, statement)
            )
        number = hash((where, site.expression))
        if self.looked.get(number, 0) > LOOKED_AGAIN:
            return None
        self.looked[number] = self.looked.get(number, 0) + 1
        pause = Pause("nonfinite", frame, kind=kind, expression=node, actual=value, statement=statement, was_bad=old)
        pause.warnings = self._held_texts(frame)
        apart = report.examine(pause)
        in_doubt = (apart["trial"] or apart["raised"]) and not isinstance(node, READ)
        if apart["kind"] is None and not in_doubt and not apart["left out"]:
            return None  # taken apart, no term of it is at fault: it came from further in
        if apart["raised"] and not apart["sure"] and nonfinite.is_frame(value):
            return None  # what cannot be read a second time may have had them, and in frames they are usual
        if apart["callee"] and f"calls of {apart['callee']}" in self.accepted_as:
            self._drop_held(frame)
            return None
        if apart["culprit"] is not None and apart["culprit"]["element"]:
            return None  # an element of a comprehension: it was looked at when it was made
        if apart["culprit"] is not None and _reads_items(apart["culprit"]["text"]):
            return None
        if apart["culprit"] is not None and self._is_known_here(site, frame, apart["culprit"]["text"]):
            self._drop_held(frame)
            return None
        pause.kind = apart["kind"] or kind
        if apart["culprit"] is not None and apart["culprit"]["sender"] and self._elsewhere_met():
            pause.kind = provenance.CARRIED
            if "carried" not in self.pauses_on:
                self._drop_held(frame)
                return None
        if apart["gap"] and not pause.warnings:
            text = clean(ast.unparse(_parsed(apart["culprit"]["text"])), 80)
            gap = Gap(text, site.file.path, statement.line, nonfinite.count(value), apart["why"])
            pause.kind = "gaps"
            if apart["whole"] and "gaps" not in self.pauses_on:
                self.gaps.note(value, gap, statement, Scope(frame))
                self.say_gap(gap)
                return None
        if pause.kind == provenance.ARRIVED and (
            "arrived" not in self.pauses_on or (nonfinite.is_frame(value) and "frames" not in self.pauses_on)
        ):
            return None
        if pause.kind == provenance.CREATED and self._is_guarded(pause, value, site, frame):
            return None
        self.looked[number] -= 1
        self._drop_held(frame)
        if apart["culprit"] is not None:
            self.paused_for = (id(frame), site.statement, apart["culprit"]["text"], site.expression)
        return self._at_value(pause, site, apart)

    def _judge_complex(self, value: object, site: Site, frame: types.FrameType) -> Pause | None:
        """The pause for a complex number that a power of real ones gives; None when there was none."""
        wire, statement, node = self.switches.nonfinite, site.file.statement(site.statement), self._expression(site)
        if "nonfinite" not in self.pauses_on or wire.only or not wire.wants_place(frame):
            return None
        if node is None or statement is None or not complex_powers.may_be(node, statement, site.file.tree):
            return None
        if (site.file.path, statement.line) in self.accepted or self._is_accepted_name(statement):
            return None
        pause = Pause("nonfinite", frame, kind=provenance.CREATED, expression=node, actual=value, statement=statement)
        apart = report.examine(pause)
        if apart["culprit"] is None:
            return None
        pause.warnings = self._held_texts(frame)
        self._drop_held(frame)
        return self._at_value(pause, site, apart)

    def _pause_if_carried(
        self, value: object, site: Site, frame: types.FrameType, node: ast.AST, statement: Statement
    ) -> Pause | None:
        """The pause for a value that was not made here: one that leaves a guard, a gap that enters arithmetic, or one
        that the user wants to see wherever it goes."""
        left = self._guarded_leaves(value, site, frame, node, statement)
        if left is not None:
            return left
        entered = self.gaps.follow(value, node, statement, Scope(frame)) if self.gaps else None
        if entered is None and "carried" not in self.pauses_on:
            return None
        kind = provenance.CARRIED if entered is None else "gaps"
        pause = Pause("nonfinite", frame, kind=kind, expression=node, actual=value, statement=statement)
        if entered is not None:
            gap, operand = entered
            enters = "enters" if gap.cells == 1 else "enter"
            pause.said = f"{gap.sentence()} {enters} the arithmetic by {clean(operand, 60)}"
        return self._at_value(pause, site)

    def _pause_if_lost(
        self, value: object, site: Site, frame: types.FrameType, node: ast.AST, statement: Statement
    ) -> Pause | None:
        """The pause for the first total of the run that a few missing values make nan."""
        tried = self.tried.get(id(site), 0)
        if tried > 2 * TRIED or not lost_totals.may_be_lost(value):
            return None
        self.tried[id(site)] = tried + 1
        likely = lost_totals.lost(value, node, statement, frame)
        if not likely:
            return None
        pause = Pause("nonfinite", frame, kind="gaps", expression=node, actual=value, statement=statement)
        apart = report.examine(pause)
        lost = next((one for one in likely if one.is_in(apart, site.file)), None)
        if lost is None:
            return None
        pause.said = lost.sentence
        self.gaps.enter(lost.operand, Scope(frame))
        lost.mark(apart, site.file)
        return self._at_value(pause, site, apart)

    def _is_known_here(self, site: Site, frame: types.FrameType, culprit: str) -> bool:
        """True where the pause before was for this culprit, in another expression of the same statement."""
        here = (id(frame), site.statement, culprit)
        known = self.paused_for[:3] == here and self.paused_for[3] != site.expression
        return known and "carried" not in self.pauses_on

    def _elsewhere_met(self) -> bool:
        """Whether the user's code has met one in another thread or process."""
        return bool(self.met_in - {_thread.get_ident()}) or self.others_met()

    def _is_accepted_name(self, statement: Statement) -> bool:
        """True when the statement stores into a name, an attribute or a key whose values are accepted."""
        if not self.accepted_as:
            return False
        node = statement.node
        targets = [*getattr(node, "targets", []), *([node.target] if hasattr(node, "target") else [])]
        names = {n for target in targets for n in stored_names(target)}
        return any(f"values of {name}" in self.accepted_as for name in names)

    def _is_guarded(self, pause: Pause, value: object, site: Site, frame: types.FrameType) -> bool:
        """True for a value made where NumPy ignores such errors, which may be masked later, and for infinities that its
        function looks for later; remembers it."""
        statement, node = pause.statement, pause.expression
        if statement is not None and nonfinite.only_infinite(value) and gaps.is_masked_later(statement):
            self._drop_held(frame)
            if frame.f_code.co_name != "<module>":
                self._note_guarded(value, site, statement, frame, looked_for=True)
            return True
        if pause.warnings or statement is None or node is None or not silenced_errors.is_silenced(value):
            return False
        if silenced_errors.is_meant(node, statement):
            return True
        if site.role in ("return", "yield") or not getattr(value, "shape", ()) or frame.f_code.co_name == "<module>":
            return False  # it leaves at once; or nothing will be seen of its leaving
        if not silenced_errors.silences_around(frame):
            return False  # the whole script is silent, which says nothing of this result
        stored = getattr(statement.node, "targets", [])
        if not stored or not all(isinstance(t, ast.Name) for t in stored):
            return False
        self._note_guarded(value, site, statement, frame)
        return True

    def _note_guarded(
        self, value: object, site: Site, statement: Statement, frame: types.FrameType, looked_for: bool = False
    ) -> None:
        what = f"{headline.bad_word(value)} created at {place_words(site.file.path, statement.line)}"
        gap = Gap(what, site.file.path, statement.line, nonfinite.count(value), looked_for=looked_for)
        self.guarded.note(value, gap, statement, Scope(frame))

    def _guarded_leaves(
        self, value: object, site: Site, frame: types.FrameType, node: ast.AST, statement: Statement
    ) -> Pause | None:
        """The pause where a value that was made where NumPy is silent leaves its function."""
        if not self.guarded:
            return None
        scope = Scope(frame)
        made = self.guarded.holds(node, value, scope)
        if made is None:
            self.guarded.pass_on(value, node, statement, scope)
            return None
        if site.role not in ("return", "yield") or made.entered:
            return None
        if not made.looked_for and silenced_errors.is_meant(node, statement):
            return None
        made.entered = True
        pause = Pause("nonfinite", frame, kind=provenance.CREATED, expression=node, actual=value, statement=statement)
        why = "which the function looks for" if made.looked_for else "where NumPy ignores such errors"
        pause.said = f"{made.call}, {why}, leave{'s' if made.cells == 1 else ''} the function"
        return self._at_value(pause, site)

    def _kind(self, value: object, site: Site, node: ast.AST, frame: types.FrameType) -> str:
        if isinstance(node, ast.AugAssign) and not nonfinite.is_number_kind(type(value)):
            return self._kind_in_place(site, node, frame)
        operands = provenance.Operands(node, Scope(frame))
        if provenance.explained(value, operands):
            site.whole += isinstance(node, ast.Call) and not operands.cellwise
            return provenance.CARRIED
        divided = operands.divides and nonfinite.any_infinite(value)
        if operands.exempt and not operands.cellwise and not divided:
            if not polars_cells.is_one(value) or not polars_cells.not_finite(value):
                return provenance.CARRIED
        return provenance.ARRIVED if operands.calls and operands.no_data_calls == operands.calls else provenance.CREATED

    def _kind_in_place(self, site: Site, node: ast.AugAssign, frame: types.FrameType) -> str:
        """The target has changed already; what the right side gave was looked at before."""
        met, self.bad_right = self.bad_right, None
        if met == (id(frame), site.statement):
            return provenance.CARRIED
        if isinstance(node.value, (ast.Name, ast.Attribute, ast.Subscript)):
            operands = provenance.Operands(node.value, Scope(frame))
            if any(nonfinite.any_bad(v) for v in operands.cellwise):
                return provenance.CARRIED
        return provenance.CREATED

    @staticmethod
    def _was_bad(value: object, old: Any) -> bool:
        """An augmented assignment in place: the cells that were bad before account for those that are now."""
        now = nonfinite.mask(value)
        if isinstance(now, bool) or isinstance(old, bool):
            return True
        return not bool((now & ~old).any()) if getattr(now, "shape", None) == getattr(old, "shape", None) else True

    def _expression(self, site: Site) -> Any:
        if site.expression is None:
            return None
        if site.role == "augmented":
            statement = site.file.statement(site.statement)
            return statement and statement.node
        return site.file.node(site.expression)


def _parsed(text: str) -> ast.expr:
    """The expression of a term's text, which may go over lines."""
    return ast.parse(f"({text}\n)", mode="eval").body


def _is_judged_before(node: ast.AST, scope: Scope) -> bool:
    """True for what is no call, and for a call of the user's own code: it was judged where it was returned, or where
    the object got it."""
    if not isinstance(node, ast.Call):
        return True
    try:
        function = provenance.read(node.func, scope)
    except provenance.Unreadable:
        return False
    if type(function) is types.MethodType:
        function = function.__func__
    if isinstance(function, type):
        home = str(type.__getattribute__(function, "__module__"))
        return home == "__main__" or getattr(sys.modules.get(home), "__file__", "") in registry.files
    return type(function) is types.FunctionType and function.__code__.co_filename in registry.files


def _reads_items(text: str) -> bool:
    """True for `[params[name] for name in names]`: the elements are read from a collection, nothing is computed."""
    try:
        node = _parsed(text)
    except SyntaxError:
        return False  # `a /= b`: a statement
    if not isinstance(node, (ast.ListComp, ast.SetComp)) or not isinstance(node.elt, ast.Subscript):
        return False
    reads = (ast.Name, ast.Attribute, ast.Subscript, ast.Constant, ast.Slice, ast.Tuple, ast.expr_context)
    return all(isinstance(part, reads) for part in ast.walk(node.elt))


def _remembered(value: object) -> object:
    """A value by which it is known again, without keeping an array alive."""
    if nonfinite.is_number_kind(type(value)):
        return value
    try:
        return weakref.ref(value)
    except TypeError:
        return MISSING
