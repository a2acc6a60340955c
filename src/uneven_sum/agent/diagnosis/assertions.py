"""Which part of an assertion is not true, and by how much its sides differ."""

from __future__ import annotations

import ast
import math
import sys
from typing import TYPE_CHECKING, Any

from ..source.sites import callee
from ..values import nonfinite
from .culprit import Culprit
from .reasons import Reason

if TYPE_CHECKING:
    from .decompose import Decomposed

CLOSE = {"allclose", "isclose", "approx", "assert_allclose", "assert_almost_equal", "assert_array_almost_equal"}
EQUAL = {"array_equal", "assert_equal", "assert_array_equal", "assertEqual", "assertAlmostEqual"}
LONGEST = 100_000  # elements of a list that are compared
NEAR = 1e-6  # as a part of the larger: sides that differ by less are meant to be equal, mostly


def failed(node: ast.AST | None, exc: BaseException | None) -> bool:
    """Whether an `assert` is what raised."""
    return isinstance(node, ast.Assert) and isinstance(exc, AssertionError)


def messages(text: str) -> tuple[str, str]:
    """The message of an assertion by itself, and the first line of what pytest adds to it."""
    if "_pytest.assertion.rewrite" not in sys.modules:
        return text, ""
    own, mark, added = f"\n{text}".partition("\nassert ")
    return own.strip("\n"), f"{mark.strip()} {added}".partition("\n")[0].strip() if mark else ""


def culprit(apart: Decomposed) -> Culprit | None:
    """The part that makes the assertion fail: the first that is false of those that all must be true."""
    term = apart.root
    while isinstance(term.node, ast.BoolOp) and isinstance(term.node.op, ast.And):
        inner = next((t for t in term.children if t.known and not _true(t.value)), None)
        if inner is None:
            break
        term = inner
    if not term.known:
        return None
    term.culprit = True
    found = Culprit(term, None)
    found.operands = [(apart.file.segment(t.node), t.value) for t in term.children if t.known]
    found.reason = Reason(text=how_far(term.node, term.operands))
    return found


def _true(value: object) -> bool:
    try:
        return bool(value)
    except Exception:
        return True  # of many cells it is neither


def how_far(node: ast.AST, operands: list[object]) -> str:
    """By how much two sides that should be equal, or close, differ; empty where they are not numbers."""
    if isinstance(node, ast.Compare):
        if len(node.ops) != 1 or not isinstance(node.ops[0], ast.Eq):
            return ""
        near_only = True
    elif isinstance(node, ast.Call) and callee(node) in CLOSE | EQUAL:
        near_only = False
    else:
        return ""
    try:
        return _apart([value for value in operands if _is_numeric(value)][:2], near_only)
    except Exception:  # sides whose own arithmetic refuses, integers too large for a float
        return ""


def _apart(sides: list[Any], near_only: bool) -> str:
    np = nonfinite.module("numpy")
    if len(sides) < 2:
        return ""
    if np is None:
        return _of_scalars(float(sides[0]), float(sides[1]), near_only)
    a, b = (np.asarray(value, dtype=float) for value in sides)
    if a.ndim == b.ndim == 0:
        return _of_scalars(float(a), float(b), near_only)
    apart = np.abs(a - b)
    cell = np.unravel_index(int(np.nanargmax(apart)), apart.shape)
    at = ", ".join(str(int(i)) for i in cell)
    return f"the largest difference is {float(apart[cell]):.6g}, at [{at}]"


def _is_numeric(value: object) -> bool:
    if isinstance(value, (list, tuple)):
        return bool(value) and len(value) <= LONGEST and all(nonfinite.is_number_kind(type(one)) for one in value)
    return nonfinite.is_number_kind(type(value)) or hasattr(value, "dtype")


def _of_scalars(a: float, b: float, near_only: bool) -> str:
    apart = abs(a - b)
    if not math.isfinite(apart) or not apart or (near_only and apart > NEAR * max(abs(a), abs(b))):
        return ""
    return f"the two differ by {apart:.3g}"
