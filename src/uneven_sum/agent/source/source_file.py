"""What the user's files say: pristine syntax trees, and what surrounds each statement.

The rewriter works on a tree of its own; everything that is shown or judged later is looked up here by
position, in a tree that no probe has touched.
"""

from __future__ import annotations

import ast
import bisect
import io
import sys
import tokenize
import zlib
from dataclasses import field
from typing import Union

from ..core import run_state
from ..core.deep import with_room
from ..core.records import record
from ..core.trees import Loop, walk
from . import cells

Position = tuple[int, int, int, int]  # first line, first column (bytes), last line, last column
FunctionNode = Union[ast.FunctionDef, ast.AsyncFunctionDef, ast.Lambda]
LOOPS = (ast.For, ast.AsyncFor, ast.While)
COMPREHENSIONS = (ast.ListComp, ast.SetComp, ast.DictComp, ast.GeneratorExp)
SCOPES = (ast.FunctionDef, ast.AsyncFunctionDef, ast.Lambda, ast.ClassDef)


def _first_line(node: ast.stmt) -> int:
    decorators = getattr(node, "decorator_list", [])
    return min(node.lineno, decorators[0].lineno) if decorators else node.lineno


def position(node: ast.AST) -> Position:
    # mypy: only of nodes with places
    return (node.lineno, node.col_offset, node.end_lineno, node.end_col_offset)  # type: ignore[attr-defined]


@record
class Handler:
    """One thing around a statement that may catch: the class expressions of an `except` clause
    (None: catches all), or the arguments of `contextlib.suppress`.  `parts`: of a group it catches the exceptions
    that fit (`except*`; since 3.12 `suppress`).  `raises`: what the clause surely ends in raising.  `manager`: any
    other context manager, which catches nothing itself."""

    classes: list[ast.expr] | None
    parts: bool = False
    raises: ast.Raise | None = None
    name: str | None = None
    manager: ast.expr | None = None


@record
class Statement:
    """A statement with its surroundings, all within one function (or class body, or module)."""

    node: ast.stmt
    scope: ast.AST
    loops: list[Loop] = field(default_factory=list)  # innermost last
    handlers: list[Handler] = field(default_factory=list)  # innermost last
    head_end: int = 0  # last line of a compound statement's head

    @property
    def line(self) -> int:
        return self.node.lineno


class SourceFile:
    """One user file, as it was when it was loaded.

    What is found out when it is first asked for is put in place whole, and once: the handler of a signal, or another
    thread, may ask in the midst of that, and nodes are told apart by identity.
    """

    def __init__(self, path: str, data: bytes) -> None:
        self.path = path
        self.shown = ""  # what a text that is in no file is called
        self.cells = cells.known.get(path)  # of a notebook, whose Python is what runs
        self.data = data if self.cells is None else self.cells.python.encode()
        self._tree: ast.Module | None = None
        self._statements: list[Statement] | None = None
        self._own_functions: frozenset[str] | None = None
        self._numpy_names: tuple[frozenset[str], frozenset[str]] | None = None
        self._tops: list[tuple[int, int]] | None = None  # first line, and number, of each top-level statement
        self._by_position: dict[Position, list[ast.AST]] | None = None
        self._statement_of: dict[Position, Statement] = {}
        self._text: str | None = None
        self._print: int | None = None
        self._lines: list[str] | None = None

    @property
    def text(self) -> str:
        if self._text is None:
            self._text = decode(self.data) if self.cells is None else self.cells.text
        return self._text

    @property
    def lines(self) -> list[str]:
        """As the parser counts them: a form feed, say, ends none."""
        if self._lines is None:
            self._lines = self.text.removesuffix("\n").split("\n")
        return self._lines

    @property
    def print(self) -> int:
        """What distinguishes this text of the file from another one."""
        if self._print is None:
            self._print = zlib.crc32(self.data if self.cells is None else self.cells.text.encode())
        return self._print

    @property
    def tree(self) -> ast.Module:
        if self._tree is None:
            with run_state.no_collection():
                made = ast.parse(self.data, self.path)
            if self._tree is None:
                self._tree = made
        return self._tree

    @property
    def flags(self) -> int:
        """Of `compile`."""
        return 0 if self.cells is None else ast.PyCF_ALLOW_TOP_LEVEL_AWAIT

    @property
    def own_functions(self) -> frozenset[str]:
        """The names of functions and classes that the file defines."""
        if self._own_functions is None:
            kinds = (ast.FunctionDef, ast.AsyncFunctionDef, ast.ClassDef)
            self._own_functions = frozenset(n.name for n in walk(self.tree) if isinstance(n, kinds))
        return self._own_functions

    @property
    def numpy_names(self) -> tuple[frozenset[str], frozenset[str]]:
        """What the file calls NumPy, and the functions that it imports from it; not what it also binds itself."""
        if self._numpy_names is None:
            modules, functions = set(), set()
            for node in walk(self.tree):
                if isinstance(node, ast.Import):
                    modules |= {one.asname or one.name for one in node.names if one.name == "numpy"}
                elif isinstance(node, ast.ImportFrom) and node.module == "numpy":
                    functions |= {one.name for one in node.names if one.asname in (None, one.name)}
            own = {n.id for n in walk(self.tree) if isinstance(n, ast.Name) and not isinstance(n.ctx, ast.Load)}
            own |= {n.arg for n in walk(self.tree) if isinstance(n, ast.arg)} | self.own_functions
            self._numpy_names = frozenset(modules - own), frozenset(functions - own)
        return self._numpy_names

    @property
    def statements(self) -> list[Statement]:
        """Every statement of the file, outer before inner."""
        if self._statements is None:
            with run_state.no_collection():
                try:
                    made = list(_Surroundings(self.tree).found)
                except RecursionError:  # hundreds of `elif`
                    made = with_room(lambda: list(_Surroundings(self.tree).found))
            by_position = {position(s.node): s for s in made}
            if self._statements is None:
                self._statements, self._statement_of = made, by_position
        return self._statements

    def statement(self, at: Position) -> Statement | None:
        return (self.statements and self._statement_of.get(at)) or None

    def scope_text(self, at: Position) -> str:
        """The text of the function or class around a statement; at the top level, that of the file."""
        found = self.statement(at)
        if found is None or not isinstance(found.scope, SCOPES):
            return self.text
        return "\n".join(self.lines[found.scope.lineno - 1 : found.scope.end_lineno])

    def loop_at(self, line: int) -> ast.stmt | None:
        """The loop that begins at a line."""
        return next((s.node for s in self.statements if s.line == line and isinstance(s.node, LOOPS)), None)

    def innermost(self, line: int, column: int | None = None) -> Statement | None:
        """The innermost statement that covers a line (and column, in bytes, where known)."""
        best: Statement | None = None
        for s in self._near(line):
            first, last = _first_line(s.node), s.node.end_lineno or s.node.lineno
            decorators = getattr(s.node, "decorator_list", [])
            if not first <= line <= last:
                continue
            if column is not None and first == line and s.node.col_offset > column and not decorators:
                continue
            if (
                column is not None
                and last == line
                and best is not None
                and (s.node.end_col_offset or 0) <= column
                and position(best.node)[0] <= line
            ):
                continue
            best = s
            if column is None and s.line == line and not hasattr(s.node, "body"):
                return s  # the first of several statements on one line
        return best

    def _near(self, line: int) -> list[Statement]:
        """The statements that may cover a line: those of the top-level statements that begin at or before it."""
        statements = self.statements
        if self._tops is None:
            top = {id(node) for node in self.tree.body}
            self._tops = [(_first_line(s.node), n) for n, s in enumerate(statements) if id(s.node) in top]
        tops = self._tops
        at = bisect.bisect_right(tops, (line, len(statements)))
        end = tops[at][1] if at < len(tops) else len(statements)
        at -= 1
        while at > 0 and (statements[tops[at - 1][1]].node.end_lineno or 0) >= line:
            at -= 1  # several statements on one line
        return statements[tops[at][1] if at >= 0 else 0 : end]

    def node(self, at: Position, kind: type | None = None) -> ast.AST | None:
        """The pristine node at exactly this position; the outermost if several share it."""
        if self._by_position is None:
            made: dict[Position, list[ast.AST]] = {}
            for node in walk(self.tree):
                if hasattr(node, "lineno"):
                    made.setdefault(position(node), []).append(node)
            self._by_position = made
        for node in self._by_position.get(at, []):
            if (kind is None and isinstance(node, ast.expr)) or (kind and isinstance(node, kind)):
                return node
        return None

    def segment(self, node: ast.AST) -> str:
        """The source text of a node on one line, blanks folded."""
        if hasattr(node, "shown_as"):
            return str(node.shown_as)
        found = self._between(node)
        return " ".join(found.split()) if found else ast.unparse(node)

    def _between(self, node: ast.AST) -> str:
        """The text of a node.  `ast.get_source_segment` takes all lines apart each time, and minutes for a long one."""
        first, start, last, end = position(node)
        if last is None or end is None or not 1 <= first <= last <= len(self.lines):
            return ""
        lines = self.lines[first - 1 : last]
        lines[-1] = lines[-1].encode()[:end].decode(errors="replace")
        lines[0] = lines[0].encode()[start:].decode(errors="replace")
        return "\n".join(lines)

    def statement_text(self, s: Statement) -> str:
        """The source text of a statement; of a compound one, its head."""
        lines = self.lines
        if not hasattr(s.node, "body"):
            return self._between(s.node)
        head = "\n".join(lines[s.node.lineno - 1 : max(s.head_end, s.node.lineno)])
        return head.strip()


def last_statements(body: list[ast.stmt]) -> list[ast.stmt]:
    """The statements of a function's body after which no other one of it comes."""
    last = body[-1]
    inner = [last.body, last.orelse] if isinstance(last, ast.If) else [last.body] if isinstance(last, ast.With) else []
    if isinstance(last, (ast.Try, ast.TryStar)):
        inner = [last.finalbody] if last.finalbody else [last.orelse or last.body, *(h.body for h in last.handlers)]
    if isinstance(last, ast.Match):
        inner = [case.body for case in last.cases]
    return [s for part in inner if part for s in last_statements(part)] if inner else [last]


def is_compound(node: ast.stmt) -> bool:
    """True for statements that hold others."""
    return hasattr(node, "body") or isinstance(node, ast.Match)


def decode(data: bytes) -> str:
    """Source bytes as text, by the cookie or BOM, with universal newlines."""
    try:
        encoding, _ = tokenize.detect_encoding(io.BytesIO(data).readline)
        text = data.decode(encoding)
    except (SyntaxError, UnicodeDecodeError, LookupError):
        text = data.decode("utf-8", "replace")
    return text.replace("\r\n", "\n").replace("\r", "\n")


def head_end(node: ast.AST) -> int:
    """The last line of a compound statement's head (its own expressions, not its body)."""
    last: int = node.lineno  # type: ignore[attr-defined]  # only of nodes with places
    for name in ("test", "iter", "subject", "target", "args", "returns"):
        part = getattr(node, name, None)
        if part is not None:
            for sub in walk(part):
                last = max(last, getattr(sub, "end_lineno", 0) or 0)
    for item in getattr(node, "items", []):
        last = max(last, item.context_expr.end_lineno or 0)
    for base in [*getattr(node, "bases", []), *getattr(node, "keywords", [])]:
        last = max(last, base.end_lineno or 0)
    return last


class _Surroundings:
    """Walks a module once and notes for each statement its scope, loops and handlers."""

    def __init__(self, tree: ast.Module) -> None:
        self.found: list[Statement] = []
        self._body(tree.body, tree, [], [])

    def _body(self, body: list[ast.stmt], scope: ast.AST, loops: list[Loop], handlers: list[Handler]) -> None:
        for s in body:
            self._one(s, scope, loops, handlers)

    def _one(self, s: ast.stmt, scope: ast.AST, loops: list[Loop], handlers: list[Handler]) -> None:
        self.found.append(Statement(s, scope, loops, handlers, head_end(s)))
        if isinstance(s, (ast.FunctionDef, ast.AsyncFunctionDef, ast.ClassDef)):
            self._body(s.body, s, [], [])
        elif isinstance(s, LOOPS):
            self._body(s.body, scope, [*loops, s], handlers)
            self._body(s.orelse, scope, loops, handlers)
        elif isinstance(s, (ast.With, ast.AsyncWith)):
            self._body(s.body, scope, loops, [*handlers, *_suppressed(s)])
        elif isinstance(s, ast.Match):
            for case in s.cases:
                self._body(case.body, scope, loops, handlers)
        elif isinstance(s, (ast.Try, ast.TryStar)):
            star = isinstance(s, ast.TryStar)
            clauses = [Handler(_classes(h.type), star, _last_raise(h), h.name) for h in s.handlers]
            self._body(s.body, scope, loops, [*handlers, *reversed(clauses)])
            for h in s.handlers:
                self._body(h.body, scope, loops, handlers)
            self._body(s.orelse, scope, loops, handlers)
            self._body(s.finalbody, scope, loops, handlers)
        elif isinstance(s, ast.If):
            self._body(s.body, scope, loops, handlers)
            self._body(s.orelse, scope, loops, handlers)


def _classes(node: ast.expr | None) -> list[ast.expr] | None:
    if node is None:
        return None
    return list(node.elts) if isinstance(node, ast.Tuple) else [node]


def _last_raise(handler: ast.ExceptHandler) -> ast.Raise | None:
    """The `raise` that the clause surely ends in; None when it may end otherwise, and so handles."""
    last = handler.body[-1]
    inner = [n for s in handler.body for n in walk(s)]
    leaves = any(isinstance(n, (ast.Return, ast.Break, ast.Continue)) for n in inner)
    return last if isinstance(last, ast.Raise) and not leaves else None


def managers(s: ast.With | ast.AsyncWith) -> list[ast.expr]:
    """The context managers of a `with` statement, those that its body enters in an `ExitStack` among them."""
    found = [item.context_expr for item in s.items]
    for node in [n for part in s.body for n in walk(part)]:
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute) and len(node.args) == 1:
            found += node.args if node.func.attr in ("enter_context", "enter_async_context") else []
    return found


EXPECTING = ("raises", "assertraises", "assertraisesregex")


def _suppressed(s: ast.With | ast.AsyncWith) -> list[Handler]:
    found = []
    for call in managers(s):
        func = call.func if isinstance(call, ast.Call) else None
        name = func.attr if isinstance(func, ast.Attribute) else getattr(func, "id", "")
        if isinstance(call, ast.Call) and name == "suppress":
            found.append(Handler(list(call.args), sys.version_info >= (3, 12)))
        elif isinstance(call, ast.Call) and call.args and name.lower().replace("_", "") in EXPECTING:
            found.append(Handler(_classes(call.args[0])))  # a test that expects the error
        else:
            found.append(Handler([], manager=call))
    return found
