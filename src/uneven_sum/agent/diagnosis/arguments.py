"""Which expression of the caller's gave a parameter of a function its value."""

from __future__ import annotations

import ast
import types

from ..core.records import record
from ..frames.exception_handlers import instruction_place, statement_at
from ..source import registry
from ..source.source_file import Statement, position


@record
class Argument:
    """An expression in a call of the user's code, which has not come back yet."""

    node: ast.expr
    statement: Statement
    frame: types.FrameType


def argument_of(name: str, frame: types.FrameType, function: ast.AST) -> Argument | None:
    """The argument for a parameter that the function does not set itself; None where that cannot be told.

    `function`: the tree of the code that `frame` runs.
    """
    code, caller = frame.f_code, frame.f_back
    names = code.co_varnames[: code.co_argcount + code.co_kwonlyargcount]
    if name not in names or caller is None or not isinstance(function, (ast.FunctionDef, ast.AsyncFunctionDef)):
        return None
    if any(isinstance(n, ast.Name) and n.id == name and not isinstance(n.ctx, ast.Load) for n in ast.walk(function)):
        return None
    file = registry.file_of(caller)
    statement = statement_at(file, caller) if file is not None else None
    if statement is None:
        return None
    place = instruction_place(caller.f_code, caller.f_lasti)
    calls = [n for n in ast.walk(statement.node) if isinstance(n, ast.Call) and position(n) == place]
    given = _given(calls[0], name, names[: code.co_argcount]) if len(calls) == 1 else None
    return None if given is None else Argument(given, statement, caller)


def _given(call: ast.Call, name: str, positional: tuple[str, ...]) -> ast.expr | None:
    if any(isinstance(one, ast.Starred) for one in call.args) or any(k.arg is None for k in call.keywords):
        return None
    for keyword in call.keywords:
        if keyword.arg == name:
            return keyword.value
    if name not in positional:
        return None
    at = positional.index(name)
    if isinstance(call.func, ast.Attribute) and positional[0] in ("self", "cls"):
        at -= 1
    return call.args[at] if 0 <= at < len(call.args) else None
