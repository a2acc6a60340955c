"""The names, attributes and elements of an expression: what an origin can be asked of."""

from __future__ import annotations

import ast
import builtins
from collections.abc import Iterator


def places_in(text: str) -> list[str]:
    """The largest ones in the order of the text: of `np.sqrt(level[0, k] - 3 * tank.sill)` these are `level[0, k]` and
    `tank.sill`.  None where it is no expression."""
    try:
        node = ast.parse(text.strip(), mode="eval").body
    except (SyntaxError, ValueError, RecursionError):
        return []
    found = [ast.get_source_segment(text.strip(), one) or "" for one in _places(node)]
    return [one for one in dict.fromkeys(found) if one and not hasattr(builtins, one)]


def _places(node: ast.AST) -> Iterator[ast.AST]:
    if isinstance(node, (ast.Name, ast.Attribute, ast.Subscript)) and _is_path(node):
        yield node
        return
    for name, child in ast.iter_fields(node):
        parts = child if isinstance(child, list) else [child]
        for part in parts:
            if isinstance(node, ast.Call) and name == "func":
                if isinstance(part, ast.Attribute) and not isinstance(part.value, ast.Name):
                    yield from _places(part.value)  # `(a - b).sum()`
            elif isinstance(part, ast.AST):
                yield from _places(part)


def _is_path(node: ast.AST) -> bool:
    if isinstance(node, ast.Name):
        return True
    if isinstance(node, ast.Attribute):
        return _is_path(node.value)
    return isinstance(node, ast.Subscript) and _is_path(node.value) and not _calls(node.slice)


def _calls(node: ast.AST) -> bool:
    return any(isinstance(n, (ast.Call, ast.Lambda, ast.NamedExpr)) for n in ast.walk(node))
