"""Which finding follows from which: one cause is one finding, and what its value leads to is listed under it.

The way of a value is read from the text: names that a statement sets from it, calls that give it back.  Only rules
that a wrong value of the other sets off count, so that two faults in a row stay two findings.
"""

from __future__ import annotations

import ast
from collections.abc import Iterator

from ..source.source_file import Statement
from .finding import Finding

LEADS_TO = {
    "wrap": {"wrap", "cancellation", "instability", "wraparound-index", "out-of-range", "underflow", "unsorted"},
    "cancellation": {"cancellation", "float-equality", "instability", "ill-conditioned", "ignored-failure"},
    "ill-conditioned": {"ill-conditioned", "cancellation", "float-equality", "instability"},
    "instability": {"instability", "cancellation", "out-of-range", "ignored-failure"},
    "underflow": {"underflow", "cancellation"},
    "text-arithmetic": {"text-arithmetic", "missing"},
    "narrowing": {"narrowing", "duplicated-rows", "lost-rows", "float-equality"},
    "dates": {"unsorted", "lost-rows", "missing"},
    "unsorted": {"unsorted", "out-of-range"},
    "lost-rows": {"missing", "narrowing", "alignment"},
    "alignment": {"missing", "narrowing", "alignment"},
    "swallowed": {"missing"},
    "missing": {"missing"},
    "no-spread": {"no-spread", "cancellation"},
    "broadcast": {"broadcast", "missing"},
    "alias": {"alias"},
    "ignored-failure": {"cancellation", "out-of-range"},
}
MOST = 200  # findings that are compared with each other


def grouped(findings: list[Finding]) -> list[Finding]:
    """The causes, in the order given, each with what follows from it in `follows`."""
    for one in findings:
        one.follows = []
    if len(findings) > MOST:
        return findings
    under: dict[int, Finding] = {}
    for cause in sorted(findings, key=lambda f: (f.place.file, f.place.line)):
        wanted = [
            f
            for f in findings
            if f is not cause
            and id(f) not in under
            and f.rule in LEADS_TO.get(cause.rule, ())
            and f.place.file == cause.place.file
            and f.question >= cause.question
            and _top(under, cause) is not f
        ]
        if wanted:
            way = _Way(cause)
            for one in wanted:
                if way.reaches(one):
                    under[id(one)] = cause
    for one in findings:
        if id(one) in under:
            _top(under, one).follows.append(one)
    return [f for f in findings if id(f) not in under]


def _top(under: dict[int, Finding], one: Finding) -> Finding:
    while id(one) in under:
        one = under[id(one)]
    return one


class _Way:
    """Where the value of a finding's term goes: by statement, the names that hold something made from it."""

    def __init__(self, cause: Finding) -> None:
        self.cause = cause
        self.file = cause.place.site.file
        self.holding: dict[int, set[str]] = {}  # by statement, before it runs
        self.functions: set[str] = set()  # that give it back
        own = self.file.innermost(cause.place.line, cause.place.position[1])
        self.own = own
        if own is None:
            return
        for scope in self._scopes(own):
            self._follow(scope, own)

    def _scopes(self, own: Statement) -> list[ast.AST]:
        """The cause's own function first, then all others, which may call it."""
        found = [own.scope]
        for s in self.file.statements:
            if s.scope not in found:
                found.append(s.scope)
        return found

    def _follow(self, scope: ast.AST, own: Statement) -> None:
        if scope is not own.scope and not self.functions:
            return
        statements = [s for s in self.file.statements if s.scope is scope]
        holding: set[str] = set()
        again = [s for s in statements if own.loops and own.loops[0] in s.loops] if scope is own.scope else []
        for s in [*statements, *again]:
            self.holding[id(s.node)] = self.holding.get(id(s.node), set()) | holding
            targets = set(_targets(s.node))
            if s.node is own.node or self._reads(_heads(s.node), holding):
                holding |= targets
                if isinstance(s.node, ast.Return) and isinstance(scope, (ast.FunctionDef, ast.AsyncFunctionDef)):
                    self.functions.add(scope.name)
            elif isinstance(s.node, (ast.Assign, ast.AnnAssign)):
                holding -= {t for t in targets if t.isidentifier()}

    def _reads(self, nodes: list[ast.AST], holding: set[str]) -> bool:
        return any(
            name in holding or (called and name in self.functions) for node in nodes for name, called in _read(node)
        )

    def reaches(self, other: Finding) -> bool:
        """Whether the other finding's term is made from the value."""
        inner, outer = self.cause.place, other.place
        if inner.position == outer.position:
            return True
        statement = self.file.innermost(outer.line, outer.position[1])
        if statement is None:
            return False
        if (
            self.own is not None
            and statement.node is self.own.node
            and any(n is inner.node for n in ast.walk(outer.node))
        ):
            return True
        return self._reads([outer.node], self.holding.get(id(statement.node), set()))


def _heads(node: ast.stmt) -> list[ast.AST]:
    """What a statement itself reads, without the statements inside it."""
    found: list[ast.AST] = []
    for name, value in ast.iter_fields(node):
        if name not in ("body", "orelse", "finalbody", "handlers", "cases", "decorator_list"):
            found += [v for v in (value if isinstance(value, list) else [value]) if isinstance(v, ast.AST)]
    return found


def _read(node: ast.AST) -> Iterator[tuple[str, bool]]:
    """The names that are read, `self.level` as such, and whether they are called."""
    for n in ast.walk(node):
        if isinstance(n, ast.Call) and isinstance(n.func, (ast.Name, ast.Attribute)):
            yield n.func.id if isinstance(n.func, ast.Name) else n.func.attr, True
        elif isinstance(n, ast.Name) and isinstance(n.ctx, ast.Load):
            yield n.id, False
        elif isinstance(n, ast.Attribute):
            yield ast.unparse(n), False


def _targets(node: ast.stmt) -> Iterator[str]:
    """The names that a statement sets or, by a method such as `append`, changes."""
    targets: list[ast.expr] = []
    if isinstance(node, ast.Assign):
        targets = node.targets
    elif isinstance(node, (ast.AugAssign, ast.AnnAssign, ast.For, ast.AsyncFor)):
        targets = [node.target]
    elif isinstance(node, (ast.With, ast.AsyncWith)):
        targets = [i.optional_vars for i in node.items if i.optional_vars is not None]
    elif isinstance(node, ast.Expr) and isinstance(node.value, ast.Call) and isinstance(node.value.func, ast.Attribute):
        targets = [node.value.func.value]
    while targets:
        one = targets.pop()
        if isinstance(one, (ast.Tuple, ast.List)):
            targets += one.elts
        elif isinstance(one, (ast.Subscript, ast.Starred)):
            targets.append(one.value)
        elif isinstance(one, ast.Name):
            yield one.id
        elif isinstance(one, ast.Attribute):
            yield ast.unparse(one)
