"""Which element of what a loop goes over its target is, in a pass."""

from __future__ import annotations

import ast
from typing import Any

from ..core.errors import Refused
from ..diagnosis import provenance
from ..frames.namespace import Scope
from ..source.sites import callee
from .place import key_node

SEQUENCES = ("list", "tuple", "ndarray", "str", "deque", "Series")


def element_of(target: ast.expr, over: ast.expr, name: str, number: int, scope: Scope) -> ast.expr | None:
    """The expression of the element that a name got in pass `number`, counted from 1: `levels[2]` for `level` in
    `for k, level in enumerate(levels)`.  None where that is not known."""
    parts = target.elts if isinstance(target, (ast.Tuple, ast.List)) else None
    at = None if parts is None else next((n for n, part in enumerate(parts) if name in _names(part)), None)
    word = callee(over) if isinstance(over, ast.Call) else ""
    if parts is not None and at is not None and isinstance(over, ast.Call):
        if word == "enumerate" and at == 1 and over.args:
            return element_of(parts[1], over.args[0], name, number, scope)
        if word == "zip" and at < len(over.args):
            return element_of(parts[at], over.args[at], name, number, scope)
        if word == "iterrows" and at == 1 and isinstance(over.func, ast.Attribute):
            rows = ast.Attribute(over.func.value, "iloc", ast.Load())
            return ast.Subscript(rows, ast.Constant(number - 1), ast.Load())
        return None
    if isinstance(over, ast.Call):
        return None
    return _indexed(over, at, number, scope)


def _indexed(over: ast.expr, at: int | None, number: int, scope: Scope) -> ast.expr | None:
    try:
        thing: Any = provenance.read(over, scope)
        if type(thing).__name__ == "dict":
            key = key_node(list(thing)[number - 1])
            return key if at is None else None
    except (provenance.Unreadable, Refused, IndexError):
        return None
    if type(thing).__name__ not in SEQUENCES:
        return None
    owner: ast.expr = over
    if type(thing).__name__ == "Series":
        owner = ast.Attribute(over, "iloc", ast.Load())
    element = ast.Subscript(owner, ast.Constant(number - 1), ast.Load())
    return element if at is None else ast.Subscript(element, ast.Constant(at), ast.Load())


def _names(target: ast.expr) -> set[str]:
    return {n.id for n in ast.walk(target) if isinstance(n, ast.Name)}
