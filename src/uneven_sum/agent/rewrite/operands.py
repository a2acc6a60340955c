"""The operands of an expression that a probe may read once more, to see whether they explain a result."""

from __future__ import annotations

import ast

from ..source.sites import Parts


def _whole_number(node: ast.AST) -> int | None:
    if isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.USub):
        below = _whole_number(node.operand)
        return None if below is None else -below
    return node.value if isinstance(node, ast.Constant) and type(node.value) is int else None


class Operands:
    """What an expression may have its bad cells from, to be read again: names; elements and attributes of names."""

    def __init__(self, readable: set[str]) -> None:
        self.readable = readable
        self.whole: set[str] = set()  # names that are operands themselves
        self.elements: list[tuple[str, str | None, int]] = []  # of a name; the index's name; what is added to that
        self.keys: list[tuple[str, str]] = []
        self.attributes: list[tuple[str, str]] = []
        self.complete = True

    def take(self, node: ast.AST) -> Operands:
        if isinstance(node, ast.Name) and node.id in self.readable:
            self.whole.add(node.id)
        elif isinstance(node, ast.BinOp):
            self.take(node.left).take(node.right)
        elif isinstance(node, ast.UnaryOp):
            self.take(node.operand)
        elif isinstance(node, ast.Call):
            self.complete = self.complete and not node.keywords
            if isinstance(node.func, ast.Attribute):
                self.take(node.func.value)
            for one in node.args:
                self.take(one)
        elif isinstance(node, (ast.Attribute, ast.Subscript)) and isinstance(node.value, ast.Name):
            self.complete = self._take_part(node, node.value.id) and self.complete
        elif not isinstance(node, ast.Constant):
            self.complete = False
        return self

    def _take_part(self, node: ast.Attribute | ast.Subscript, owner: str) -> bool:
        if owner not in self.readable:
            return False
        if isinstance(node, ast.Attribute):
            self.attributes.append((owner, node.attr))
            return True
        index, added = node.slice, 0
        if isinstance(index, ast.BinOp) and isinstance(index.op, (ast.Add, ast.Sub)):
            beside = _whole_number(index.right)
            if beside is not None:
                added = beside if isinstance(index.op, ast.Add) else -beside
                index = index.left
        alone = _whole_number(index)
        if isinstance(index, ast.Name) and index.id in self.readable:
            self.elements.append((owner, index.id, added))
        elif alone is not None:
            self.elements.append((owner, None, alone + added))
        elif isinstance(index, ast.Constant) and type(index.value) is str:
            self.keys.append((owner, index.value))
        else:
            return False
        return True

    @property
    def names(self) -> list[str]:
        """All names that are needed, in the order in which a probe has their values."""
        indices = {index for _, index, _ in self.elements if index is not None}
        owners = {one[0] for one in self.elements} | {owner for owner, _ in [*self.keys, *self.attributes]}
        return sorted(self.whole | indices | owners)

    @property
    def parts(self) -> Parts | None:
        """How a probe finds the operands among the values of these names; None where there are none."""
        at = {name: place for place, name in enumerate(self.names)}
        if not at:
            return None
        return Parts(
            tuple([at[name] for name in sorted(self.whole)]),
            tuple([(at[name], None if index is None else at[index], added) for name, index, added in self.elements]),
            tuple([(at[name], key) for name, key in self.keys]),
            tuple([(at[name], attribute) for name, attribute in self.attributes]),
            self.complete,
        )
