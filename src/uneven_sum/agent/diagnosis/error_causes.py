"""Why a term raised: each kind of reason is asked in turn."""

from __future__ import annotations

import ast
import contextlib
from collections.abc import Callable, Iterator

from ..core.text import str_of
from ..frames.namespace import Scope
from ..values.describe import text_of
from . import data_notes, error_reasons, hidden_names, near_names, operator_notes, provenance, text_notes
from .culprit import Culprit
from .reasons import NONE, Reason

NO_BRACKET = "must have different signs"


def why(
    exc: BaseException,
    found: Culprit,
    root: ast.AST,
    scope: Scope,
    segment: Callable[[ast.AST], str],
    may_call: bool,
) -> Reason:
    """Why the culprit raised.  `root`: the expression that it is in; `segment`: how a term is written; `may_call`: in a
    copy of the process, where functions of the script can be called."""
    return next((one for one in _reasons(exc, found, root, scope, segment, may_call) if one.text), NONE)


def _reasons(
    exc: BaseException, found: Culprit, root: ast.AST, scope: Scope, segment: Callable[[ast.AST], str], may_call: bool
) -> Iterator[Reason]:
    node, operands = found.term.node, found.term.operands
    yield error_reasons.of_bad_operands(exc, found.operands) or NONE
    yield operator_notes.of_error(exc, node, root, segment)
    yield hidden_names.of_error(exc, node, scope, scope.globals)
    if may_call and isinstance(exc, ValueError) and NO_BRACKET in str_of(exc):
        yield _bracket(operands)
    yield data_notes.of_error(exc, operands, node)
    yield error_reasons.of_error(exc, [value for _, value in found.operands], node)
    yield text_notes.of_error(exc, operands)
    if isinstance(node, ast.BinOp):
        yield error_reasons.of_error(exc, operands, node)  # constants count, too
    yield near_names.of_error(exc, node, scope, called(node, scope))


def called(node: ast.AST, scope: Scope) -> object:
    """What a call calls; None where that cannot be read without running code."""
    try:
        return provenance.read(node.func, scope) if isinstance(node, ast.Call) else None
    except provenance.Unreadable:
        return None


def _bracket(operands: list[object]) -> Reason:
    """The values of a function at the two ends between which a root is sought."""
    function, ends = operands[0] if operands else None, operands[1:3]
    if len(ends) == 1 and isinstance(ends[0], (list, tuple)):
        ends = list(ends[0][:2])
    if not callable(function) or len(ends) != 2 or not all(isinstance(end, (int, float)) for end in ends):
        return NONE
    with contextlib.suppress(Exception):
        told = [f"{text_of(function(end))} at {text_of(end)}" for end in ends]
        return Reason("no-bracket", f"the function is {told[0]} and {told[1]}")
    return NONE
