"""Names and attributes that the script assigns elsewhere: later, in a branch that has not run, in another function."""

from __future__ import annotations

import ast
import types

from ..core.text import plural
from ..core.trees import walk
from ..source import registry
from ..source.cells import place_words
from ..source.source_file import COMPREHENSIONS, SourceFile, Statement
from ..values.safe_read import read_attribute
from .reasons import NONE, Reason

FUNCTIONS = (ast.FunctionDef, ast.AsyncFunctionDef)
MOST = 2  # lines that are given


def of_name(exc: BaseException, node: ast.AST, file: SourceFile, statement: Statement) -> Reason:
    """Of a variable that has no value: where the script assigns it.  `node`: the term that raised."""
    if not isinstance(exc, NameError) or not isinstance(node, ast.Name):
        return NONE
    name, scope = node.id, statement.scope
    binding = [s for s in file.statements if name in _bound(s.node)]
    own = [s for s in binding if s.scope is scope]
    if isinstance(exc, UnboundLocalError):
        around = [s.scope for s in binding if s.scope is not scope and isinstance(s.scope, FUNCTIONS)]
        outer = next((s for s in around if any(n is scope for n in walk(s))), None)
        if outer is not None:
            told = f"it belongs to {getattr(outer, 'name', '')}, the function around: declare it nonlocal"
            return Reason("hides-outer", told)
    else:
        own = own or [s for s in binding if isinstance(s.scope, ast.Module)]
    if own:
        return Reason("unassigned", _of_statements(name, own, statement.line, file.path))
    for one in ast.walk(file.tree):
        if isinstance(one, COMPREHENSIONS) and any(name in _stored(g.target) for g in one.generators):
            return Reason("unassigned", f"it is a name of the comprehension {_at(file.path, one.lineno)} alone")
    local = next((s for s in binding if isinstance(s.scope, FUNCTIONS)), None)
    if local is not None:
        return Reason(
            "unassigned", f"it is a local name of {getattr(local.scope, 'name', '')}, {_at(file.path, local.line)}"
        )
    return NONE


def of_attribute(exc: BaseException) -> Reason:
    """Of an attribute that an object does not have: the method of its class that assigns it."""
    name, owner = read_attribute(exc, "name"), read_attribute(exc, "obj")
    if not isinstance(exc, AttributeError) or not isinstance(name, str):
        return NONE
    kind: type = owner if issubclass(type(owner), type) else type(owner)  # type: ignore[assignment]  # it is a class
    for base in kind.__mro__:
        for function in vars(base).values():
            line = _line_of_store(function, name) if type(function) is types.FunctionType else 0
            if line and kind is owner:
                return Reason("unassigned", f"its objects have it: {function.__name__} assigns it, at line {line}")
            if line:
                return Reason("unassigned", f"{function.__name__} assigns it, at line {line}, which has not run for it")
    return NONE


def _at(path: str, line: int) -> str:
    """`at line 18`, `in cell 5, line 2`."""
    words = place_words(path, line)
    return f"at {words}" if words.startswith("line") else f"in {words}"


def _of_statements(name: str, found: list[Statement], line: int, path: str) -> str:
    above = [s for s in found if s.line < line]
    found = [s for s in found if s.line != line]
    if not found:
        return ""
    if not above:
        what = "defined" if isinstance(found[0].node, (*FUNCTIONS, ast.ClassDef)) else "assigned"
        return f"it is {what} below, {_at(path, found[0].line)}"
    last = above[-1].node
    if isinstance(last, ast.Delete):
        return f"it was deleted {_at(path, above[-1].line)}"
    if isinstance(last, (ast.Try, ast.TryStar)):
        return f"it ends with its except clause, {_at(path, next(h.lineno for h in last.handlers if h.name == name))}"
    if isinstance(last, ast.For) and name in _stored(last.target):
        return f"the loop {_at(path, above[-1].line)} has had no pass"
    lines = [str(s.line) for s in above]
    shown = " and ".join(lines[:MOST]) if len(lines) <= MOST else f"{', '.join(lines[:MOST])}, …"
    return f"{plural(len(lines), 'line')} {'assigns' if len(lines) == 1 else 'assign'} it, which did not run: {shown}"


def _bound(node: ast.stmt) -> set[str]:
    """The names that a statement itself binds or unbinds, without those in its body."""
    if isinstance(node, (*FUNCTIONS, ast.ClassDef)):
        return {node.name}
    if isinstance(node, (ast.Import, ast.ImportFrom)):
        return {(a.asname or a.name).partition(".")[0] for a in node.names}
    found = {h.name for h in getattr(node, "handlers", ()) if h.name}
    for part in ast.iter_child_nodes(node):
        if not isinstance(part, (ast.stmt, ast.ExceptHandler, ast.match_case)):
            found |= _stored(part)
    return found


def _stored(node: ast.AST) -> set[str]:
    """The names that an expression stores in, without those of comprehensions."""
    if isinstance(node, (*COMPREHENSIONS, ast.Lambda)):
        return set()
    found = {node.id} if isinstance(node, ast.Name) and not isinstance(node.ctx, ast.Load) else set()
    return found.union(*(_stored(part) for part in ast.iter_child_nodes(node)))


def _line_of_store(function: types.FunctionType, name: str) -> int:
    """The line at which a method assigns an attribute of its object; 0 where it does not."""
    code = function.__code__
    file = registry.files.get(code.co_filename)
    if file is None or name not in code.co_names or not code.co_argcount:
        return 0
    own = [s for s in file.statements if isinstance(s.scope, FUNCTIONS) and s.scope.name == code.co_name]
    for s in own:
        if s.scope.lineno < code.co_firstlineno:  # type: ignore[attr-defined]  # it is a function
            continue
        for n in ast.walk(s.node):
            stores = isinstance(n, ast.Attribute) and n.attr == name and isinstance(n.ctx, ast.Store)
            if stores and getattr(n.value, "id", "") == code.co_varnames[0]:  # type: ignore[attr-defined]  # it is one
                return s.line
    return 0
