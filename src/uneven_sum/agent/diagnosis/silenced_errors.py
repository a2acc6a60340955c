"""Non-finite values made where the script has silenced NumPy's warnings of them.

Inside an `errstate`, or under a warning filter, that ignores the category they are meant, as long as the function
masks or tests them.  They are remembered; where one leaves its function all the same there is a pause.
"""

from __future__ import annotations

import ast
import warnings

from ..source.sites import callee
from ..source.source_file import Statement
from ..values import nonfinite
from .gaps import is_handled

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
    """True when the same function masks or tests what the statement makes.

    Within an `errstate` or `catch_warnings` a test of an operand is enough.  What silences the whole script says
    nothing of this statement: there the result must be tested.
    """
    return is_handled(node, statement, not _is_silenced_here(statement)) or _is_overwritten(statement)


def _is_silenced_here(statement: Statement) -> bool:
    """True within a `with` statement, or in a function with a decorator, that silences what is in it."""
    around = [h.manager for h in statement.handlers] + getattr(statement.scope, "decorator_list", [])
    return any(isinstance(one, ast.Call) and callee(one) in ("errstate", "catch_warnings") for one in around)


def _is_overwritten(statement: Statement) -> bool:
    """`ratio[rain == 0] = 0.0`: cells of a target are set by a mask further on."""
    targets = {ast.unparse(t) for t in getattr(statement.node, "targets", [])}
    for node in ast.walk(statement.scope):
        if isinstance(node, ast.Assign) and node.lineno > statement.line:
            for target in node.targets:
                if isinstance(target, ast.Subscript) and ast.unparse(target.value) in targets:
                    if not isinstance(target.slice, (ast.Constant, ast.Slice)):
                        return True
    return False
