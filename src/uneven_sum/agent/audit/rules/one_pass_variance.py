"""`s2 - s * s / n`: a variance as the mean of squares less the square of the mean."""

from __future__ import annotations

import ast

from ...source.sites import callee
from ..finding import Place

LITTLE = 1e-9  # what is left, beside the mean of squares: of 16 digits at most 7 hold
SUMS = {"sum", "fsum", "nansum", "mean", "nanmean", "average", "fmean", "dot", "vdot", "inner", "einsum", "cumsum"}


def is_one(place: Place) -> bool:
    node = place.node
    if not isinstance(node, ast.BinOp) or not isinstance(node.op, ast.Sub):
        return False
    return _has_square(node.right) and _sums_squares(node.left, place.scope)


def _is_square(node: ast.AST) -> bool:
    if isinstance(node, ast.BinOp) and isinstance(node.op, ast.Pow):
        return isinstance(node.right, ast.Constant) and node.right.value == 2
    if isinstance(node, ast.BinOp) and isinstance(node.op, ast.Mult):
        return ast.unparse(node.left) == ast.unparse(node.right)
    return isinstance(node, ast.Call) and callee(node) == "square"


def _factors(node: ast.expr) -> list[ast.expr]:
    """`s * s`, `n` of `s * s / n`."""
    if isinstance(node, ast.BinOp) and isinstance(node.op, (ast.Mult, ast.Div)) and not _is_square(node):
        return [*_factors(node.left), *_factors(node.right)]
    return [node]


def _has_square(node: ast.expr) -> bool:
    """A factor is the square of a name or of a sum; or `n * mean * mean`, a factor twice."""
    factors = _factors(node)
    texts = [ast.unparse(one) for one in factors]
    return any(map(_is_square, factors)) or any(texts.count(t) > 1 for t in texts)


def _sums_squares(node: ast.expr, scope: ast.AST) -> bool:
    """A factor is a sum of squares, or a name to which squares are added."""
    return any(_is_sum_of_squares(one) or _adds_squares(one, scope) for one in _factors(node))


def _is_sum_of_squares(node: ast.AST) -> bool:
    """`(flow**2).mean()`, `np.sum(flow * flow)`, `sum(q * q for q in flow)`, `flow @ flow`, `np.dot(flow, flow)`."""
    if isinstance(node, ast.BinOp) and isinstance(node.op, ast.MatMult):
        return ast.unparse(node.left) == ast.unparse(node.right)
    if not isinstance(node, ast.Call) or callee(node) not in SUMS:
        return False
    texts = [ast.unparse(a) for a in node.args]
    return any(map(_is_square, ast.walk(node))) or (len(texts) > 1 and texts[0] == texts[1])


def _adds_squares(node: ast.expr, scope: ast.AST) -> bool:
    text = ast.unparse(node)
    for s in ast.walk(scope):
        if isinstance(s, ast.AugAssign) and isinstance(s.op, ast.Add) and ast.unparse(s.target) == text:
            if any(map(_is_square, ast.walk(s.value))):
                return True
        if isinstance(s, ast.Assign) and text in [ast.unparse(t) for t in s.targets]:
            parts = _factors(s.value)
            adds = isinstance(s.value, ast.BinOp) and isinstance(s.value.op, ast.Add)
            reads = any(isinstance(n, ast.expr) and ast.unparse(n) == text for n in ast.walk(s.value))
            if any(map(_is_sum_of_squares, parts)) or (adds and reads and any(map(_is_square, ast.walk(s.value)))):
                return True
    return False
