"""Which functions of a module look at what they return, so that their callers need not look at it again."""

from __future__ import annotations

import ast
from collections import Counter

from ..core.trees import walk
from .expressions import produces
from .predicates import names_bound, rebinds, sees_frame


def checked_functions(tree: ast.Module) -> set[str]:
    """Names that stand for one plain function wherever they occur in a module: bound by one `def` without decorators,
    and by nothing else; no generator and no coroutine; each `return` looks at its value as a whole."""
    bound: Counter[str] = Counter()
    for node in walk(tree):
        if rebinds(node):
            return set()
        bound.update(node.names if isinstance(node, (ast.Global, ast.Nonlocal)) else names_bound(node))
    functions = [s for s in tree.body if isinstance(s, ast.FunctionDef) and not s.decorator_list]
    return {s.name for s in functions if bound[s.name] == 1 and _is_plain(s)}


def _is_plain(function: ast.FunctionDef) -> bool:
    if sees_frame(function):
        return False
    inner = {
        id(node)
        for other in walk(function)
        if other is not function and isinstance(other, (ast.FunctionDef, ast.AsyncFunctionDef, ast.Lambda))
        for node in walk(other)
    }
    for node in walk(function):
        if id(node) in inner:
            continue
        if isinstance(node, (ast.Yield, ast.YieldFrom)) or (isinstance(node, ast.Return) and not _is_looked_at(node)):
            return False
    return True


def _is_looked_at(node: ast.Return) -> bool:
    value = node.value
    return value is None or isinstance(value, (ast.Constant, ast.Name, ast.Attribute, ast.Subscript)) or produces(value)
