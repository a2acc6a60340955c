"""Classes of exceptions as a handler's text names them."""

from __future__ import annotations

import ast
import types

from ..values.safe_read import read_attribute
from .namespace import Scope

Flying = BaseException | type[BaseException]  # what is raised; a class, where a handler will make the instance


def look_up(node: ast.AST, scope: Scope) -> object:
    if isinstance(node, ast.Name):
        return scope.get(node.id)
    if isinstance(node, ast.Attribute):
        owner = look_up(node.value, scope)
        if issubclass(type(owner), (types.ModuleType, type)):  # `isinstance` would ask for `__class__`
            return getattr(owner, node.attr, None)
        return read_attribute(owner, node.attr)  # `except self.Error`, without running a property
    return None


def matches(found: object, flying: Flying) -> bool:
    if isinstance(found, tuple):
        return any(matches(f, flying) for f in found)
    if not (isinstance(found, type) and issubclass(found, BaseException)):
        return False
    return issubclass(flying, found) if isinstance(flying, type) else isinstance(flying, found)
