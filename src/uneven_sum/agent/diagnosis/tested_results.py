"""Whether the code looks for nan in a result: it tests it, fills it, or leaves it out."""

from __future__ import annotations

import ast
import types
from collections.abc import Iterator

from ..frames.exception_handlers import statement_at
from ..frames.namespace import Scope
from ..frames.stack import user_frame
from ..source.call_lists import ABSORBING
from ..source.registry import file_of, files
from ..source.source_file import COMPREHENSIONS, Statement
from .gaps import is_handled, stored_names
from .provenance import Unreadable, read

READABLE = (ast.Name, ast.Attribute, ast.Subscript)


def is_tested(statement: Statement, frame: types.FrameType) -> bool:
    """True where what the statement makes is tested, filled or left out: by its function, by one that it is handed to,
    or by the caller."""
    node = statement.node
    is_lambda = frame.f_code.co_name == "<lambda>"
    if is_lambda or _leaves_by_return(statement):
        outer = user_frame(frame.f_back)
        file = file_of(outer) if outer is not None else None
        calling = statement_at(file, outer) if outer is not None and file is not None else None
        if outer is not None and calling is not None and not isinstance(calling.node, ast.Return):
            if is_tested(calling, outer):
                return True
    if is_lambda or isinstance(node, ast.Return):
        return False
    made: ast.AST = ast.Constant(None)
    if isinstance(node, ast.Expr) and isinstance(node.value, ast.Call) and isinstance(node.value.func, ast.Attribute):
        made = node.value.func.value  # `means.append(…)`
    elif isinstance(node, (ast.AugAssign, ast.AnnAssign)):
        made = node.target
    if is_handled(made, statement) or _is_handed_to_a_test(node, Scope(frame)):
        return True
    names = stored_names(made).union(*map(stored_names, getattr(node, "targets", [])))
    return _is_compared_with_itself(names, statement.scope)


def _is_handed_to_a_test(node: ast.AST, scope: Scope) -> bool:
    """True for `safe(np.mean(flow))` where the user's own function asks `isnan`, or fills."""
    for call in ast.walk(node):
        if isinstance(call, ast.Call) and isinstance(call.func, READABLE):
            try:
                code = getattr(read(call.func, scope), "__code__", None)
            except Unreadable:
                continue
            if isinstance(code, types.CodeType) and code.co_filename in files and ABSORBING & set(_names_in(code)):
                return True
    return False


def _names_in(code: types.CodeType) -> Iterator[str]:
    yield from code.co_names
    for inner in code.co_consts:
        if isinstance(inner, types.CodeType):
            yield from _names_in(inner)


def _is_compared_with_itself(names: set[str], tree: ast.AST) -> bool:
    """`if total != total`, `[s for s in totals if s == s]`."""
    for part in ast.walk(tree):
        if isinstance(part, COMPREHENSIONS):
            over = set().union(*(stored_names(g.iter) for g in part.generators))
            if names & over and any(map(_is_itself, ast.walk(part))):
                return True
        elif _is_itself(part) and names & stored_names(part):
            return True
    return False


def _is_itself(node: ast.AST) -> bool:
    return isinstance(node, ast.Compare) and ast.dump(node.left) == ast.dump(node.comparators[0])


def _leaves_by_return(statement: Statement) -> bool:
    """True for a `return`, and where the name that is stored is returned later."""
    node = statement.node
    targets = [*getattr(node, "targets", []), *([node.target] if isinstance(node, ast.AugAssign) else [])]
    names = {name for target in targets for name in stored_names(target)}
    returns = [node] if isinstance(node, ast.Return) else ast.walk(statement.scope)
    return any(
        isinstance(one, ast.Return) and (one is node or (one.value is not None and names & stored_names(one.value)))
        for one in returns
    )
