"""Complex numbers that a power of real ones gives: `(level - crest) ** 1.5` below the crest, where NumPy gives nan."""

from __future__ import annotations

import ast

from ..source.sites import callee
from ..source.source_file import Statement

SPOKEN_OF = {"imag", "conjugate", "complex", "cmath", "iscomplex", "iscomplexobj"}  # anywhere in the file
READ_HERE = {"real", "isreal", "real_if_close"}  # in the function


def is_power(node: ast.AST) -> bool:
    if isinstance(node, (ast.BinOp, ast.AugAssign)):
        return isinstance(node.op, ast.Pow)
    return isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and callee(node) == "pow"


def gives_complex(node: ast.AST, value: object, operands: list[object]) -> bool:
    return type(value) is complex and is_power(node) and not any(isinstance(v, complex) for v in operands)


def may_be(node: ast.AST, statement: Statement, tree: ast.AST) -> bool:
    """Whether an expression has a power, in a file and a function that do not speak of complex numbers."""
    if not any(map(is_power, ast.walk(node))):
        return False
    return not _speaks(tree, SPOKEN_OF) and not _speaks(statement.scope, READ_HERE)


def _speaks(tree: ast.AST, names: set[str]) -> bool:
    for part in ast.walk(tree):
        if isinstance(part, ast.Constant) and type(part.value) is complex and names is SPOKEN_OF:
            return True
        if isinstance(part, ast.alias) and part.name in names:
            return True
        if getattr(part, "attr", getattr(part, "id", "")) in names:
            return True
    return False
