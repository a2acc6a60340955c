"""Why a term raised: each kind of reason is asked in turn."""

from __future__ import annotations

import ast
import contextlib
from collections.abc import Callable, Iterator

from ..core.markers import MISSING
from ..core.text import str_of
from ..frames.namespace import Scope
from ..values.describe import text_of
from ..values.safe_read import read_attribute
from . import data_notes, error_reasons, hidden_names, near_names, operator_notes, provenance, text_notes, usage_notes
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
    function, owner = _asked(node, scope, operands)
    yield near_names.of_keyword(exc, node, function)
    yield usage_notes.of_error(exc, usage_notes.Use(node, _values(found, scope, segment), function, owner, segment))
    yield hidden_names.of_error(exc, node, scope, scope.globals)
    if may_call and isinstance(exc, ValueError) and NO_BRACKET in str_of(exc):
        yield _bracket(operands)
    yield data_notes.of_error(exc, operands, node)
    yield error_reasons.of_error(exc, [value for _, value in found.operands], node)
    yield text_notes.of_error(exc, operands)
    if isinstance(node, ast.BinOp):
        yield error_reasons.of_error(exc, operands, node)  # constants count, too
    yield near_names.of_error(exc, node, scope, owner)


def _values(found: Culprit, scope: Scope, segment: Callable[[ast.AST], str]) -> Callable[[ast.AST], object]:
    """Gives what a part of the culprit is, without running code; MISSING where that is not known."""
    known = dict(found.operands)

    def value_of(part: ast.AST) -> object:
        if isinstance(part, (ast.List, ast.Tuple)):
            parts = [value_of(one) for one in part.elts]
            return (
                MISSING if any(one is MISSING for one in parts) else parts if isinstance(part, ast.List) else (*parts,)
            )
        if (text := segment(part)) in known:
            return known[text]
        try:
            return provenance.read(part, scope)
        except provenance.Unreadable:
            return MISSING

    return value_of


def _asked(node: ast.AST, scope: Scope, operands: list[object]) -> tuple[object, object]:
    """What a term calls, and what it asks for an attribute; MISSING where that cannot be read without running code."""
    method = node.func if isinstance(node, ast.Call) else node
    owner: object = MISSING
    if isinstance(method, ast.Attribute):
        with contextlib.suppress(provenance.Unreadable):
            owner = provenance.read(method.value, scope)
        if owner is MISSING and operands and not isinstance(method.value, (ast.Name, ast.Attribute)):
            owner = operands[0]
    function = called(node, scope)
    if function is None and owner is not MISSING and isinstance(method, ast.Attribute) and method is not node:
        function = read_attribute(owner, method.attr)
    return function, owner


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
