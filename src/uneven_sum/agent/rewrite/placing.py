"""Places for the nodes that a rewriting makes: those of the text that they stand for."""

from __future__ import annotations

import ast
from typing import Any, TypeVar

N = TypeVar("N", bound=ast.AST)
PLACE = ("lineno", "col_offset", "end_lineno", "end_col_offset")


def placed(node: N, like: ast.AST) -> N:
    """The node at the place of another, with all in it that has none yet.  Nodes that have a place are complete."""
    theirs = like.__dict__
    place = {name: theirs[name] for name in PLACE}
    todo: list[Any] = [node]
    while todo:
        one = todo.pop()
        held = one.__dict__
        if "lineno" in held:
            continue
        if one._attributes:
            held.update(place)
        for name in _parts(type(one)):
            value = held.get(name)
            if type(value) is list:
                todo += [part for part in value if part is not None and type(part) is not str]
            elif value is not None:
                todo.append(value)
    return node


def at(node: N, like: ast.AST) -> N:
    """One node, without what is in it, at the place of another."""
    held, theirs = node.__dict__, like.__dict__
    for name in PLACE:
        held[name] = theirs[name]
    return node


_with_nodes: dict[type, tuple[str, ...]] = {}
NO_NODES = {"ctx", "op", "ops", "id", "attr", "arg", "name", "names", "asname", "kind", "type_comment", "simple"}
NO_NODES |= {"is_async", "conversion", "level", "module", "rest", "kwd_attrs", "is_lazy", "str", "tag"}


def _parts(kind: type) -> tuple[str, ...]:
    """The fields of a class of nodes that hold nodes with a place."""
    if kind not in _with_nodes:
        plain = {"value"} if kind in (ast.Constant, ast.MatchSingleton) else set()
        keep = {"names"} if kind in (ast.Import, ast.ImportFrom) else set()
        fields: tuple[str, ...] = kind._fields  # type: ignore[attr-defined]  # every node type has it
        _with_nodes[kind] = tuple(n for n in fields if n in keep or n not in NO_NODES | plain)
    return _with_nodes[kind]
