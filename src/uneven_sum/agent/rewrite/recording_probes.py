"""The parts of rewritten code that fill ledgers and mark branches (`rewrite/statements.py` has the whole plan).

recorded loop   ·r = ‹begin›(OUTER); ·rw = ·r.waiting
                for … in ·r.over(ITER):
                    try: BODY
                    finally:
                        try: ·rw += (NAME, …)
                        except NameError: ·r.partial()
                        if ·r.slow: ·r.settle()
                with places, branches and times in temporaries of their own: ·rx = (·rp0, …); ·rw += (NAME, …, *·rx)
comprehension   for ·r, TARGET in ‹begin›().paired(ITER)       ELEMENT = ·r.element(ELEMENT, NAME, …)
function        the same as a loop's body, around the whole body
branch          ‹mark›.None = 1    at its beginning; and where there is no `else`, in one that is put there
"""

from __future__ import annotations

import ast
import contextlib
from collections.abc import Iterator
from typing import Any

from ..core.markers import MARK
from ..lookouts.lookout import Plan
from ..recording import coverage
from ..recording.columns import (
    BRANCHES,
    CALL,
    DEPTH,
    ELEMENT,
    RETURNED,
    SECONDS,
    arguments,
    assigned,
    stored_places,
)
from ..recording.recorder import Recorder
from ..source.sites import Options, Sites
from ..source.source_file import SourceFile, position
from .lookout_probes import LookoutProbes

RUN = "·r"  # the temporary of what is recorded
MOST_BRANCHES = 60  # of one loop: bits of an integer
Body = list[ast.stmt]


class RecordingProbes(LookoutProbes):
    """Inserts what records, counts and marks."""

    def __init__(self, file: SourceFile, sites: Sites, options: Options, plan: Plan) -> None:
        super().__init__(file, sites, options, plan)
        self.recording: list[tuple[Recorder, str]] = []  # what is recorded around, in this function; innermost last
        self.marks = coverage.begin(file)
        self.escaping: list[coverage.BranchMark] = []  # branches of the statement just rewritten that leave their block

    @contextlib.contextmanager
    def no_recording(self) -> Iterator[None]:
        """Around what is a scope of its own."""
        kept, self.recording = self.recording, []
        yield
        self.recording = kept

    def recorder_of(self, node: ast.AST) -> Recorder | None:
        return self.plan.loops.get(position(node)[:2])

    # -- builders ------------------------------------------------------------------------------------

    @staticmethod
    def _number(recorder: Recorder) -> int:
        return recorder.number

    def _now(self, recorder: Recorder) -> ast.expr:
        mark = ast.Constant(f"{MARK}recorder:{self._number(recorder)}")
        return ast.Attribute(mark, "now", ast.Load())

    def _run(self, recorder: Recorder, name: str) -> ast.expr:
        """The run that is under way: in a temporary where that may be; all calls of a function are one run."""
        return self._load(name) if self.temps and recorder.kind == "loop" else self._now(recorder)

    @staticmethod
    def _do(owner: ast.expr, method: str, *args: ast.expr) -> ast.stmt:
        return ast.Expr(ast.Call(ast.Attribute(owner, method, ast.Load()), list(args), []))

    def _others(self, recorder: Recorder, name: str) -> list[tuple[ast.expr, ast.expr]]:
        """Of each value that is not a name: what it begins with, and what a pass records of it."""
        missing = ast.Constant(MARK + "missing")
        found: list[tuple[ast.expr, ast.expr]] = []
        for at, text in enumerate((*recorder.places, *recorder.others)):
            held = self._held(recorder, name, at)
            if text == BRANCHES:
                found.append((ast.Constant(0), held))
            elif text == SECONDS:
                found.append((self._probe("clock"), self._probe("since", held)))
            elif text == CALL:
                found.append((self._probe(f"enter:{self._number(recorder)}"), held))
            elif text == DEPTH:
                found.append((ast.Constant(0), self._probe(f"leave:{self._number(recorder)}")))
            else:
                found.append((missing, held))
        return found

    def _held(self, recorder: Recorder, name: str, at: int) -> ast.expr:
        if self.temps:
            return self._load(f"{name}p{at}")
        return ast.Subscript(ast.Attribute(self._now(recorder), "kept", ast.Load()), ast.Constant(at), ast.Load())

    def _begun(self, recorder: Recorder, name: str) -> Body:
        """What the other values begin a pass with."""
        firsts = [first for first, _ in self._others(recorder, name)]
        if self.temps:
            return [self._set(f"{name}p{at}", first) for at, first in enumerate(firsts)]
        return [self._do(self._now(recorder), "keep", ast.Constant(at), first) for at, first in enumerate(firsts)]

    # -- loops ---------------------------------------------------------------------------------------

    def run_begins(self, recorder: Recorder, s: ast.stmt) -> Body:
        """Before a recorded loop."""
        name = run_name(s)
        outer: list[ast.expr] = []
        if self.recording and self.recording[-1][0].kind == "loop":
            outer = [self._run(*self.recording[-1])]
        begun = self._probe(f"begin:{self._number(recorder)}", *outer)
        steps: Body = [ast.Expr(begun)]
        if self.temps:
            waiting = ast.Attribute(self._load(name), "waiting", ast.Load())
            steps = [self._set(name, begun), self._set(name + "w", waiting)]
        steps += self._begun(recorder, name)
        return [self._here(step, first_line(s)) for step in steps]

    def recorded_body(self, body: Body, recorder: Recorder, s: ast.stmt) -> Body:
        """A body at whose end, however it ends, the values of the pass are put by."""
        name = run_name(s)
        names: list[ast.expr] = [ast.Name(n, ast.Load()) for n in recorder.names]
        last = self._put_by(recorder, name, names)
        last += self._begun(recorder, name)
        if not isinstance(s, ast.For):
            last.append(ast.Expr(self._probe("next", ast.Attribute(self._run(recorder, name), "due", ast.Load()))))
        return [self._here(ast.Try(body, [], [], self._placed(last)), first_line(s))]

    def _placed(self, steps: Body) -> Body:
        line = self.sentinel  # so that no step stops there
        like = ast.Pass(lineno=line, end_lineno=line, col_offset=0, end_col_offset=0)
        return [self._here(one, like) for one in steps]

    def _put_by(self, recorder: Recorder, name: str, names: list[ast.expr]) -> Body:
        """The end of a pass."""
        run = self._run(recorder, name)
        read = self._read(recorder, name, run)
        if not self.temps:
            held = [told for _, told in self._others(recorder, name)]
            partly = [self._do(run, "partial", *held)]
            unbound = ast.ExceptHandler(ast.Constant(f"{MARK}NameError"), None, partly)
            whole = self._do(run, "ends", ast.Tuple(names, ast.Load()), ast.Tuple(held, ast.Load()))
            return [*read, ast.Try([whole], [unbound], [], [])]
        others = self._others(recorder, name)
        first: Body = read
        rest: list[ast.expr] = []
        if others:
            first = [*first, self._set(name + "x", ast.Tuple([told for _, told in others], ast.Load()))]
            rest = [ast.Starred(self._load(name + "x"), ast.Load())]
        waiting = name + "w"
        if recorder.kind == "calls":
            first.append(self._set(waiting, ast.Attribute(run, "waiting", ast.Load())))
        put: ast.stmt = ast.AugAssign(self._store(waiting), ast.Add(), ast.Tuple([*names, *rest], ast.Load()))
        unbound = ast.ExceptHandler(ast.Constant(f"{MARK}NameError"), None, [self._do(run, "partial", *rest)])
        told = ast.If(ast.Attribute(run, "slow", ast.Load()), [self._do(run, "settle")], [])
        emptied = [self._set(name + "x", ast.Constant(None))] if others else []
        return [*first, ast.Try([put, told], [unbound], [], []), *emptied]

    def _read(self, recorder: Recorder, name: str, run: ast.expr) -> Body:
        """The expressions that a pass tells, all at once."""
        if not recorder.reads:
            return []
        first = len(recorder.places)
        found = ast.Call(ast.Attribute(run, "looks", ast.Load()), [], [])
        if not self.temps:
            return [self._do(self._now(recorder), "keep_all", ast.Constant(first), found)]
        into: list[ast.expr] = [self._store(f"{name}p{first + number}") for number in range(len(recorder.reads))]
        return [ast.Assign([ast.Tuple(into, ast.Store())], found)]

    # -- functions and comprehensions ----------------------------------------------------------------

    def recorded_calls(self, body: Body, recorder: Recorder, s: ast.FunctionDef | ast.AsyncFunctionDef) -> Body:
        """A function's body whose every call is a pass."""
        name = run_name(s)
        begin: Body = []
        again = set(assigned(s))
        names: list[ast.expr] = []
        for number, n in enumerate(recorder.names):
            if self.temps and n in again and n in arguments(s):  # as it came
                begin.append(self._set(f"{name}a{number}", self._probe("told", ast.Name(n, ast.Load()))))
                names.append(self._load(f"{name}a{number}"))
            else:
                names.append(ast.Name(n, ast.Load()))
        begin += self._begun(recorder, name)
        last = self._put_by(recorder, name, names)
        last.append(ast.Expr(self._probe("next", ast.Attribute(self._now(recorder), "due", ast.Load()))))
        like = first_line(s.body[0])
        return [
            *(self._here(step, like) for step in begin),
            self._here(ast.Try(body, [], [], self._placed(last)), like),
        ]

    def _comprehended(self, node: Any) -> None:
        """A comprehension whose every element is a pass."""
        recorder = self.recorder_of(node)
        if recorder is None or recorder.kind != "elements" or node.generators[0].is_async:
            return
        name = run_name(node)
        first = node.generators[0]
        begun = self._probe(f"begin:{self._number(recorder)}")
        paired = ast.Call(ast.Attribute(begun, "paired", ast.Load()), [first.iter], [])
        first.iter = self._here(paired, first.iter)
        first.target = self._here(ast.Tuple([self._store(name), first.target], ast.Store()), first.target)
        names = [ast.Name(n, ast.Load()) for n in recorder.names]
        at = "elt" if not isinstance(node, ast.DictComp) else "value" if node.value is not None else "key"
        owner: object = node
        if isinstance(getattr(node, at), ast.Starred):  # `[*part for part in parts]`
            owner, at = getattr(node, at), "value"
        value = getattr(owner, at)
        told = ast.Call(ast.Attribute(self._load(name), "element", ast.Load()), [value, *names], [])
        setattr(owner, at, self._here(told, value))

    # -- values that are no names --------------------------------------------------------------------

    def captured(self, targets: list[ast.expr], value: ast.expr) -> ast.expr:
        """The value of an assignment, kept for the ledgers around whose columns the targets are."""
        for recorder, name in self.recording:
            for target in targets:
                at = recorder.place_of(self.file.segment(target)) if isinstance(target, PLACES) else -1
                if 0 <= at < len(recorder.places):
                    value = self._here(self._kept(recorder, name, at, value), target)
        return value

    def captures(self, target: ast.expr) -> bool:
        return isinstance(target, PLACES) and any(
            0 <= r.place_of(self.file.segment(target)) < len(r.places) for r, _ in self.recording
        )

    def returned(self, value: ast.expr) -> ast.expr:
        """What a recorded function returns."""
        for recorder, name in self.recording:
            if recorder.kind == "calls":
                at = recorder.place_of(RETURNED)
                value = self._here(self._kept(recorder, name, at, value), value)
        return value

    def _kept(self, recorder: Recorder, name: str, at: int, value: ast.expr) -> ast.expr:
        if self.temps:
            return ast.NamedExpr(self._store(f"{name}p{at}"), value)
        return ast.Call(ast.Attribute(self._now(recorder), "keep", ast.Load()), [ast.Constant(at), value], [])

    # -- branches ------------------------------------------------------------------------------------

    def branch(self, body: Body, word: str, like: Any, made: list[coverage.Branch], text: list[ast.stmt]) -> Body:
        """A branch, rewritten, with its marks; `text`: its statements as they are written, `made`: its group."""
        first = text[0] if text else like
        line = getattr(first, "lineno", like.lineno)
        steps: Body = []
        if self.options.marks:
            number = coverage.number_of(self.file, like.lineno, like.col_offset, word)
            lines = (line, max(getattr(s, "end_lineno", 0) or 0 for s in text)) if text else (0, -1)
            made.append(coverage.Branch(coverage.all_marks[number], lines))
            steps.append(self._marked(number))
        if text and word != "elif":  # its own branches tell
            for recorder, name in self.recording:
                steps += self._bit(recorder, name, (line, word))
        place = first_line(first) if text else first_line(like)
        return [*(self._here(step, place) for step in steps), *body]

    def _bit(self, recorder: Recorder, name: str, place: tuple[int, str]) -> Body:
        at = recorder.place_of(BRANCHES)
        if at < 0 or len(recorder.branches) >= MOST_BRANCHES:
            return []
        if place not in recorder.branches:
            recorder.branches.append(place)
        bit = ast.Constant(1 << recorder.branches.index(place))
        if self.temps:
            return [ast.AugAssign(self._store(f"{name}p{at}"), ast.BitOr(), bit)]
        return [self._do(self._now(recorder), "mark", ast.Constant(at), bit)]

    def _marked(self, number: int) -> ast.stmt:
        return ast.Assign([_cell(number)], ast.Constant(1))

    def counted(self, s: ast.stmt, block: coverage.Count | None) -> tuple[Body, coverage.Count]:
        """Counts how often a statement is begun; `block`: the count of the one before it, if that does not leave.

        Statements that run one after the other share a counter; what raises is counted where it is hit.
        """
        steps: Body = []
        if block is None:
            number = coverage.number_of(self.file, s.lineno, s.col_offset, "count")
            block = coverage.Count(coverage.all_marks[number])
            steps = [self._here(self._more(number), first_line(s))]
        self.marks.counts.setdefault(s.lineno, block)
        if not self.options.guards:
            return steps, coverage.Count(block.block)
        raised = coverage.all_marks[coverage.number_of(self.file, s.lineno, s.col_offset, "raised")]
        return steps, coverage.Count(block.block, (*block.raised, raised))

    def raised(self, s: ast.stmt) -> Body:
        """In the guard of a statement, before its error continues."""
        if not self.options.counts:
            return []
        return [self._more(coverage.number_of(self.file, s.lineno, s.col_offset, "raised"))]

    @staticmethod
    def _more(number: int) -> ast.stmt:
        return ast.AugAssign(_cell(number), ast.Add(), ast.Constant(1))

    def group(self, made: list[coverage.Branch], bodies: list[list[ast.stmt]]) -> None:
        """The branches of one decision; which of them leave their block is noted for what follows."""
        if made:
            self.marks.groups.append(made)
            self.escaping = [b.mark for b, body in zip(made, bodies) if any(_leaves(s) for s in body)]

    def after(self, rest: list[ast.stmt], escaping: list[coverage.BranchMark]) -> Body:
        """What follows a statement that may leave its block."""
        first = rest[0]
        number = coverage.number_of(self.file, first.lineno, first.col_offset, "after")
        last = max(s.end_lineno or 0 for s in rest)
        here = coverage.Branch(coverage.all_marks[number], (first.lineno, last))
        self.marks.groups.append([*(coverage.Branch(m) for m in escaping), here])
        return [self._here(self._marked(number), first_line(first))]

    def function_marked(self, s: ast.FunctionDef | ast.AsyncFunctionDef, like: ast.stmt) -> Body:
        if not self.options.marks:
            return []
        number = coverage.number_of(self.file, s.lineno, s.col_offset, "def")
        self.marks.functions.append((s.lineno, coverage.all_marks[number]))
        return [self._here(self._marked(number), first_line(like))]


def _cell(number: int) -> ast.Attribute:
    return ast.Attribute(ast.Constant(f"{MARK}mark:{number}"), coverage.ATTRIBUTE, ast.Store())


PLACES = (ast.Attribute, ast.Subscript)


def _leaves(s: ast.AST) -> bool:
    """True when a statement may leave the block that it is in."""
    if isinstance(s, (ast.Return, ast.Raise, ast.Break, ast.Continue)):
        return True
    if isinstance(s, (ast.FunctionDef, ast.AsyncFunctionDef, ast.ClassDef, ast.For, ast.While, ast.AsyncFor, ast.Try)):
        return False
    return any(_leaves(child) for child in ast.iter_child_nodes(s) if isinstance(child, (ast.stmt, ast.match_case)))


def may_leave(s: ast.AST, in_loop: bool = False) -> bool:
    """True when what follows a statement may not run though nothing has raised."""
    if isinstance(s, (ast.Return, ast.Raise)) or (isinstance(s, (ast.Break, ast.Continue)) and not in_loop):
        return True
    if isinstance(s, (ast.FunctionDef, ast.AsyncFunctionDef, ast.ClassDef)):
        return False
    if isinstance(s, (ast.For, ast.While, ast.AsyncFor)):  # a break in its else is the loop's around it
        return any(may_leave(t, True) for t in s.body) or any(may_leave(t, in_loop) for t in s.orelse)
    parts = (ast.stmt, ast.match_case, ast.ExceptHandler)
    return any(may_leave(child, in_loop) for child in ast.iter_child_nodes(s) if isinstance(child, parts))


def run_name(s: ast.stmt | ast.expr) -> str:
    return f"{RUN}{s.lineno}_{s.col_offset}"


def first_line(s: ast.stmt) -> ast.AST:
    """A node that is at the start of a statement and is one line long."""
    like = ast.Pass()
    like.lineno = like.end_lineno = s.lineno
    like.col_offset = like.end_col_offset = s.col_offset
    return like


__all__ = ["ELEMENT", "RecordingProbes", "first_line", "run_name", "stored_places"]
