"""Context managers of the script that may swallow an exception, by their text."""

from __future__ import annotations

import ast
import types

from ..core.trees import walk
from ..source import registry
from ..source.source_file import SourceFile, Statement, managers
from .exception_classes import Flying, look_up, matches
from .namespace import Scope


def may_swallow(manager: ast.expr, flying: Flying, scope: Scope) -> bool:
    """Whether the end of a `with` statement may swallow an exception.  `manager`: what the statement makes or names.

    True for a function under `contextmanager` that yields in a `try` which may handle it, and for a class whose
    `__exit__` may return something true.  Managers of libraries count as letting it pass.
    """
    made = look_up(manager.func if isinstance(manager, ast.Call) else manager, scope)
    if type(made) is types.MethodType:
        made = made.__func__
    if isinstance(manager, ast.Call) and type(made) is types.FunctionType:
        wrapped = made.__dict__.get("__wrapped__")
        return type(wrapped) is types.FunctionType and _yields_in_try(wrapped, flying, scope)
    kind: type = made if issubclass(type(made), type) else type(made)  # type: ignore[assignment]  # of a class: itself
    for base in type.mro(kind):
        own = type.__getattribute__(base, "__dict__")
        found = own.get("__exit__") or own.get("__aexit__")
        if found is not None:
            return type(found) is types.FunctionType and _may_return_true(found)
    return False


def escaped(
    exc: BaseException, tb: types.TracebackType | None, file: SourceFile, around: Statement
) -> Statement | None:
    """The statement of its body by which an exception has left a `with` statement that might have swallowed it.

    `tb`: the traceback from the call of the `with` statement on; None for all other statements.
    """
    if tb is None or not isinstance(around.node, (ast.With, ast.AsyncWith)):
        return None
    scope = Scope(tb.tb_frame)
    if not any(may_swallow(one, exc, scope) for one in managers(around.node)):
        return None
    return file.innermost(tb.tb_lineno)


def _definition(function: types.FunctionType) -> tuple[SourceFile, ast.AST] | None:
    """The file of the user's and the `def` in it; None for a library's function."""
    code = function.__code__
    file = registry.files.get(code.co_filename)
    for node in walk(file.tree) if file is not None else ():
        if isinstance(node, (ast.FunctionDef, ast.AsyncFunctionDef)) and node.name == code.co_name:
            if min([node.lineno, *(d.lineno for d in node.decorator_list)]) == code.co_firstlineno and file is not None:
                return file, node
    return None


def _yields_in_try(function: types.FunctionType, flying: Flying, caller: Scope) -> bool:
    found = _definition(function)
    if found is None:
        return False
    file, node = found
    code = function.__code__
    for one in walk(node):
        statement = file.innermost(one.lineno, one.col_offset) if isinstance(one, ast.Yield) else None
        for handler in statement.handlers if statement is not None else []:
            if handler.manager is not None or handler.raises is not None:
                continue
            if handler.classes is None:
                return True
            for clause in handler.classes:
                if isinstance(clause, ast.Name) and clause.id in (*code.co_varnames, *code.co_freevars):
                    return True  # an argument: its value is not at hand
                if matches(look_up(clause, _Globals(caller, function)), flying):
                    return True
    return False


class _Globals(Scope):
    """The names that a function sees outside of itself."""

    def __init__(self, like: Scope, function: types.FunctionType) -> None:
        self.locals, self.globals, self.builtins = {}, function.__globals__, like.builtins


def _may_return_true(function: types.FunctionType) -> bool:
    found = _definition(function)
    if found is None:
        return False
    ends = [n.value for n in walk(found[1]) if isinstance(n, ast.Return) and n.value is not None]
    return any(not (isinstance(value, ast.Constant) and not value.value) for value in ends)
