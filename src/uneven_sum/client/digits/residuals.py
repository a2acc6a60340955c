"""Results that are not judged by their own size: what should be 0, and what is printed with fewer digits."""

from __future__ import annotations

import ast
import math
import re
import string
from collections.abc import Iterable

import numpy as np

from ..differing.places import name_of
from .held import Held, digits_of
from .slices import Ways

# Words for what is left of a balance.
BOOKS = re.compile(
    r"(?<![a-z])(?:resid\w*|(?:im)?balances?|clos(?:ure|ing)|books|unaccounted|conservation|drift)(?![a-z])",
    re.IGNORECASE,
)
SHELLS = {"abs", "fabs", "absolute", "max", "amax", "nanmax", "float", "norm"}  # give a size, and add nothing
TOTALS = {"sum", "nansum", "mean", "nanmean", "fsum", "len", "float", "dot"}
LITTLE = 8 * 2.0**-53
DECIMALS = re.compile(r"\.(\d+)f$")
PERCENT = re.compile(r"%[-+ 0#]*\d*(?:\.\d+)?[a-zA-Z]")


def against_operands(node: ast.AST, held: Held, ways: Ways, operands: dict[int, float]) -> float | None:
    """Digits of a residual beside the largest of what it is the difference of; None for what is no residual.

    `operands`: the largest operand of a term, by the id of its node.  A residual is called one, or is 0 but for
    rounding and the difference of quantities that have no name in common: the small root of a quadratic is neither.
    """
    chain, named = _difference(node, ways)
    largest = max((operands.get(id(one), 0.0) for one in chain), default=0.0)
    nothing = held.value is not None and abs(held.value) <= LITTLE * largest
    if not chain or not (named or (nothing and _no_name_twice(chain, ways))):
        return None
    if not largest or not math.isfinite(held.gap):
        return None
    return float(digits_of(np.array([held.gap]), np.array([largest]))[0])


def as_printed(node: ast.AST, held: Held, ways: Ways) -> bool:
    """Whether the runs differ by less than half of the last decimal that is printed."""
    decimals = _decimals(ways).get(id(node))
    return decimals is not None and held.gap < 0.5 * 10.0**-decimals


def _difference(node: ast.AST, ways: Ways) -> tuple[list[ast.BinOp], bool]:
    """The sums and differences that a result is, and whether a name or a text beside it calls it a residual."""
    named = bool(BOOKS.search(_said_with(node, ways)))
    for _ in range(8):
        if isinstance(node, ast.Call) and name_of(node.func) in SHELLS and len(node.args) == 1:
            node = node.args[0]
        elif isinstance(node, ast.Call) and name_of(node.func) in SHELLS and isinstance(node.func, ast.Attribute):
            node = node.func.value
        elif isinstance(node, (ast.Name, ast.Attribute)) and (value := ways.only_value(node)) is not None:
            named = named or bool(BOOKS.search(ast.unparse(node)))
            node = value
        else:
            break
    chain: list[ast.BinOp] = []
    todo = [node]
    while todo:
        one = todo.pop()
        if isinstance(one, ast.BinOp) and isinstance(one.op, (ast.Add, ast.Sub)):
            chain.append(one)
            todo += [one.left, one.right]
    return (chain if any(isinstance(one.op, ast.Sub) for one in chain) else []), named


def _no_name_twice(chain: list[ast.BinOp], ways: Ways) -> bool:
    """Whether each name comes once in a sum of totals and products, with what its parts are made from."""
    names: list[str] = []
    todo: list[ast.AST] = [chain[0]]
    while todo:
        node = todo.pop()
        if isinstance(node, (ast.Name, ast.Attribute)):
            value = ways.only_value(node)
            if value is None or len(names) > 100:
                names.append(ast.unparse(node))
            else:
                todo.append(value)
        elif isinstance(node, ast.Call):
            if name_of(node.func) not in TOTALS:
                return False
            todo += node.args
            if isinstance(node.func, ast.Attribute) and not node.args:
                todo.append(node.func.value)
        elif isinstance(node, ast.Subscript):
            names.append(ast.unparse(node))
        elif isinstance(node, ast.BinOp) and isinstance(node.op, (ast.Add, ast.Sub, ast.Mult, ast.Div)):
            todo += [node.left, node.right]
        elif isinstance(node, ast.UnaryOp):
            todo.append(node.operand)
        elif not isinstance(node, ast.Constant):
            return False
    return len(set(names)) == len(names)


def _said_with(node: ast.AST, ways: Ways) -> str:
    """The texts of the call or f-string that a result is shown by."""
    for outer in ways.shown_by(node):
        texts = [n.value for n in ast.walk(outer) if isinstance(n, ast.Constant) and isinstance(n.value, str)]
        if sum(isinstance(n, (ast.FormattedValue, ast.Name)) for n in ast.walk(outer)) < 8:  # else they say many things
            return " ".join(texts)
    return ""


def _decimals(ways: Ways) -> dict[int, int]:
    """How many decimals a value is printed with, by the id of its node."""
    if ways.decimals is None:
        ways.decimals = dict(_formatted(ways.text.tree)) if ways.text.tree is not None else {}
    return ways.decimals


def _formatted(tree: ast.AST) -> Iterable[tuple[int, int]]:
    for node in ast.walk(tree):
        specs: list[str] = []
        values: list[ast.expr] = []
        if isinstance(node, ast.FormattedValue) and isinstance(node.format_spec, ast.JoinedStr):
            specs = ["".join(str(p.value) if isinstance(p, ast.Constant) else "?" for p in node.format_spec.values)]
            values = [node.value]
        elif isinstance(node, ast.BinOp) and isinstance(node.op, ast.Mod) and _text(node.left) is not None:
            specs = PERCENT.findall((_text(node.left) or "").replace("%%", ""))
            values = node.right.elts if isinstance(node.right, ast.Tuple) else [node.right]
        elif isinstance(node, ast.Call) and name_of(node.func) == "format" and isinstance(node.func, ast.Attribute):
            parts = list(string.Formatter().parse(_text(node.func.value) or ""))
            if all(not name for _, name, _, _ in parts):
                specs, values = [spec or "" for _, name, spec, _ in parts if name is not None], node.args
        elif isinstance(node, ast.Call) and name_of(node.func) == "format" and len(node.args) == 2:
            specs, values = [_text(node.args[1]) or ""], node.args[:1]
        if len(specs) == len(values):
            for spec, value in zip(specs, values, strict=True):
                if (match := DECIMALS.search(spec)) is not None:
                    yield id(value), int(match[1])


def _text(node: ast.AST) -> str | None:
    return node.value if isinstance(node, ast.Constant) and isinstance(node.value, str) else None
