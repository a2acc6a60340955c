"""Puts into a module's tree what an origin search needs (`origin/watched.py` has what the probes do).

After each statement that binds the watched name in its scope: ‹bound›; where the place is within the name's object,
after each statement that may change an object: ‹maybe›; and before the statement at which the search ends: ‹stop›.
Values within heads and `return` go through ‹through›.  The search runs without other checks, so that a loop costs
little more than in a plain run.
"""

from __future__ import annotations

import ast
import copy
import os
from typing import TypeVar

from ..core.markers import MARK
from ..core.trees import walk
from ..source.sites import Sites
from ..source.source_file import SourceFile, position
from ..source.wanted import Wanted
from .placing import placed
from .predicates import is_docstring, is_future, names_bound, repeatable

N = TypeVar("N", bound=ast.AST)
FUNCTIONS = (ast.FunctionDef, ast.AsyncFunctionDef)
INNER_SCOPES = (*FUNCTIONS, ast.ClassDef, ast.Lambda)
# Methods that change what they are called on.
CHANGING = {
    "append",
    "extend",
    "insert",
    "pop",
    "remove",
    "clear",
    "sort",
    "reverse",
    "update",
    "setdefault",
    "popitem",
}
CHANGING |= {
    "add",
    "discard",
    "appendleft",
    "popleft",
    "rotate",
    "fill",
    "put",
    "resize",
    "partition",
    "itemset",
    "byteswap",
}
CHANGES = (ast.Call, ast.Await, ast.Yield, ast.YieldFrom)


class Inserter:
    """Inserts the probes into one module."""

    def __init__(self, file: SourceFile, sites: Sites, wanted: Wanted) -> None:
        path = os.path.realpath(file.path)
        self.file, self.sites, self.wanted = file, sites, wanted
        self.mine, self.stops = path == wanted.file, path == wanted.stop_file
        self.names: list[str] = []  # of the functions and classes around
        self.declared: list[set[str]] = []  # of each function around: its global and nonlocal names

    def module(self, tree: ast.Module) -> None:
        tree.body = self.body(tree.body)

    # -- what is where -------------------------------------------------------------------------------

    def binds_here(self, s: ast.AST) -> bool:
        """Whether the head of a statement binds the watched name."""
        if not self.mine or self.wanted.returns or not self.in_scope():
            return False
        if isinstance(s, ast.AnnAssign) and s.value is None:
            return False  # it only says a type
        hidden = {id(n) for n in own(s) if isinstance(n, ast.comprehension) for n in walk(n.target)}
        return any(self.wanted.name in names_bound(node) for node in own(s) if id(node) not in hidden)

    def in_scope(self) -> bool:
        """Whether a name here is the watched one."""
        scope, here = self.wanted.scope, ".".join(self.names)
        declared = self.declared[-1] if self.declared else set()
        if scope == here:
            return self.wanted.name not in declared or not scope
        return self.wanted.name in declared and (not scope or here.startswith(scope + "."))

    def probe(self, name: str, like: ast.AST, *args: ast.expr) -> ast.Call:
        site = ast.Constant(self.sites.add(self.file, position(like), None, "origin"))
        return ast.Call(ast.Constant(MARK + "origin_" + name), [site, *args], [])

    def step(self, name: str, like: ast.AST, *args: ast.expr) -> ast.stmt:
        first = ast.Pass(lineno=getattr(like, "lineno"), col_offset=getattr(like, "col_offset"))
        first.end_lineno, first.end_col_offset = first.lineno, first.col_offset
        return placed(ast.Expr(self.probe(name, like, *args)), first)

    def is_stop(self, s: ast.stmt) -> bool:
        stop = self.wanted.stop
        if not self.stops or stop is None or self.wanted.enter:
            return False
        return s.lineno == stop if isinstance(stop, int) else position(s) == stop

    # -- statements ----------------------------------------------------------------------------------

    def body(self, statements: list[ast.stmt]) -> list[ast.stmt]:
        out: list[ast.stmt] = []
        for number, s in enumerate(statements):
            if (number == 0 and is_docstring(s)) or is_future(s):
                out.append(s)
                continue
            out += self.statement(s)
        return out

    def statement(self, s: ast.stmt) -> list[ast.stmt]:
        before = [self.step("stop", s)] if self.is_stop(s) else []
        noted = self.noted(s)
        if self.reads(s):
            before.append(self.step("used", s, ast.Name(self.wanted.name, ast.Load()), *self.indices(s)))
        if any(isinstance(n, CHANGES) for n in own(s)) and self.counted(s, noted):
            before.append(self.step("begin", s))
        if isinstance(s, FUNCTIONS):
            self.function(s)
        elif isinstance(s, ast.ClassDef):
            self.names.append(s.name)
            s.body = self.body(s.body)
            self.names.pop()
        elif isinstance(s, (ast.For, ast.AsyncFor)):
            s.iter = self.through(s.iter, s)
            s.body = [*noted, *before[:1], *self.body(s.body)] if self.is_stop(s) else [*noted, *self.body(s.body)]
            s.orelse = self.body(s.orelse)
            return [*(before if isinstance(self.wanted.stop, int) or self.wanted.uses else []), s]
        elif isinstance(s, (ast.If, ast.While)):
            s.test = self.through(s.test, s)
            if before and isinstance(s, ast.While):  # before each pass
                calls = [step.value for step in before if isinstance(step, ast.Expr)]
                s.test = placed(ast.BoolOp(ast.Or(), [*calls, s.test]), s.test)
                before = []
            s.body, s.orelse = self.body(s.body), self.body(s.orelse)
            noted = []
        elif isinstance(s, (ast.With, ast.AsyncWith)):
            s.body = [*noted, *self.body(s.body)]
            noted = self.noted(s)[-1:] if self.wanted.within else []  # leaving it may change something, too
        elif isinstance(s, (ast.Try, ast.TryStar)):
            s.body, s.orelse, s.finalbody = self.body(s.body), self.body(s.orelse), self.body(s.finalbody)
            for handler in s.handlers:
                first = self.noted(handler) if handler.name else []
                handler.body = [*first, *self.body(handler.body)]
            noted = []
        elif isinstance(s, ast.Match):
            s.subject = self.through(s.subject, s)
            for case in s.cases:
                captures = (
                    self.mine and self.in_scope() and any(self.wanted.name in names_bound(n) for n in own(case.pattern))
                )
                first = [self.step("bound", s, ast.Name(self.wanted.name, ast.Load()))] if captures else []
                case.body = [*first, *self.body(case.body)]
            noted = []
        elif isinstance(s, ast.Return):
            return [*before, *([self.step("leaving", s)] if self.leaves_here() else []), self.returned(s)]
        elif isinstance(s, ast.Raise):
            noted = []
        return [*before, s, *noted]

    def counted(self, s: ast.stmt, noted: list[ast.stmt]) -> bool:
        """Whether executions of a statement are counted as they begin: another may begin before one has ended."""
        if isinstance(s, ast.Return):
            return self.wanted.within or (self.mine and self.wanted.returns)
        return bool(noted) and not isinstance(s, (ast.For, ast.AsyncFor, ast.While))

    def reads(self, s: ast.stmt) -> bool:
        """Whether the head of a statement reads the watched name."""
        if not self.wanted.uses or not self.mine or not (self.in_scope() or self.closes_over()):
            return False
        found = [n for n in own(s) if isinstance(n, ast.Name) and n.id == self.wanted.name]
        stored = {id(n.value) for n in own(s) if isinstance(n, (ast.Subscript, ast.Attribute)) and _is_store(n)}
        changed = isinstance(s, ast.AugAssign) and bool(found)
        return changed or any(isinstance(n.ctx, ast.Load) and id(n) not in stored for n in found)

    def closes_over(self) -> bool:
        """In a function within the name's scope, which reads it without declaring it."""
        return not self.wanted.scope or ".".join(self.names).startswith(self.wanted.scope + ".")

    def indices(self, s: ast.stmt) -> list[ast.expr]:
        """The indices with which a statement reads the name's object; none where it may read all of it."""
        read = [n for n in own(s) if isinstance(n, ast.Subscript) and getattr(n.value, "id", "") == self.wanted.name]
        names = [n for n in own(s) if isinstance(n, ast.Name) and n.id == self.wanted.name]
        if len(read) != len(names) or not all(repeatable(n) for n in read):
            return []
        return [_index(n.slice) for n in read if isinstance(n.ctx, ast.Load) or isinstance(s, ast.AugAssign)]

    def noted(self, s: ast.AST) -> list[ast.stmt]:
        """The probes after a statement, or at the beginning of its body."""
        found: list[ast.stmt] = []
        if self.binds_here(s):
            if isinstance(s, ast.Delete):
                found.append(self.step("gone", s))
            else:
                found.append(self.step("bound", s, ast.Name(self.wanted.name, ast.Load())))
        if self.wanted.within and not self.wanted.uses:
            stores = [t for t in own(s) if isinstance(t, ast.Subscript) and not isinstance(t.ctx, ast.Load)]
            simple = [t for t in stores if repeatable(t)]
            touched = self.touched(s) if self.wanted.whole else self.outputs(s)
            if touched:
                found.append(self.step("touched", s, *touched))
            elif simple:
                pairs = [part for one in simple for part in (_loaded(one.value), _index(one.slice))]
                found.append(self.step("stored", s, *pairs))
            elif stores or any(_may_change(node) for node in own(s)):
                found.append(self.step("maybe", s))
        return found

    @staticmethod
    def outputs(s: ast.AST) -> list[ast.expr]:
        """The arrays that `out=` names."""
        named = [k.value for n in own(s) if isinstance(n, ast.Call) for k in n.keywords if k.arg == "out"]
        return [_loaded(node) for node in named if repeatable(node)]

    @staticmethod
    def touched(s: ast.AST) -> list[ast.expr]:
        """The objects that a statement changes in place, as far as that can be seen in its text."""
        found: list[ast.expr] = []
        for node in own(s):
            if isinstance(node, (ast.Subscript, ast.Attribute)) and not isinstance(node.ctx, ast.Load):
                found.append(node.value)
            elif isinstance(node, ast.AugAssign) and isinstance(node.target, ast.Name):
                found.append(node.target)
            elif isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute):
                in_place = any(k.arg == "inplace" for k in node.keywords)
                if node.func.attr in CHANGING or in_place:
                    found.append(node.func.value)
            if isinstance(node, ast.Call):
                found += [k.value for k in node.keywords if k.arg == "out"]
        return [_loaded(node) for node in found if repeatable(node)]

    def function(self, s: ast.FunctionDef | ast.AsyncFunctionDef) -> None:
        self.names.append(s.name)
        self.declared.append({n for d in own(s, True) if isinstance(d, (ast.Global, ast.Nonlocal)) for n in d.names})
        here, wanted = ".".join(self.names), self.wanted
        first = s.body[min(int(is_docstring(s.body[0])), len(s.body) - 1)]
        entered: list[ast.stmt] = []
        if self.mine and wanted.scope == here and not wanted.returns:
            arguments = [*s.args.posonlyargs, *s.args.args, *s.args.kwonlyargs]
            names = [a.arg for a in (*arguments, s.args.vararg, s.args.kwarg) if a is not None]
            given = [ast.Name(wanted.name, ast.Load())] if wanted.name in names else []
            entered.append(self.step("enter", s, *given))
        if self.stops and wanted.enter and wanted.stop == position(s):
            entered.append(self.step("stop", s))
        body = self.body(s.body)
        if self.leaves_here():
            body.append(self.step("leaving", s.body[-1]))
        begin = int(is_docstring(s.body[0]))
        s.body = [*body[:begin], *(placed(step, first) for step in entered), *body[begin:]]
        self.declared.pop()
        self.names.pop()

    def leaves_here(self) -> bool:
        return self.mine and self.wanted.leaves and self.wanted.scope == ".".join(self.names)

    def returned(self, s: ast.Return) -> ast.stmt:
        if self.mine and self.wanted.returns and self.wanted.scope == ".".join(self.names):
            value = s.value or placed(ast.Constant(None), s)
            s.value = placed(self.probe("returned", s, value), value)
        elif s.value is not None:
            s.value = self.through(s.value, s)
        return s

    def through(self, node: ast.expr, s: ast.stmt) -> ast.expr:
        """An expression of a head that may change an object."""
        if self.wanted.within and any(_may_change(n) for n in own(node)):
            return placed(self.probe("through", s, node), node)
        return node


def own(node: ast.AST, body: bool = False) -> list[ast.AST]:
    """What is in a statement's head, or in a simple statement; not in the bodies of functions within it.

    `body`: in the statements of a body, too."""
    found, todo = [], [node]
    while todo:
        one = todo.pop()
        found.append(one)
        if one is not node and isinstance(one, INNER_SCOPES):
            continue
        for name, value in ast.iter_fields(one):
            if not body and name in ("body", "orelse", "finalbody", "handlers", "cases") and isinstance(value, list):
                continue
            if one is node and isinstance(one, FUNCTIONS) and name != "body":
                continue
            todo += [v for v in (value if isinstance(value, list) else [value]) if isinstance(v, ast.AST)]
    return found


def _may_change(node: ast.AST) -> bool:
    """Whether a node may change an object in place."""
    if isinstance(node, (*CHANGES, ast.AugAssign)):
        return True
    return isinstance(node, (ast.Attribute, ast.Subscript)) and not isinstance(node.ctx, ast.Load)


def _is_store(node: ast.Subscript | ast.Attribute) -> bool:
    return not isinstance(node.ctx, ast.Load)


def _loaded(node: ast.expr) -> ast.expr:
    """A copy of an expression without places, to be read."""
    found = _unplaced(copy.deepcopy(node))
    if isinstance(found, (ast.Name, ast.Attribute, ast.Subscript)):
        found.ctx = ast.Load()
    return found


def _index(node: ast.expr) -> ast.expr:
    """What stands between the brackets, as an object."""
    found: ast.expr = _Sliced().visit(copy.deepcopy(node))
    return _unplaced(found)


class _Sliced(ast.NodeTransformer):
    def visit_Slice(self, node: ast.Slice) -> ast.expr:
        parts = [part or ast.Constant(None) for part in (node.lower, node.upper, node.step)]
        return ast.Call(ast.Constant(MARK + "slice"), parts, [])


def _unplaced(node: N) -> N:
    for one in walk(node):
        for name in ("lineno", "col_offset", "end_lineno", "end_col_offset"):
            one.__dict__.pop(name, None)
    return node
