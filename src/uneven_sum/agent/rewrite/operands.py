"""The operands of an expression that a probe may read once more, to see whether they explain a result."""

from __future__ import annotations

import ast

from ..source.sites import Index, Parts, read_from

WHOLE = (ast.Add, ast.Sub, ast.Mult, ast.FloorDiv, ast.Mod)  # of whole numbers they give a whole number


def _whole_number(node: ast.AST) -> int | None:
    if isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.USub):
        below = _whole_number(node.operand)
        return None if below is None else -below
    return node.value if isinstance(node, ast.Constant) and type(node.value) is int else None


def _index(node: ast.expr | None, at: dict[str, int]) -> Index:
    if isinstance(node, ast.Name):
        return "name", at[node.id]
    if isinstance(node, ast.BinOp):
        return type(node.op), _index(node.left, at), _index(node.right, at)
    if isinstance(node, ast.Slice):
        return "slice", *[_index(one, at) for one in (node.lower, node.upper, node.step)]
    if isinstance(node, ast.Tuple):
        return "tuple", *[_index(one, at) for one in node.elts]
    return None if node is None else _whole_number(node)


class Operands:
    """What an expression may have its bad cells from, to be read again: names; elements and attributes of names."""

    def __init__(self, readable: set[str]) -> None:
        self.readable = readable
        self.whole: set[str] = set()  # names that are operands themselves
        self.elements: list[tuple[str, str | None, int]] = []  # of a name; the index's name; what is added to that
        self.keys: list[tuple[str, str]] = []
        self.attributes: list[tuple[str, str]] = []
        self.items: list[tuple[str, list[ast.expr]]] = []  # of a name, by one index after the other
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
        elif isinstance(node, (ast.Attribute, ast.Subscript)) and isinstance(read_from(node), ast.Call):
            self.take(read_from(node))
        elif isinstance(node, (ast.Attribute, ast.Subscript)) and isinstance(node.value, ast.Name):
            self.complete = self._take_part(node, node.value.id) and self.complete
        elif isinstance(node, ast.Subscript):
            self.complete = self._take_item(node) and self.complete
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
            return self._take_item(node)
        return True

    def _take_item(self, node: ast.expr) -> bool:
        """`stage[k % 2]`, `field[i - 1, j]`, `rows[i][j]`, `flow[1:-1]`."""
        path: list[ast.expr] = []
        while isinstance(node, ast.Subscript):
            path.insert(0, node.slice)
            node = node.value
        if not (isinstance(node, ast.Name) and node.id in self.readable and all(map(self._is_computed, path))):
            return False
        self.items.append((node.id, path))
        return True

    def _is_computed(self, index: ast.expr | None) -> bool:
        """Whether an index is made of whole numbers and names."""
        if isinstance(index, ast.Name):
            return index.id in self.readable
        if isinstance(index, ast.BinOp):
            return type(index.op) in WHOLE and self._is_computed(index.left) and self._is_computed(index.right)
        if isinstance(index, ast.Slice):
            return all(map(self._is_computed, (index.lower, index.upper, index.step)))
        if isinstance(index, ast.Tuple):
            return all(map(self._is_computed, index.elts))
        return index is None or _whole_number(index) is not None

    @property
    def names(self) -> list[str]:
        """All names that are needed, in the order in which a probe has their values."""
        indices = {index for _, index, _ in self.elements if index is not None}
        indices |= {
            n.id for _, path in self.items for index in path for n in ast.walk(index) if isinstance(n, ast.Name)
        }
        owners = {owner for owner, *_ in self.elements} | {owner for owner, _ in [*self.keys, *self.attributes]}
        owners |= {owner for owner, _ in self.items}
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
            tuple([(at[name], tuple([_index(one, at) for one in path])) for name, path in self.items]),
            self.complete,
        )
