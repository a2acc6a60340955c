"""Operators that need one truth value, or that come before others, where cells are meant to be compared."""

from __future__ import annotations

import ast
from collections.abc import Callable

from ..core.text import str_of
from .reasons import NONE, Reason

CELLWISE = {ast.BitAnd: "&", ast.BitOr: "|"}


def of_error(exc: BaseException, node: ast.AST, root: ast.AST, text_of: Callable[[ast.AST], str]) -> Reason:
    """Why an operator on arrays raised.  `node`: the term that did; `root`: the expression around it; `text_of`: how a
    term is written."""
    ambiguous = isinstance(exc, ValueError) and "truth value of a" in str_of(exc)
    if not ambiguous and not isinstance(exc, TypeError):
        return NONE
    around = [n for n in ast.walk(root) if any(inner is node for inner in ast.walk(n))]  # the outermost first
    for outer in reversed(around):
        if isinstance(outer, ast.Compare):
            for part in [outer.left, *outer.comparators]:
                sign = CELLWISE.get(type(part.op)) if isinstance(part, ast.BinOp) else None
                if sign and f"({text_of(part)})" not in text_of(outer):
                    return Reason("precedence", f"{sign} comes before comparisons: put each of those in parentheses")
            if ambiguous and len(outer.ops) > 1:
                return Reason("chain", "a chain of comparisons needs one truth value: join two comparisons by &")
        if ambiguous and isinstance(outer, ast.BoolOp):
            word, sign = ("and", "&") if isinstance(outer.op, ast.And) else ("or", "|")
            return Reason("truth", f"`{word}` needs one truth value: {sign} joins cell by cell")
        if ambiguous and isinstance(outer, ast.UnaryOp) and isinstance(outer.op, ast.Not):
            return Reason("truth", "`not` needs one truth value: ~ turns each cell")
    return NONE
