"""Walks syntax trees: what is rewritten before the script's first line is walked often."""

from __future__ import annotations

from ast import (
    AST,
    AsyncFor,
    AsyncFunctionDef,
    DictComp,
    For,
    FunctionDef,
    GeneratorExp,
    ListComp,
    SetComp,
    While,
)

Loop = For | AsyncFor | While
Comprehension = ListComp | SetComp | DictComp | GeneratorExp
Function = FunctionDef | AsyncFunctionDef
Repeated = Loop | Comprehension | Function  # what has passes


def walk(root: AST) -> list[AST]:
    """The nodes of a tree as `ast.walk` gives them, without those that only say how a name is used; twice as fast."""
    found = [root]
    for node in found:  # it grows meanwhile
        for name in node._fields:
            if name == "ctx":
                continue
            value = getattr(node, name, None)
            if isinstance(value, list):
                found += [one for one in value if isinstance(one, AST)]
            elif isinstance(value, AST):
                found.append(value)
    return found
