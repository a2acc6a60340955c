"""Where a name has become None: calls that return nothing."""

from __future__ import annotations

import ast
import types

from ..core.trees import walk
from ..frames.namespace import Scope
from ..source import registry
from ..source.cells import place_words
from ..source.sites import callee
from ..source.source_file import SourceFile, Statement
from . import provenance

IN_PLACE = {
    *(
        "sort",
        "reverse",
        "append",
        "extend",
        "insert",
        "remove",
        "clear",
        "update",
        "add",
        "discard",
        "shuffle",
        "resize",
    ),
    *("fill", "put", "itemset", "seed"),
}


def of_name(name: str, file: SourceFile, statement: Statement, scope: Scope) -> str:
    """For a name that is None: what the one statement that assigns it calls, as a part of a sentence; else empty."""
    stored = [n for n in walk(statement.scope) if isinstance(n, ast.Name) and n.id == name and not _is_read(n)]
    arguments = [n for n in ast.walk(getattr(statement.scope, "args", ast.Module([], []))) if isinstance(n, ast.arg)]
    if len(stored) != 1 or any(one.arg == name for one in arguments):
        return ""  # which of several has run is not known
    above = [s for s in file.statements if s.scope is statement.scope and s.line < statement.line]
    for one in above:
        node = one.node
        if isinstance(node, ast.Assign) and stored[0] in node.targets and isinstance(node.value, ast.Call):
            said = of_call(node.value, scope)
            return f"{name} is None since {place_words(file.path, one.line)}: {said}" if said else ""
    return ""


def _is_read(node: ast.Name) -> bool:
    return isinstance(node.ctx, ast.Load)


def of_call(call: ast.Call, scope: Scope) -> str:
    """Why a call has given None, as a part of a sentence; empty where that is not known."""
    name = callee(call)
    if isinstance(call.func, ast.Attribute) and name in IN_PLACE:
        return f"{name} changes in place and returns nothing"
    if any(k.arg == "inplace" and isinstance(k.value, ast.Constant) and k.value.value is True for k in call.keywords):
        return f"{name} with inplace=True returns nothing"
    if isinstance(call.func, ast.Attribute) and name == "get":
        return "get has found nothing"
    try:
        function = provenance.read(call.func, scope)
    except provenance.Unreadable:
        return ""
    if function is print:
        return "print returns nothing"
    function = function.__func__ if type(function) is types.MethodType else function
    return _returns_nothing(function, name) if type(function) is types.FunctionType else ""


def _returns_nothing(function: types.FunctionType, name: str) -> str:
    """Whether a function of the script's has no `return` with a value."""
    code = function.__code__
    file = registry.files.get(code.co_filename)
    own = [s for s in file.statements if getattr(s.scope, "name", "") == code.co_name] if file is not None else []
    own = [s for s in own if getattr(s.scope, "lineno", 0) >= code.co_firstlineno]
    if not own:
        return ""
    scope = min((s.scope for s in own), key=lambda one: getattr(one, "lineno", 0))
    returned = [s.node.value for s in own if s.scope is scope and isinstance(s.node, ast.Return)]
    values = [v for v in returned if v is not None and not (isinstance(v, ast.Constant) and v.value is None)]
    return f"{name} returned None" if values else f"{name} has no return statement with a value"
