"""Lookouts that the user sets: where they stand, when they count, what they do.

`Lookouts` holds them by number and tells the rewriter what to insert into a file (`Plan`); `engine`
asks `due` when one is hit.  A lookout's condition is compiled into the function that it is in; only
where that cannot be (`inline` False) it is evaluated by name.
"""

from __future__ import annotations

import ast
import copy
import itertools
import types
import weakref
from collections.abc import Callable, Iterable, Iterator
from dataclasses import field
from typing import Any

from ..core.markers import MISSING
from ..core.records import record
from ..diagnosis import provenance
from ..frames import stack
from ..frames.namespace import OPTIMIZED, Scope
from ..recording.recorder import Recorder
from ..source import registry
from ..source.source_file import SCOPES
from . import expectations

PLACES = ("line", "element", "lambda")
HELD = "·held"  # the names of a call
NAMED = ("entry", "return")
tickers: dict[int, Callable[[], Iterator[bool]]] = {}  # by a lookout's number, what gives its counter


class Ticker:
    """Counts, and says when it is due: `next(due)` is one call of C, save at the times that are due."""

    def __init__(self, start: int, every: int) -> None:
        self.start, self.every = start, every
        self.done = 0
        self.gap: Any = itertools.repeat(False, 0)
        self.length = 0
        self.due: Iterator[bool] = itertools.chain.from_iterable(self._parts())

    def _parts(self) -> Iterator[Iterable[bool]]:
        length = self.start - 1
        while True:
            self.gap, self.length = itertools.repeat(False, length), length
            yield self.gap
            self.done += length + 1
            self.length = 0
            yield (True,)
            length = self.every - 1

    @property
    def times(self) -> int:
        return self.done + (self.length - int(self.gap.__length_hint__()) if self.length else 0)


@record
class Lookout:
    """One thing that can pause the script.  Fields as in `unevenSum/setLookouts`."""

    id: int
    where: str = "line"  # line, element, lambda, entry, return, raise, change, pause, finding, cell
    file: str = ""
    line: int = 0
    name: str = ""  # of a function, an exception class, a rule, or the watched expression
    within: str = ""  # of a changing name: its function; empty: the module's
    condition: str = ""
    start: int = 1  # from this time on
    every: int = 1
    inside: str = ""
    outside: str = ""
    object: str = ""
    after: int = 0
    until: int = 0
    expect: str = ""  # pauses when this does not hold
    text: str = ""  # written instead of pausing
    trail: bool = False
    once: bool = False
    on: bool = True
    # what the agent makes of it
    message: str = ""
    verified: bool = True
    tree: ast.expr | None = None  # the condition
    compiled: types.CodeType | None = None  # the condition, to be evaluated by name
    writes: types.CodeType | None = None
    met: int = 0
    spent: bool = False
    ticker: Ticker | None = None
    version: int = 0  # another one whenever its probe must be another
    owner: Any = MISSING  # the object of a changing attribute or element
    seen: dict[Any, tuple[str, str]] = field(default_factory=dict)  # fingerprints and texts by call or object
    expected: expectations.Expectation | None = None
    only: Any = None  # the one object, weakly where that is possible
    chain: list[list[Any]] | None = None  # calls, innermost first: only in this one
    goal: list[tuple[str, int, int]] | None = None  # loops with their passes, innermost first: only there

    def condition_code(self) -> types.CodeType:
        """The condition, compiled to be evaluated by name."""
        assert self.tree is not None
        if self.compiled is None:
            self.compiled = compile(ast.Expression(self.tree), "<condition>", "eval", dont_inherit=True)
        return self.compiled

    @property
    def counts(self) -> bool:
        return self.start > 1 or self.every > 1

    @property
    def each_pass(self) -> bool:
        """At the line of a `for`: met as each pass begins, not just before the loop."""
        return self.counts or bool(self.condition or self.expect) or self.goal is not None

    @property
    def gated(self) -> bool:
        """True when more than its condition decides whether it counts."""
        return bool(self.inside or self.outside or self.object or self.after or self.until or self.expect)

    @property
    def ticked(self) -> bool:
        """True when the count is taken by a probe in line."""
        return self.counts and not self.gated and self.where == "line"

    @property
    def times(self) -> int:
        """How often it was met."""
        return self.ticker.times if self.ticked and self.ticker is not None else self.met

    def tick(self) -> Iterator[bool]:
        """The counter in line: true at the times that are due."""
        if self.ticker is None:
            self.ticker = Ticker(self.start, self.every)
        return self.ticker.due

    def same_place(self, other: Lookout) -> bool:
        names = ("where", "file", "line", "name", "within", "condition", "expect", "start", "every")
        return all(getattr(self, n) == getattr(other, n) for n in names)


MADE = {"message", "verified", "tree", "compiled", "writes", "met", "spent"}  # by the agent
FIELDS = {f for f in Lookout.__dataclass_fields__ if f not in MADE}
FIELDS -= {"ticker", "version", "owner", "seen", "only", "goal", "chain", "expected"}


@record
class Plan:
    """What the rewriter is to insert into one file."""

    lines: dict[int, list[Lookout]] = field(default_factory=dict)
    elements: dict[int, list[Lookout]] = field(default_factory=dict)
    lambdas: dict[int, list[Lookout]] = field(default_factory=dict)
    entries: list[Lookout] = field(default_factory=list)
    returns: list[Lookout] = field(default_factory=list)
    names: list[Lookout] = field(default_factory=list)  # changes of names, within their function
    anywhere: list[Lookout] = field(default_factory=list)  # changes of attributes and elements
    loops: dict[tuple[int, int], Recorder] = field(default_factory=dict)  # what is recorded, by its place

    def __bool__(self) -> bool:
        return any(getattr(self, n) for n in self.__dataclass_fields__)


_versions = itertools.count(1)


class Lookouts:
    """All lookouts of the run, in groups: `own`, and one for each way of the standard's to set them."""

    def __init__(self) -> None:
        self.all: dict[int, Lookout] = {}
        self.groups: dict[str, list[int]] = {}
        self.next = 100_000  # numbers for those that come without one

    def replace(self, group: str, wanted: list[Lookout]) -> set[str]:
        """Puts these in the place of a group's; the files to be rewritten (`*`: all of the user's)."""
        old = {n: self.all.pop(n) for n in self.groups.get(group, []) if n in self.all}
        stale: set[str] = set()
        for lk in wanted:
            if not lk.id:
                self.next += 1
                lk.id = self.next
            lk.version = next(_versions)
            before = old.pop(lk.id, None) or next((o for o in old.values() if o.same_place(lk)), None)
            if before is not None:
                old.pop(before.id, None)
                lk.seen, lk.owner = before.seen, before.owner
                lk.met = before.met if before.same_place(lk) else 0  # else it counts something else
                if before.same_place(lk) and before.gated == lk.gated:
                    lk.ticker = before.ticker
                if not (before.same_place(lk) and before.on == lk.on and before.gated == lk.gated):
                    stale |= {_file(before), _file(lk)}
                else:
                    lk.version = before.version
                    if before.once == lk.once:
                        lk.spent = before.spent
                if before.id != lk.id:
                    lk.version = next(_versions)
                    stale |= {_file(lk)}
            else:
                stale.add(_file(lk))
            self.all[lk.id] = lk
        stale |= {_file(o) for o in old.values()}
        self.groups[group] = [lk.id for lk in wanted]
        return stale - {""}

    def drop(self, number: int) -> set[str]:
        lk = self.all.pop(number, None)
        for ids in self.groups.values():
            if number in ids:
                ids.remove(number)
        return {_file(lk)} - {""} if lk is not None else set()

    def active(self) -> Iterable[Lookout]:
        return [lk for lk in self.all.values() if lk.on and lk.verified]

    def plan(self, path: str) -> Plan:
        """What concerns the file at this real path."""
        plan = Plan()
        for lk in self.active():
            if lk.where in PLACES and lk.file == path:
                kinds = {"line": plan.lines, "element": plan.elements, "lambda": plan.lambdas}
                kinds[lk.where].setdefault(lk.line, []).append(lk)
            elif lk.where in NAMED and lk.file in ("", path):
                (plan.entries if lk.where == "entry" else plan.returns).append(lk)
            elif lk.where == "change" and lk.file in ("", path):
                (plan.names if lk.name.isidentifier() else plan.anywhere).append(lk)
        return plan

    def lines(self, path: str) -> set[int]:
        return {lk.line for lk in self.active() if lk.where == "line" and lk.file == path}

    def at_line(self, path: str, line: int) -> list[Lookout]:
        return [lk for lk in self.active() if lk.where == "line" and lk.file == path and lk.line == line]

    def of(self, where: str) -> list[Lookout]:
        return [lk for lk in self.active() if lk.where == where]


def _file(lk: Lookout) -> str:
    if lk.where in ("raise", "pause", "cell"):
        return ""
    return lk.file if lk.where in PLACES or lk.file else "*"


def fits(wanted: str, qualified: str) -> bool:
    """`rate`, `Gauge.rate` and `simulate.rate` name `Gauge.rate`, `simulate.<locals>.rate` and so on."""
    plain = qualified.replace(".<locals>", "")
    return plain == wanted or plain.endswith("." + wanted)


# -- meeting one -------------------------------------------------------------------------------------


class _Given(ast.NodeTransformer):
    """Reads some names from a mapping that is a parameter."""

    def __init__(self, names: set[str]) -> None:
        self.names = names

    def visit_Name(self, node: ast.Name) -> ast.expr:
        if node.id not in self.names or not isinstance(node.ctx, ast.Load):
            return node
        read = ast.Subscript(ast.Name(HELD, ast.Load()), ast.Constant(node.id), ast.Load())
        return ast.fix_missing_locations(ast.copy_location(read, node))


def any_condition(found: list[Lookout], code: types.CodeType, globals_: dict[str, object]) -> Callable[..., object]:
    """The conditions of some lookouts as one function of the names that a call of this code holds."""
    own = {*code.co_varnames, *code.co_cellvars, *code.co_freevars} if code.co_flags & OPTIMIZED else set()
    tests = [_Given(own).visit(copy.deepcopy(lk.tree)) for lk in found if lk.tree is not None]
    whole = tests[0] if len(tests) == 1 else ast.BoolOp(ast.Or(), tests)
    arguments = ast.arguments(posonlyargs=[], args=[ast.arg(HELD)], kwonlyargs=[], kw_defaults=[], defaults=[])
    text = ast.fix_missing_locations(ast.Expression(ast.Lambda(arguments, whole)))
    made = compile(text, "<condition>", "eval", dont_inherit=True)
    (inner,) = [const for const in made.co_consts if isinstance(const, types.CodeType)]
    return types.FunctionType(inner, globals_)


def gate(lk: Lookout, frame: types.FrameType, all_: dict[int, Lookout]) -> bool:
    """Whether the calls around, the object and the other lookouts let it count."""
    if lk.inside or lk.outside:
        names = [stack.function_name(f) for f in stack.calls(frame.f_back)]
        if stack.function_name(frame) not in names:
            names.append(stack.function_name(frame))
        if lk.inside and not any(fits(lk.inside, n) for n in names):
            return False
        if lk.outside and any(fits(lk.outside, n) for n in names):
            return False
    if lk.object and not _is_object(lk, frame):
        return False
    if lk.after and (lk.after not in all_ or not all_[lk.after].times):
        return False
    if lk.chain is not None and not _are_calls(stack.chain(frame)[1:], lk.chain[1:]):
        return False
    if lk.goal is not None and not _at_goal(lk.goal, frame):
        return False
    return not (lk.until and lk.until in all_ and all_[lk.until].times)


def _at_goal(goal: list[tuple[str, int, int]], frame: types.FrameType) -> bool:
    """True as the wanted pass of a loop begins, in the wanted passes of the loops around it.  The head of a `while`
    is hit before its pass is counted."""
    here = [(loop["file"], loop["line"], loop["pass"]) for loop in stack.all_loops(frame) if loop["pass"]]
    file, line, number = goal[0]
    if here[:1] and here[0][:2] == (file, line):
        statement = registry.file_of(frame)
        node = statement.loop_at(line) if statement is not None else None
        return here[0][2] == number - isinstance(node, ast.While) and here[1:] == goal[1:]
    return number == 1 and here == goal[1:]


def _is_object(lk: Lookout, frame: types.FrameType) -> bool:
    code = frame.f_code
    if not code.co_argcount:
        return False
    first = Scope(frame).locals.get(code.co_varnames[0], MISSING)
    outer: types.FrameType | None = frame
    while lk.only is None and outer is not None:
        if registry.file_of(outer) is not None:
            bind_object(lk, Scope(outer))
        outer = outer.f_back
    only = lk.only() if isinstance(lk.only, weakref.ref) else lk.only
    return only is not None and first is only


def bind_object(lk: Lookout, scope: Scope) -> None:
    """Finds the object that `object` names, as soon as it can be read."""
    try:
        found = provenance.read(ast.parse(lk.object, mode="eval").body, scope)
    except (provenance.Unreadable, SyntaxError, ValueError):
        return
    try:
        lk.only = weakref.ref(found)
    except TypeError:
        lk.only = found


def bind_owner(lk: Lookout, scope: Scope) -> None:
    """At a pause: the very object whose attribute or element is watched."""
    node = ast.parse(lk.name, mode="eval").body
    if isinstance(node, (ast.Attribute, ast.Subscript)):
        try:
            lk.owner = provenance.read(node.value, scope)
        except provenance.Unreadable:
            lk.owner = MISSING


def read_watched(lk: Lookout, frame: types.FrameType) -> tuple[object, object]:
    """(value, key): the watched value in a call, and what distinguishes one baseline from another."""
    scope = Scope(frame)
    node = ast.parse(lk.name, mode="eval").body
    if isinstance(node, ast.Name):
        names = scope.globals if not lk.within else scope.locals
        return names.get(node.id, MISSING), id(frame) if lk.within else 0
    assert isinstance(node, (ast.Attribute, ast.Subscript))
    try:
        if lk.owner is not MISSING:
            scope.locals["·owner"] = lk.owner
            node.value = ast.Name("·owner", ast.Load())
            return provenance.read(node, scope), 0
        owner = provenance.read(node.value, scope)
    except provenance.Unreadable:
        return MISSING, None
    try:
        return provenance.read(node, scope), id(owner)
    except provenance.Unreadable:
        return MISSING, id(owner)


def assigned_names(function: ast.AST) -> tuple[set[str], set[str]]:
    """Names that a function binds itself, and all that its own code mentions."""
    bound: set[str] = set()
    used: set[str] = set()
    outer: set[str] = set()

    def visit(node: ast.AST, top: bool = False) -> None:
        if isinstance(node, ast.arg):
            bound.add(node.arg)
        elif isinstance(node, ast.Name):
            used.add(node.id)
            if not isinstance(node.ctx, ast.Load):
                bound.add(node.id)
        elif isinstance(node, (ast.Global, ast.Nonlocal)):
            outer.update(node.names)
            used.update(node.names)
        elif isinstance(node, ast.alias):
            bound.add((node.asname or node.name).partition(".")[0])
        elif isinstance(node, ast.ExceptHandler) and node.name:
            bound.add(node.name)
        if isinstance(node, SCOPES) and not top:
            if not isinstance(node, ast.Lambda):
                bound.add(node.name)
            for inner in ast.walk(node):
                if isinstance(inner, ast.Name):
                    used.add(inner.id)
            return
        for child in ast.iter_child_nodes(node):
            visit(child)

    visit(function, True)
    return bound - outer, used | bound


def _are_calls(here: list[list[Any]], wanted: list[list[Any]]) -> bool:
    """Whether calls are those of a chain; after an edit each is at its line of before, or, as its last, that of now."""
    return len(here) == len(wanted) and all(
        h[:2] == w[:2] and h[3] == w[3] and h[2] in (w[2], w[-1]) for h, w in zip(here, wanted)
    )
