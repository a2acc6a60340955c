"""Non-finite values made where the script has silenced NumPy's warnings of them.

Inside an `errstate`, or under a warning filter, that ignores the category they are meant, as long as the function
masks or tests them.  What only some calls silence is remembered; where one leaves its function all the same there is a
pause.
"""

from __future__ import annotations

import ast
import types
import warnings

from ..core.identity import is_ours
from ..frames.exception_handlers import statement_at
from ..source import registry
from ..source.call_lists import ABSORBING
from ..source.sites import callee
from ..source.source_file import Statement
from ..values import nonfinite
from .gaps import is_handled, stored_names

ARITHMETIC = (ast.BinOp, ast.UnaryOp)
TEXTS = {"divide": "divide by zero encountered", "over": "overflow encountered", "invalid": "invalid value encountered"}


def is_silenced(value: object) -> bool:
    """True when NumPy would warn of such a value by default and is set not to."""
    np = nonfinite.module("numpy")
    if np is None or not isinstance(value, (np.ndarray, np.generic)):
        return False
    wanted: list[tuple[str, ...]] = []
    if bool(np.any(nonfinite.nan_mask(value))):
        wanted.append(("invalid",))
    if nonfinite.any_infinite(value):
        wanted.append(("divide", "over"))
    states = np.geterr()
    return all(any(states[name] == "ignore" or _is_filtered(name) for name in names) for names in wanted)


def _is_filtered(name: str) -> bool:
    for action, message, category, module, line in warnings.filters:
        if not issubclass(RuntimeWarning, category) or module is not None or line:
            continue
        if message is None or message.match(TEXTS[name]):
            return action == "ignore"
    return False


def is_meant(node: ast.AST, statement: Statement) -> bool:
    """True when the same function masks or tests what the statement makes, or what it computes from that.

    Within an `errstate` or `catch_warnings` a test of an operand is enough.  What silences the whole script says
    nothing of this statement: there the result must be tested.
    """
    if is_handled(node, statement, not _is_silenced_here(statement)):
        return True
    results = _results(statement)
    texts, names = {ast.unparse(r) for r in results}, {name for r in results for name in stored_names(r)}
    for part in ast.walk(statement.scope):
        if isinstance(part, ast.Call) and callee(part) in ABSORBING and names & stored_names(part):
            return True
        if isinstance(part, ast.Subscript) and part.lineno > statement.line and ast.unparse(part.value) in texts:
            stores = isinstance(part.ctx, ast.Store)
            if not isinstance(part.slice, (ast.Constant, ast.Slice)) if stores else _is_mask(part.slice, statement):
                return True
    return False


def _results(statement: Statement) -> list[ast.expr]:
    """What the statement stores, and what arithmetic of its function makes of that."""
    found: list[ast.expr] = list(getattr(statement.node, "targets", []))
    for node in ast.walk(statement.scope) if found else ():
        if isinstance(node, ast.Assign) and node.lineno > statement.line and isinstance(node.value, ARITHMETIC):
            parts: list[ast.AST] = [node.value]
            for part in parts:  # it grows meanwhile
                parts += ast.iter_child_nodes(part) if isinstance(part, ARITHMETIC) else ()
            if {ast.unparse(r) for r in found} & {ast.unparse(p) for p in parts if isinstance(p, ast.expr)}:
                found += node.targets
    return found


def _is_mask(index: ast.expr, statement: Statement) -> bool:
    """`level > 0`, `~dry`, and a name of such a value."""
    if isinstance(index, ast.Name):
        assigned = [
            n for n in ast.walk(statement.scope) if isinstance(n, ast.Assign) and not isinstance(n.value, ast.Name)
        ]
        values = [n.value for n in assigned if index.id in {getattr(t, "id", "") for t in n.targets}]
        return any(_is_mask(value, statement) for value in values)
    if isinstance(index, ast.BinOp):
        return isinstance(index.op, (ast.BitAnd, ast.BitOr))
    if isinstance(index, ast.Call):
        return callee(index) in ABSORBING
    return isinstance(index, ast.Compare) or (isinstance(index, ast.UnaryOp) and isinstance(index.op, ast.Invert))


def silences_around(frame: types.FrameType | None) -> bool:
    """Whether a call around silences what it calls, or may: a `with` statement, a decorator, or code of a library."""
    inner = False  # what is further in may have been called by a library
    while frame is not None:
        file = registry.file_of(frame)
        statement = statement_at(file, frame) if file is not None else None
        if statement is None:
            inner = inner or not is_ours(frame)
        elif inner or _is_silenced_here(statement):
            return True
        frame = frame.f_back
    return False


def _is_silenced_here(statement: Statement) -> bool:
    """True within a `with` statement, or in a function with a decorator, that silences what is in it."""
    around = [h.manager for h in statement.handlers] + getattr(statement.scope, "decorator_list", [])
    return any(isinstance(one, ast.Call) and callee(one) in ("errstate", "catch_warnings") for one in around)
