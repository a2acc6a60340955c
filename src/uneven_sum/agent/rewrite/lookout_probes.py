"""The probes of lookouts within rewritten code (`rewrite/statements.py` has the whole plan).

A condition becomes code of the function that it is in.  Where that would change what the function
closes over, so that running functions could not be given the new code, it is left to be evaluated by name.
"""

from __future__ import annotations

import ast
import contextlib
import copy
from collections.abc import Iterator
from typing import Any

from ..core.markers import MARK
from ..core.trees import Loop, walk
from ..lookouts.lookout import Lookout, Plan, assigned_names, fits, tickers
from ..source.sites import Options, Sites
from ..source.source_file import SourceFile
from .audit_probes import AuditProbes


class LookoutProbes(AuditProbes):
    """Knows the function under way, and inserts what the plan wants in it."""

    def __init__(self, file: SourceFile, sites: Sites, options: Options, plan: Plan) -> None:
        super().__init__(file, sites, options)
        self.plan = plan
        self.lines = {line: list(found) for line, found in plan.lines.items()}
        self.names: list[str] = []  # of the functions and classes around
        self.bound: list[tuple[set[str], set[str]]] = []  # names bound and used by the functions around
        self.returning: bool | None = None  # in a function; True when its return may have a value
        self.watched_returns: list[Lookout] = []
        self.leaves = False  # in a function of which the last call is kept
        self.changing: list[Lookout] = self._changing()

    @property
    def sentinel(self) -> int:
        """A line that the file does not have: where a jump can set off."""
        return len(self.file.lines) + 2

    @contextlib.contextmanager
    def scope(self, node: ast.FunctionDef | ast.AsyncFunctionDef | ast.ClassDef) -> Iterator[None]:
        """Around the body of a function or class."""
        kept = (self.returning, self.watched_returns, self.changing, self.leaves)
        self.names.append(node.name)
        is_class = isinstance(node, ast.ClassDef)
        if not is_class:
            self.bound.append(assigned_names(node) if self.plan else (set(), set()))
        gives = isinstance(node, ast.FunctionDef) or not any(isinstance(n, ast.Yield) for n in walk(node))
        self.returning = None if is_class else gives
        name = ".".join(self.names)
        self.watched_returns = [] if is_class else [lk for lk in self.plan.returns if fits(lk.name, name)]
        self.changing = self._changing()
        self.leaves = self.options.left and not is_class and _has_names(node)
        yield
        if not is_class:
            self.bound.pop()
        self.names.pop()
        self.returning, self.watched_returns, self.changing, self.leaves = kept

    def _changing(self) -> list[Lookout]:
        name = ".".join(self.names)
        here = [lk for lk in self.plan.names if not lk.within or (name and fits(lk.within, name))]
        return here + self.plan.anywhere

    # -- conditions ----------------------------------------------------------------------------------

    def _condition(self, lk: Lookout) -> ast.expr | None:
        """The condition as code for this place; None where it must be evaluated by name."""
        if lk.tree is None:
            return ast.Constant(True)
        names = {n.id for n in walk(lk.tree) if isinstance(n, ast.Name)}
        if self.bound:
            mine, used = self.bound[-1]
            outer = set().union(*(bound for bound, _ in self.bound[:-1]))
            if any(n in outer and n not in used for n in names - mine):
                return None
        test = copy.deepcopy(lk.tree)
        for node in walk(test):  # it takes the place of its lookout, not its own
            for name in ("lineno", "col_offset", "end_lineno", "end_col_offset"):
                if hasattr(node, name):
                    delattr(node, name)
        return test

    def _due(self, lk: Lookout) -> tuple[ast.expr, bool]:
        """The test that precedes a lookout's probe, and whether the condition is in it."""
        test = self._condition(lk)
        if test is None or lk.expect:
            return ast.Constant(True), False
        parts = [] if isinstance(test, ast.Constant) and test.value is True else [test]
        if lk.ticked:
            tickers[lk.id] = lk.tick
            parts.append(self._probe("next", ast.Constant(f"{MARK}tick:{lk.id}")))
        if not parts:
            return ast.Constant(True), True
        return (parts[0] if len(parts) == 1 else ast.BoolOp(ast.And(), parts)), True

    # -- statements ----------------------------------------------------------------------------------

    def _lookouts_at(self, s: ast.stmt) -> list[ast.stmt]:
        """The probes before the first statement of a line."""
        found = self.lines[s.lineno]
        if isinstance(s, (ast.For, ast.AsyncFor)):
            each = [lk for lk in found if lk.each_pass]
            found = [lk for lk in found if lk not in each]
            self.lines[s.lineno] = each  # at the beginning of each pass
            if not found:
                return []
        else:
            del self.lines[s.lineno]
        return self._probes(found, s)

    def _pass_begins(self, s: Loop) -> list[ast.stmt]:
        """At the beginning of a pass: a `for` line's lookouts with a condition or count; changed targets."""
        found = self.lines.pop(s.lineno, []) if isinstance(s, (ast.For, ast.AsyncFor)) else []
        changed = [self._changed(s)] if self.changing and isinstance(s, (ast.For, ast.AsyncFor)) else []
        return [*changed, *(self._probes(found, s) if found else [])]

    def _probes(self, found: list[Lookout], s: ast.stmt) -> list[ast.stmt]:
        like = ast.Pass(lineno=s.lineno, end_lineno=s.lineno, col_offset=s.col_offset, end_col_offset=s.col_offset)
        steps: list[ast.stmt] = []
        for lk in found:
            steps.append(self._one(lk, "note" if len(found) > 1 else "lookout"))
        if len(found) > 1:
            steps.append(ast.Expr(self._probe("decide", self._site("lookout", lookouts=found))))
        steps = [self._here(step, like) for step in steps]
        # The line event that lets another line be made the next one.
        line = self.sentinel
        steps.append(ast.Pass(lineno=line, end_lineno=line, col_offset=0, end_col_offset=0))
        return steps

    def _one(self, lk: Lookout, probe: str) -> ast.stmt:
        test, inline = self._due(lk)
        site = self._site("lookout" if inline else "by name", lookouts=[lk])
        call: ast.stmt = ast.Expr(self._probe(probe, site))
        if isinstance(test, ast.Constant):
            return call
        asked: ast.stmt = ast.If(test, [call], [])
        if lk.tree is None:
            return asked
        failed = ast.Expr(self._probe("condition_failed", site))
        kind = ast.Constant(MARK + "Exception")
        return ast.Try([asked], [ast.ExceptHandler(kind, None, [failed])], [], [])

    def _in_expression(self, lk: Lookout, answer: bool) -> ast.expr:
        """A probe that can stand in an expression and answers so; its condition is called, so that what it
        raises is not raised in the script."""
        test, inline = self._due(lk)
        site = self._site("lookout" if inline else "by name", lookouts=[lk])
        name = "element" if answer else "at_while"
        if isinstance(test, ast.Constant):
            return self._probe(name, site)
        nothing = ast.arguments(posonlyargs=[], args=[], kwonlyargs=[], kw_defaults=[], defaults=[])
        return self._probe(name, site, ast.Lambda(nothing, test))

    def _entry(self, first: ast.stmt) -> list[ast.stmt]:
        name = ".".join(self.names)
        found = [lk for lk in self.plan.entries if fits(lk.name, name)]
        steps: list[ast.stmt] = []
        outer, self.at = self.at, (first.lineno, first.col_offset, first.end_lineno or 0, first.end_col_offset or 0)
        if self.changing:
            site = self._site("lookout", lookouts=self.changing)
            steps.append(self._here(ast.Expr(self._probe("begins", site)), first))
        if found:
            steps += self._probes(found, first)
        self.at = outer
        return steps

    def _watched_return(self, value: ast.expr, like: ast.AST) -> ast.expr:
        if self.leaves:
            value = self._here(self._probe("left", value, self._site("left")), like)
        for lk in self.watched_returns:
            test, inline = self._due(lk)
            site = self._site("lookout" if inline else "by name", lookouts=[lk])
            args = [value, site]
            if not isinstance(test, ast.Constant):
                args.append(_of_one("returned", test))
            value = self._here(self._probe("returning", *args), like)
        return value

    def _falls_off(self, last: ast.stmt) -> list[ast.stmt]:
        """The end of a function that is reached without `return`."""
        if not (self.watched_returns or self.leaves) or isinstance(last, (ast.Return, ast.Raise)):
            return []
        outer, self.at = self.at, (last.lineno, last.col_offset, last.end_lineno or 0, last.end_col_offset or 0)
        told = self._here(ast.Expr(self._watched_return(ast.Constant(None), last)), last)
        self.at = outer
        return [told]

    def _changed(self, s: ast.stmt) -> ast.stmt:
        outer, self.at = self.at, (s.lineno, s.col_offset, s.end_lineno or 0, s.end_col_offset or 0)
        site = self._site("lookout", lookouts=self.changing)
        self.at = outer
        return self._here(ast.Expr(self._probe("changed", site)), s)

    # -- lambdas and comprehensions ------------------------------------------------------------------

    def _watched_lambda(self, node: ast.Lambda) -> None:
        for lk in self._on_lines(self.plan.lambdas, node):
            probe = self._in_expression(lk, True)
            node.body = self._here(ast.IfExp(probe, node.body, ast.Constant(None)), node)

    def _watched_elements(self, node: Any) -> None:
        for lk in self._on_lines(self.plan.elements, node):
            node.generators[-1].ifs.append(self._here(self._in_expression(lk, True), node.generators[-1].iter))

    @staticmethod
    def _on_lines(plan: dict[int, list[Lookout]], node: ast.expr) -> list[Lookout]:
        return [lk for line, found in plan.items() if node.lineno <= line <= (node.end_lineno or 0) for lk in found]


def _of_one(name: str, body: ast.expr) -> ast.Lambda:
    args = ast.arguments(posonlyargs=[], args=[ast.arg(name)], kwonlyargs=[], kw_defaults=[], defaults=[])
    return ast.Lambda(args, body)


def _has_names(node: ast.FunctionDef | ast.AsyncFunctionDef | ast.ClassDef) -> bool:
    """Whether a function stores in names of its own, and is no generator or coroutine, whose end is another's step."""
    if isinstance(node, ast.AsyncFunctionDef) or any(isinstance(n, (ast.Yield, ast.YieldFrom)) for n in walk(node)):
        return False
    return any(isinstance(n, ast.Name) and isinstance(n.ctx, ast.Store) for n in walk(node))
