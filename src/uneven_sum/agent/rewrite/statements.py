"""Inserts the probes into a module's syntax tree.

One visitor, in the order of the source.  What it makes of each construct (`‹check›` and the like stand
for the functions of `probes/runtime.py`, which are put in as constants once the tree is compiled, so that no name
of ours is ever visible to the script):

statement guard     while True:
                        try: STATEMENT; break
                        except:
                            if ‹failed›(site): break        # skip
                            if ‹again›(): continue          # retry
                            raise
head guard          try: COMPOUND
                    except: ‹head_failed›(site); raise
result check        ·v if type(·v := EXPR) is float and MIN <= ·v <= MAX or type(·v) is int
                       else ‹check›(·v, (·v := None), site)
                    in functions and their list comprehensions, where the name is ·e; at module level, in classes,
                    lambdas and generators, and in functions that look at their own names: ‹check›(EXPR, None, site)
augmented result    the operation runs on a copy of the name, so that the old value is still there
loop meters         for … in (·m1 := ‹iter›(·m1)) if type(·m1 := ITER) is list else …    a list's iterator tells
                    for … in ‹compress›(ITER, (·m1 := ‹repeat›(True, MAX)))   passes = what repeat has given
                    for … in (·m1 := ‹iter›(range(…)))                        the range iterator tells
                    ·m1 = 0; while …: ·m1 += 1; …
lookout             if CONDITION and ‹tick›(): ‹lookout›(site)   before the statement, in a `try` of its own
leaving a call      except: …; if ‹leaving›(): return ‹given›()   in the guards of functions
ledgers, branches   see `recording_probes`
blocks              runs of arithmetic that are checked once: see `blocks`

`·v` begins with a character that cannot begin a name, so it never meets one of the script's.  A temporary
is emptied whenever it held anything but a float or an int: the script's objects die when they would.
"""

from __future__ import annotations

import ast

from ..core.markers import MARK
from ..core.trees import walk
from ..lookouts.lookout import Plan
from ..recording import coverage
from ..source.call_lists import SEES_FRAME
from ..source.cells import Cell, Cells
from ..source.sites import Options, Sites
from ..source.source_file import SourceFile, last_statements, position
from . import blocks
from .block_probes import BlockProbes
from .checked_functions import checked_functions
from .expressions import STREAMED_LOOP
from .origin_probes import Inserter
from .placing import at, placed
from .predicates import cannot_fail, head_may_fail, is_docstring, is_future, leaves_early, sees_frame, takes_all
from .recording_probes import first_line, may_leave, run_name

GUARDED = (ast.Assign, ast.AugAssign, ast.AnnAssign, ast.Expr, ast.Return, ast.Delete, ast.Raise, ast.Assert)
GUARDED_TOO = (ast.Import, ast.ImportFrom)
OWN_SCOPE = (ast.FunctionDef, ast.AsyncFunctionDef, ast.ClassDef)
NO_GUARD = (*OWN_SCOPE, ast.Try, ast.TryStar)  # their errors are not counted where they stand
CALLED_IN_BLOCKS = ("math", "abs(", "min(", "max(", "numpy")
ENDS = (ast.Return, ast.Raise, ast.Break, ast.Continue)


class Rewriter(BlockProbes):
    """Rewrites one module; `plan` says which lookouts stand in it."""

    def __init__(
        self, file: SourceFile, sites: Sites, options: Options, plan: Plan | None = None, once: bool = False
    ) -> None:
        """`once`: the text is a module's, which runs once; not one that the script may run in several threads."""
        super().__init__(file, sites, options, plan or Plan())
        self.once = once
        self.asserts = True  # False: they stay as they are written, for a test runner that rewrites them itself
        self.uses_numpy = False  # blocks on arrays pay
        self.ours: set[int] = set()  # statements that stay as they are
        self.shown: dict[int, Cell] = {}  # statements whose value is the output of a cell
        self.last: set[int] = set()  # of functions: the statements after which there is none
        self.sees_frames = any(name in file.text for name in SEES_FRAME)  # somewhere: else no function need be walked
        self.shared: dict[bool | None, tuple[ast.stmt, ast.stmt, list[ast.stmt], ast.stmt]] = {}

    def module(self) -> ast.Module:
        tree = ast.parse(self.file.data, self.file.path)
        if self.options.origin is not None:
            Inserter(self.file, self.sites, self.options.origin).module(tree)
        if self.file.cells is not None:
            self._mark_cells(tree, self.file.cells)
        for node in walk(tree) if "range" in self.file.text else ():
            if isinstance(node, ast.Name) and node.id == "range" and not isinstance(node.ctx, ast.Load):
                self.range_is_builtin = False
        if self.in_line and self.options.at_once and any(word in self.file.text for word in CALLED_IN_BLOCKS):
            self.functions = blocks.block_calls(tree)
            self.uses_numpy = "numpy" in self.file.text
        if self.once and self.in_line and self.options.at_once:
            self.blocks = blocks.plan(tree, self.lines, self.functions, self.uses_numpy)
            # A warning of a function may be told of the line that calls it: then it waits for the value there.
            self.looked_at = set() if "warn" in self.file.text else checked_functions(tree)
            self.readable = self.globals = blocks.own_names(tree) if self.options.only_checks else set()
        flags = self.blocks.flags
        body = self.body(tree.body, docstring=self.file.cells is None)
        if flags:
            begin = 1 if is_docstring(tree.body[0]) else 0
            while begin < len(tree.body) and is_future(tree.body[begin]):
                begin += 1
            body[begin:begin] = self._flags(flags, tree.body[min(begin, len(tree.body) - 1)])
        tree.body = body
        return tree

    def _mark_cells(self, tree: ast.Module, cells: Cells) -> None:
        """Before the first statement of each cell of a notebook stands a call that says that it begins."""
        tree.body = cells.from_start(tree.body)
        self.shown, begins = cells.shown(tree), cells.begins(tree)
        marked: list[ast.stmt] = []
        for s in tree.body:
            if id(s) in begins:
                begin = ast.Expr(self._probe("cell_begins", ast.Constant(begins[id(s)].number)))
                self.ours.add(id(begin))
                marked.append(self._here(begin, first_line(s)))
            marked.append(s)
        tree.body = marked

    def expression(self) -> ast.Expression:
        """The one expression of a text that `eval` runs; checked as the result of a lambda is."""
        tree = ast.parse(self.file.data, self.file.path, "eval")
        self.at = position(tree.body)
        self.temps = False
        tree.body = self.value(tree.body, "return")
        return tree

    # -- statements ----------------------------------------------------------------------------------

    def body(self, statements: list[ast.stmt], docstring: bool = False) -> list[ast.stmt]:
        out: list[ast.stmt] = []
        block: coverage.Count | None = None
        done = 0  # statements before this one are in a block
        for number, s in enumerate(statements):
            if number < done:
                continue
            if id(s) in self.ours:
                out.append(s)
                continue
            if docstring and number == 0 and is_docstring(s):
                out.append(s)
            else:
                if self.escaping and number:
                    out += self.after(statements[number:], self.escaping)
                self.escaping = []
                if self.options.counts and not is_future(s):
                    leaves = may_leave(s) or isinstance(s, NO_GUARD)
                    steps, block = self.counted(s, block)
                    out += steps
                    block = block if not leaves and self.options.guards else None
                run = None if self.changing else self.blocks.longest_at(statements, number)
                if run is not None:
                    done = number + len(run.statements)
                    out.append(self.block(run))
                    continue
                out += self.statement(s)
                if self.changing and not hasattr(s, "body") and not isinstance(s, ENDS):
                    out.append(self._changed(s))
        self.escaping = []
        return out

    def statement(self, s: ast.stmt) -> list[ast.stmt]:
        outer, self.at = self.at, position(s)
        plain = s
        before: list[ast.stmt] = []
        if s.lineno in self.lines and not isinstance(s, (*OWN_SCOPE, ast.While)) and not is_future(s):
            before = self._lookouts_at(s)
        method = getattr(self, "_" + type(s).__name__.lower(), None)
        new: list[ast.stmt] = method(s) if method else self._simple(s)
        if self.options.guards:
            if getattr(plain, "is_lazy", False):
                pass  # a lazy import may stand in no `try`
            elif isinstance(plain, (*GUARDED, *GUARDED_TOO)) and not cannot_fail(plain):
                new = [self._guard(plain, new)]
            elif isinstance(plain, (ast.If, ast.While, ast.For, ast.AsyncFor, ast.With, ast.AsyncWith, ast.Match)) or (
                isinstance(plain, OWN_SCOPE) and head_may_fail(plain)
            ):
                new = [self._head_guard(plain, new)]
        self.at = outer
        return before + new

    def _guard(self, s: ast.stmt, new: list[ast.stmt]) -> ast.stmt:
        ends = isinstance(s, (ast.Return, ast.Raise))
        begins, end, ways, on = self._shared()
        like = first_line(s)
        # Each node gets its place here: there may be ten thousands of guards.
        call = at(self._probe("failed", at(self._site("statement"), like)), like)
        at(call.func, like)
        failed = at(ast.If(call, [end], []), like)
        handler = at(ast.ExceptHandler(None, None, [failed, *ways, *self._steps_at(self.raised(s), like), on]), like)
        start = [begins] if isinstance(s, ast.Return) or id(s) in self.last else []
        wrapped = at(ast.Try([*start, *self._steps_at(new, like), *([] if ends else [end])], [handler], [], []), like)
        return at(ast.While(at(ast.Constant(True), like), [wrapped], []), like)

    def _steps_at(self, steps: list[ast.stmt], like: ast.AST) -> list[ast.stmt]:
        for step in steps:
            placed(step, like)
        return steps

    def _nowhere(self) -> ast.stmt:
        return ast.Pass(lineno=self.sentinel, end_lineno=self.sentinel, col_offset=0, end_col_offset=0)

    def _shared(self) -> tuple[ast.stmt, ast.stmt, list[ast.stmt], ast.stmt]:
        """What all guards of one kind of scope have in common, in a line that the file does not have: where a jump
        from a `return` or the last statement sets off (no line comes after it), `break`, what the user may have
        answered besides, `raise`."""
        if self.returning not in self.shared:
            like = self._nowhere()
            again = ast.If(self._probe("again"), [ast.Continue()], [])
            ways = [self._here(step, like) for step in (again, *self._leave())]
            self.shared[self.returning] = (
                like,
                self._here(ast.Break(), like),
                ways,
                self._here(ast.Raise(), like),
            )
        return self.shared[self.returning]

    def _head_guard(self, s: ast.stmt, new: list[ast.stmt]) -> ast.stmt:
        told = ast.Expr(self._probe("head_failed", self._site("head")))
        handler = ast.ExceptHandler(None, None, [told, *self._leave(), *self.raised(s), ast.Raise()])
        return self._here(ast.Try(new, [handler], [], []), first_line(s))

    def _leave(self) -> list[ast.stmt]:
        """In a function: the way to leave its call at once, with a value that the user gives."""
        if self.returning is None:
            return []
        value = self._probe("given") if self.returning else None
        return [ast.If(self._probe("leaving"), [ast.Return(value)], [])]

    def _simple(self, s: ast.stmt) -> list[ast.stmt]:
        for name, value in ast.iter_fields(s):
            if isinstance(value, ast.expr):
                setattr(s, name, self.value(value, "test" if isinstance(s, ast.Assert) else "value"))
        return [s]

    def _assert(self, s: ast.Assert) -> list[ast.stmt]:
        if not self.asserts:
            return [s]
        test = s.test
        self._simple(s)
        if self.options.audit:
            s.test = self.with_place(s.test, test)
        return [s]

    def _assign(self, s: ast.Assign) -> list[ast.stmt]:
        if self.options.audit:
            self.running = tuple(ast.unparse(t) for t in s.targets)
        s.value = self.captured(s.targets, self.value(s.value, "value"))
        self.running = ()
        s.targets = [self.inside(t) for t in s.targets]
        stored = self.audited_store(s) if self.options.audit else None
        return [stored or s]

    def _annassign(self, s: ast.AnnAssign) -> list[ast.stmt]:
        if s.value is not None:
            s.value = self.captured([s.target], self.value(s.value, "value"))
        return [s]

    def _expr(self, s: ast.Expr) -> list[ast.stmt]:
        whole = s.value
        calls_out = isinstance(s.value, ast.Call) and any(k.arg == "out" for k in s.value.keywords)
        if calls_out or id(s) in self.shown:
            s.value = self.value(s.value, "value")
        elif isinstance(s.value, ast.Await):
            s.value.value = self.inside(s.value.value)
        else:
            s.value = self.inside(s.value)
        if self.options.audit and id(s) not in self.shown:
            s.value = self.audited_result(whole, s.value)
        if id(s) in self.shown:
            s.value = self._here(self._probe("shown", s.value, ast.Constant(self.shown[id(s)].number)), s)
        return [s]

    def _return(self, s: ast.Return) -> list[ast.stmt]:
        if s.value is not None:
            s.value = self.value(s.value, "return")
        if self.watched_returns or self.leaves:
            s.value = self._watched_return(s.value or ast.Constant(None), s)
        if any(recorder.kind == "calls" for recorder, _ in self.recording):
            s.value = self.returned(s.value or self._here(ast.Constant(None), s))
        return [s]

    def _pass(self, s: ast.stmt) -> list[ast.stmt]:
        return [s]

    _break = _continue = _global = _nonlocal = _import = _importfrom = _typealias = _pass

    # -- compound statements -------------------------------------------------------------------------

    def _if(self, s: ast.If) -> list[ast.stmt]:
        made: list[coverage.Branch] = []
        text, rest = s.body, s.orelse
        s.test = self.value(s.test, "test")
        s.body = self.branch(self.body(s.body), "if", s, made, text)
        is_elif = bool(rest) and rest[0].col_offset == s.col_offset
        if is_elif and isinstance(rest[0], ast.If) and rest[0].lineno not in self.lines:
            outer, self.at = self.at, position(rest[0])
            other = self._if(rest[0])  # no guard of its own: the outer one covers an elif
            self.at = outer
        else:
            other = self.body(rest)
        s.orelse = self.branch(other, "elif" if is_elif else "else", s, made, rest)
        self.group(made, [text, rest])
        return [s]

    def _while(self, s: ast.While) -> list[ast.stmt]:
        self.loops.append(s)
        s.test = self.value(s.test, "test")
        self.loops.pop()
        if s.lineno in self.lines:
            pauses = [self._in_expression(lk, False) for lk in self.lines.pop(s.lineno)]
            s.test = self._here(ast.BoolOp(ast.Or(), [*pauses, s.test]), s.test)
        return self._counted(s)

    def _counted(self, s: ast.While | ast.AsyncFor) -> list[ast.stmt]:
        """A loop whose passes are counted in its body."""
        before: list[ast.stmt] = []
        count: list[ast.stmt] = []
        if self.options.meters:
            if self.temps:
                name = self._meter_name(s)
                before = [self._set(name, ast.Constant(0))]
                count = [ast.AugAssign(self._store(name), ast.Add(), ast.Constant(1))]
            else:
                site = self._site("loop", s)
                if self.returning is None:
                    before = [ast.Expr(self._probe("enter_while", site))]
                    count = [ast.Expr(self._probe(f"pass:{site.value!r}"))]
                else:  # in a function, which may call itself
                    before = [ast.Expr(self._probe("enter_calls_while", site))]
                    count = [ast.Expr(self._probe("pass_of_call", site))]
            for step in (*before, *count):
                self._here(step, first_line(s))
        begun = self._loop(s)
        s.body = [*count, *s.body]
        return [*begun, *before, s]

    def _for(self, s: ast.For) -> list[ast.stmt]:
        s.target = self.inside(s.target)
        audited = self.audited_iterable(self.value(s.iter, "iterable"), s) if self.options.audit else None
        s.iter = self._metered(audited or self.value(s.iter, "iterable"), s, s.iter, self.temps)
        leaves = isinstance(s.iter, ast.IfExp) and leaves_early(s)
        recorder = self.recorder_of(s)
        if recorder is not None:
            over = ast.Attribute(self._run(recorder, run_name(s)), "over", ast.Load())
            s.iter = self._here(ast.Call(over, [s.iter], []), s.iter)
        before = self._loop(s)
        # After a `break` the iterator must not keep the list: in a line that the file does not have.
        release = [self._here(self._set(self._meter_name(s), ast.Constant(None)), self._nowhere())] if leaves else []
        return [*before, s, *release]

    def _loop(self, s: ast.For | ast.While | ast.AsyncFor) -> list[ast.stmt]:
        """The body of a loop, and its end; returns what comes before."""
        recorder = self.recorder_of(s)
        made: list[coverage.Branch] = []
        text, rest = s.body, s.orelse
        begun = self._flags(self.blocks.begins.get(id(s), []), first_line(s))
        if self.options.stream:
            key = self.sites.add(self.file, self.at, position(s), "loop") | STREAMED_LOOP
            told = self._probe("stream_add", ast.Tuple([ast.Constant(key), ast.Constant(0.0)], ast.Load()))
            begun.append(self._here(ast.Expr(told), first_line(s)))
        if recorder is not None:
            begun += self.run_begins(recorder, s)
            self.recording.append((recorder, run_name(s)))
        if self.options.marks:
            number = coverage.number_of(self.file, s.lineno, s.col_offset, "pass")
            made.append(coverage.Branch(coverage.all_marks[number], (text[0].lineno, text[-1].end_lineno or 0)))
            mark = [self._here(self._marked(number), first_line(text[0]))]
        else:
            mark = []
        if self.options.stream and self.temps:
            waiting = self._probe("stream_length", ast.Constant(MARK + "stream_pending"))
            full = ast.Compare(waiting, [ast.GtE()], [ast.Constant(MARK + "stream_most")])
            flush = ast.Expr(ast.BoolOp(ast.And(), [full, self._probe("stream_flush")]))
            mark.append(self._here(flush, first_line(text[0])))
        self.loops.append(s)
        s.body = [*mark, *self._pass_begins(s), *self.body(s.body)]
        self.loops.pop()
        if recorder is not None:
            self.recording.pop()
            s.body = self.recorded_body(s.body, recorder, s)
        s.orelse = self.branch(self.body(rest), "no more", s, made, rest)
        self.group(made, [])
        return begun

    def _asyncfor(self, s: ast.AsyncFor) -> list[ast.stmt]:
        s.iter = self.value(s.iter, "iterable")
        return self._counted(s)

    def _with(self, s: ast.With | ast.AsyncWith) -> list[ast.stmt]:
        for item in s.items:
            item.context_expr = self.inside(item.context_expr)
        s.body = [*([self._changed(s)] if self.changing else []), *self.body(s.body)]
        return [s]

    _asyncwith = _with

    def _match(self, s: ast.Match) -> list[ast.stmt]:
        s.subject = self.value(s.subject, "value")
        made: list[coverage.Branch] = []
        texts = [case.body for case in s.cases]
        for number, case in enumerate(s.cases):
            text = case.body
            if case.guard is not None:
                case.guard = self.value(case.guard, "test")
            case.body = self.branch(self.body(text), f"case {number}", case.pattern, made, text)
        if self.options.marks and not takes_all(s.cases[-1]):
            none = self.branch([], "no case", s, made, [])
            s.cases.append(self._here(ast.match_case(ast.MatchAs(), None, none), first_line(s)))
        self.group(made, texts)
        return [s]

    def _try(self, s: ast.Try) -> list[ast.stmt]:
        made: list[coverage.Branch] = []
        last, rest = s.body[-1], s.orelse
        texts = [h.body for h in s.handlers]
        s.body = self.body(s.body)
        returning = self.returning
        if isinstance(s, ast.TryStar):
            self.returning = None  # no `return` may stand in an `except*` clause
        for h in s.handlers:
            first = self.audited_handler(h) if self.options.audit else []
            h.body = [*first, *self.branch(self.body(h.body), "except", h, made, h.body)]
        self.returning = returning
        s.orelse = self.body(rest)
        if s.handlers and (rest or not hasattr(last, "body")):
            # Where the body ends in a compound statement, a mark after it would look like one more of its lines.
            s.orelse = self.branch(s.orelse, "try ends", last, made, rest)
            texts.append(rest)
        s.finalbody = self.body(s.finalbody)
        self.group(made, texts)
        return [s]

    _trystar = _try

    def _decorated(self, s: ast.FunctionDef | ast.AsyncFunctionDef | ast.ClassDef) -> None:
        for decorator in s.decorator_list:
            if isinstance(decorator, ast.Call):
                self.given(decorator)

    def _classdef(self, s: ast.ClassDef) -> list[ast.stmt]:
        self._decorated(s)
        self.given(s)
        outer, self.temps, self.readable = (self.temps, self.readable), False, set()
        with self.scope(s), self.no_recording():
            s.body = self.body(s.body, docstring=True)
        self.temps, self.readable = outer
        return [s]

    def _functiondef(self, s: ast.FunctionDef | ast.AsyncFunctionDef) -> list[ast.stmt]:
        self.defaults(s.args)
        self._decorated(s)
        outer = (self.temps, self.absorbing)
        self.temps, self.absorbing = not (self.sees_frames and sees_frame(s)), 0
        start = 1 if is_docstring(s.body[0]) else 0
        begin = s.body[min(start, len(s.body) - 1)]  # a docstring may be all
        if s.lineno in self.lines:  # the line of the `def`: its first statement
            self.lines.setdefault(begin.lineno, []).extend(self.lines.pop(s.lineno))
        first, last = begin, s.body[-1]
        outer_blocks, self.blocks = (self.blocks, self.own_names, self.readable), blocks.Plan()
        self.own_names = blocks.own_names(s) if self.options.only_checks else set()
        self.readable = self.own_names | self.globals
        if self.temps and self.in_line and self.options.at_once:
            self.blocks = blocks.plan(s, self.lines, self.functions, self.uses_numpy)
        outer_calls, self.calls = self.calls, any(isinstance(n, ast.Call) for n in walk(s))
        recorder = self.recorder_of(s)
        self.last |= {id(one) for one in last_statements(s.body)}
        with self.scope(s), self.no_recording():
            if recorder is not None:
                self.recording.append((recorder, run_name(s)))
            body = self.body(s.body, docstring=True)
            entry = [*self.function_marked(s, first), *self._flags(self.blocks.flags, first), *self._entry(first)]
            rest = [*entry, *body[start:], *self._falls_off(last)]
            if recorder is not None:
                rest = self.recorded_calls(rest or [self._here(ast.Pass(), first_line(last))], recorder, s)
            s.body = [*body[:start], *rest]
        self.calls, (self.blocks, self.own_names, self.readable) = outer_calls, outer_blocks
        self.temps, self.absorbing = outer
        return [s]

    _asyncfunctiondef = _functiondef
