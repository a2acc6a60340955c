"""The column at which a Ledger opens: the one that leads to the pause."""

from __future__ import annotations

import ast

from ...client.ledger import Column
from ...protocol import Facts


def opening_column(columns: list[Column], facts: Facts | None) -> int:
    """The first column, by its number, of what the culprit is made of; else of what its statement is made of; else one
    that holds a non-finite value; else the first number after the counter of the loop."""
    for name in _names(facts):
        for number, column in enumerate(columns):
            if name in (column.name, column.facts.of):
                return number
    for number, column in enumerate(columns):
        if column.facts.bad:
            return number
    numeric = [number for number, column in enumerate(columns) if column.numeric]
    return numeric[1] if len(numeric) > 1 else 0


def _names(facts: Facts | None) -> list[str]:
    if facts is None:
        return []
    texts = [facts.culprit.text] if facts.culprit is not None else []
    texts += [operand.text for operand in facts.culprit.operands] if facts.culprit is not None else []
    texts += [facts.statement.strip()]
    found: list[str] = []
    for text in texts:
        try:
            tree = ast.parse(text)
        except (SyntaxError, ValueError):
            continue
        for node in ast.walk(tree):
            if isinstance(node, (ast.Name, ast.Attribute, ast.Subscript)):
                found.append(ast.unparse(node))
    return list(dict.fromkeys(found))
