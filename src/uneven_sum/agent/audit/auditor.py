"""Runs the rules: what the rewritten code of an audit run calls, and the findings that come of it."""

from __future__ import annotations

import operator
import sys
import types
from collections.abc import Callable
from typing import Any

from ..core import run_state, signal_masking
from ..frames import stack
from ..frames.namespace import locals_of
from ..source.registry import file_of
from ..source.sites import sites
from ..source.source_file import Position, SourceFile
from ..values import nonfinite
from . import running_sums
from .finding import Finding, Place, loops_of, pass_of
from .rules import RULES
from .rules.base import Rule
from .running_sums import Running

MOST = 2_000  # findings of a run
TINY = sys.float_info.min
NEAR = 1e-9  # floats farther apart than that, relatively, are no matter of rounding
NEAR_SQUARED = NEAR * NEAR
NEARLY = 1e-12  # the square of a difference beside that of its operand, where digits are lost
COMPARED = ("eq", "ne", "lt", "le", "gt", "ge")
MOST_CELLS = 10_000_000  # of an array whose old cells are kept while it is changed in place
Operator = Callable[[Any, Any], Any]


class Auditor:
    """The state of one audit: places by the number of their site, findings by place and rule."""

    def __init__(self, names: set[str] | None = None) -> None:
        wanted = [kind for kind in RULES if (not kind.WEAK if names is None else kind.NAME in names)]
        self.sums: dict[int, Running] = {}  # by site
        self.rules: list[Rule] = [kind(self) for kind in wanted]
        self.places: dict[int, Place] = {}
        self.found: dict[tuple[int, str], Finding] = {}
        self.passes = [0] * 10_000  # by site, of sums and differences of plain numbers
        self.by_operator: dict[str, list[Rule]] = {}
        for rule in self.rules:
            for name in rule.WANTS:
                self.by_operator.setdefault(name, []).append(rule)

    def wants(self) -> frozenset[str]:
        return frozenset(self.by_operator)

    def place(self, site: int) -> Place:
        found = self.places.get(site)
        if found is None:
            found = self.places[site] = Place(sites[site])
        return found

    def report(self, rule: Rule, site: int, headline: str, weight: float, **more: Any) -> Finding | None:
        """A finding at a place; the first one of a rule there stands, later ones are counted."""
        place = self.place(site)
        place.times[rule.NAME] = place.times.get(rule.NAME, 0) + 1
        key = (site, rule.NAME)
        if key in self.found or len(self.found) >= MOST:
            return self.found.get(key)
        made = Finding(rule.NAME, headline, weight, place, **more)
        frame = self.user_frame()
        if frame is not None:
            made.function, made.loops = stack.function_name(frame), loops_of(frame)
            made.at_pass = pass_of(frame)
        self.found[key] = made
        return made

    def has(self, rule: Rule, site: int) -> bool:
        """Count one more time of what was found already; False where it is new."""
        if (site, rule.NAME) not in self.found:
            return False
        self.place(site).times[rule.NAME] += 1
        return True

    def report_at(self, rule: Rule, file: SourceFile, at: Position, headline: str, weight: float, **more: Any) -> None:
        """A finding at a place that has no probe."""
        self.report(rule, sites.add(file, at, at, "audit"), headline, weight, **more)

    def present_pass(self) -> int:
        """The pass of the innermost loop around the calculation under way."""
        frame = self.user_frame()
        return pass_of(frame) if frame is not None else 0

    def value_of(self, name: str) -> Any:
        """What a name stands for in the user's call under way; None where it is not known."""
        frame = self.user_frame()
        if frame is None:
            return None
        names = locals_of(frame)
        return names[name] if name in names else frame.f_globals.get(name)

    def drop(self, rule: Rule, site: int) -> None:
        self.found.pop((site, rule.NAME), None)

    @staticmethod
    def user_frame() -> types.FrameType | None:
        """The user's call under way."""
        frame: types.FrameType | None = sys._getframe(1)
        while frame is not None and file_of(frame) is None:
            frame = frame.f_back
        return frame

    def findings(self) -> list[Finding]:
        """All findings, the weightiest first; what a rule knows at the end only is added."""
        for rule in self.rules:
            with_care(rule.finish)
        return sorted(self.found.values(), key=lambda f: (-f.weight, f.place.file, f.place.line))

    # -- what rewritten code calls ---------------------------------------------------------------------

    def probes(self) -> dict[str, Any]:
        """The functions by their marks."""
        found: dict[str, Any] = {}
        put = {}
        for name in ("add", "sub", "mul", "truediv", "floordiv", "mod", "pow", "matmul"):
            found["audit_" + name] = self._operator(name, getattr(operator, name))
            found[f"audit_{name}_running"] = self._operator(name, getattr(operator, name), running=True)
            found["audit_i" + name] = self._in_place(name, self._operator(name, getattr(operator, "i" + name)))
            running = self._operator(name, getattr(operator, "i" + name), running=True)
            found[f"audit_i{name}_running"] = put[name] = self._in_place(name, running)
        for name in COMPARED:
            found["audit_" + name] = self._operator(name, getattr(operator, name))
        found |= {"audit_call": self._call(), "audit_store": self._store(), "audit_iter": self._iter()}
        for name, done in put.items():
            found["audit_put_i" + name] = self._put(done, found["audit_store"])
        found |= {"audit_in": self._within(False), "audit_not_in": self._within(True), "audit_neg": self._negation()}
        found |= {"audit_index": self._index(), "audit_take": _take, "audit_take_attribute": _take_attribute}
        return found | {"audit_handled": self._handled(), "audit_unused": self._unused()}

    def _operator(self, name: str, function: Operator, running: bool = False) -> Callable[[Any, Any, int], Any]:
        """The probe of an operator: as short as it can be for plain numbers, where a rule's screen lets few through."""
        wanting = [r for r in self.by_operator.get(name, []) if r.SCALARS]
        scalar = [r.scalars for r in wanting if r.SCREEN in ("", "every", "floats")]
        of_integers = [r.scalars for r in wanting if r.SCREEN == "every"]
        cancels = [r.scalars for r in wanting if r.SCREEN == "cancels"]
        passes = self.passes
        other = [r.operator for r in self.by_operator.get(name, []) if r.OTHERS]
        state = run_state
        known = {id(kind) for kind in (bytes, bool, type(None))}  # by identity: a metaclass may define `__eq__`

        def others(a: object, b: object, result: object, site: int) -> Any:
            if state.quiet or state.in_trial or not other or (id(type(a)) in known and id(type(b)) in known):
                return result
            for rule in other:
                with_care(rule, name, a, b, result, site)
            return result

        def plain(a: object, b: object, site: int) -> Any:
            result = function(a, b)
            kind = type(result)
            return result if kind is float or kind is int else others(a, b, result, site)

        def tiny(a: object, b: object, site: int) -> Any:
            result = function(a, b)
            kind = type(result)
            if kind is float:
                if -TINY < result < TINY and a and b:
                    for rule in scalar:
                        with_care(rule, name, a, b, result, site)
                return result
            return result if kind is int else others(a, b, result, site)

        def nearly_equal(a: Any, b: object, site: int) -> Any:
            result = function(a, b)
            if type(result) is float:
                try:
                    passes[site] += 1
                except IndexError:
                    passes.extend([0] * (site + 1000 - len(passes)))
                if result * result < a * a * NEARLY:
                    for rule in cancels:
                        with_care(rule, name, a, b, result, site)
                return result
            return others(a, b, result, site)

        def compared(a: Any, b: Any, site: int) -> Any:
            result = function(a, b)
            kind = type(a)
            if kind is float or kind is int:
                kind = type(b)
                if kind is float or kind is int:
                    if scalar:
                        try:
                            gap = a - b
                            if (gap > NEAR or gap < -NEAR) and gap * gap > a * a * NEAR_SQUARED:
                                return result
                        except OverflowError:  # an integer beyond all floats
                            return result
                        for rule in scalar:
                            with_care(rule, name, a, b, result, site)
                    return result
            return others(a, b, result, site)

        def every(a: object, b: object, site: int) -> Any:
            result = function(a, b)
            if type(result) is float or type(result) is int:
                for rule in scalar if type(result) is float else of_integers:
                    with_care(rule, name, a, b, result, site)
                return result
            return others(a, b, result, site)

        if name in COMPARED:
            return compared
        if any(r.SCREEN in ("every", "floats") for r in self.by_operator.get(name, [])):
            return every
        if running:
            return running_sums.probe(name, function, self.sums, self._alternates, others)
        return tiny if scalar else nearly_equal if cancels else plain

    def _alternates(self, b: Any, running: Running, site: int) -> None:
        for rule in self.by_operator.get("add", []):
            with_care(rule.alternates, b, running, site)

    def _in_place(self, name: str, done: Callable[[Any, Any, int], Any]) -> Callable[[Any, Any, int], Any]:
        """`a op= b`: what held `a` before is kept for the rules where the array itself changes."""
        rules = [r for r in self.by_operator.get("changed", [])]
        others = [r.operator for r in self.by_operator.get(name, []) if r.OTHERS]
        change = getattr(operator, "i" + name)
        state = run_state

        def probe(a: Any, b: Any, site: int) -> Any:
            np = nonfinite.module("numpy")
            if np is None or type(a) is not np.ndarray:
                result = done(a, b, site)
                if result is a:
                    for rule in rules:
                        with_care(rule.changed, a, site)
                return result
            before = a.copy() if a.dtype.kind in "iu" and a.size <= MOST_CELLS else None
            result = change(a, b)
            for look in others if before is not None else ():
                with_care(look, name, before, b, result, site)
            for rule in rules:
                with_care(rule.changed, a, site)
            return result

        def numbers_first(a: Any, b: Any, site: int) -> Any:
            kind = type(a)
            if kind is float or kind is int or state.quiet or state.in_trial:
                return done(a, b, site)
            return probe(a, b, site)

        return numbers_first

    def _put(self, done: Callable[[Any, Any, int], Any], store: Callable[..., None]) -> Callable[..., None]:
        """`owner[index] op= value` and `owner.name op= value`, after `_take`."""

        def probe(taken: tuple[Any, Any, Any, bool], value: Any, site: int, store_site: int) -> None:
            owner, index, old, is_attribute = taken
            result = done(old, value, site)
            if is_attribute:
                setattr(owner, index, result)
            else:
                store(result, owner, index, store_site)

        return probe

    def _within(self, negated: bool) -> Callable[[Any, Any, int], Any]:
        rules = self.by_operator.get("in", [])

        def probe(a: Any, b: Any, site: int) -> Any:
            result = a in b
            for rule in rules:
                with_care(rule.operator, "in", a, b, result, site)
            return not result if negated else result

        return probe

    def _negation(self) -> Callable[[Any, int], Any]:
        rules = self.by_operator.get("neg", [])
        negated = operator.neg

        def probe(a: Any, site: int) -> Any:
            result = negated(a)
            if type(a) is not float and type(a) is not int:
                for rule in rules:
                    with_care(rule.operator, "neg", a, None, result, site)
            return result

        return probe

    def _call(self) -> Callable[..., Any]:
        by_name: dict[str, list[Rule]] = {}
        for wanted, rules in self.by_operator.items():
            if wanted.startswith("call:"):
                by_name[wanted[5:]] = rules
        names: dict[int, list[Rule]] = {}
        state = run_state

        def probe(function: Any, site: int, /, *args: Any, **named: Any) -> Any:
            rules = names.get(site)
            if rules is None:
                node: Any = self.place(site).node
                called = getattr(getattr(node, "func", None), "attr", "") or getattr(
                    getattr(node, "func", None), "id", ""
                )
                rules = names[site] = by_name.get(called, [])
            if state.quiet or state.in_trial:
                return function(*args, **named)
            before = [with_care(rule.before, function, args, named, site) for rule in rules]
            result = function(*args, **named)
            for rule, kept in zip(rules, before):
                with_care(rule.call, function, args, named, result, site, kept)
            return result

        return probe

    def _store(self) -> Callable[..., None]:
        rules = self.by_operator.get("store", [])

        def probe(value: Any, target: Any, index: Any, site: int) -> None:
            before = [with_care(rule.before_store, target, index, value, site) for rule in rules]
            target[index] = value
            for rule, kept in zip(rules, before):
                with_care(rule.store, target, index, value, site, kept)

        return probe

    def _index(self) -> Callable[[Any, int], Any]:
        rules = self.by_operator.get("index", [])

        def probe(value: Any, site: int) -> Any:
            for rule in rules:
                with_care(rule.indexed, value, site)
            return value

        return probe

    def _iter(self) -> Callable[[Any, int], Any]:
        rules = self.by_operator.get("iter", [])

        def probe(value: object, site: int) -> Any:
            for rule in rules:
                with_care(rule.iterated, value, site)
            return value

        return probe

    def _handled(self) -> Callable[[int], None]:
        rules = self.by_operator.get("handled", [])

        def probe(site: int) -> None:
            error = sys.exc_info()[1]
            for rule in rules:
                with_care(rule.handled, error, site)

        return probe

    def _unused(self) -> Callable[[Any, int], Any]:
        rules = {r for name, found in self.by_operator.items() if name.startswith("unused:") for r in found}

        def probe(value: object, site: int) -> Any:
            for rule in rules:
                with_care(rule.unused, value, site)
            return value

        return probe


def _take(owner: Any, index: Any) -> tuple[Any, Any, Any, bool]:
    return owner, index, owner[index], False


def _take_attribute(owner: Any, name: str) -> tuple[Any, Any, Any, bool]:
    return owner, name, getattr(owner, name), True


def with_care(function: Callable[..., Any], *args: object) -> Any:
    """A rule must not harm the script: what it raises is dropped, unless it is a signal handler's of the script."""
    try:
        with run_state.silenced():
            return function(*args)
    except Exception as e:
        if signal_masking.is_the_scripts(e):
            raise
        return None
