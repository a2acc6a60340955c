"""What a result is made from, read from the text: the statements whose values may go into it."""

from __future__ import annotations

import ast

from ..differing.places import FUNCTIONS, Text, name_of
from ..differing.reading import Place

Scope = ast.AST
Name = tuple[int, str]  # scope (by id), name


class Ways:
    """The assignments of a file, by scope and name."""

    def __init__(self, text: Text) -> None:
        self.text = text
        self.scope_of: dict[int, Scope] = {}
        self.set_by: dict[Name, list[ast.AST]] = {}  # statements, and what they read
        self.functions: dict[str, list[ast.FunctionDef | ast.AsyncFunctionDef]] = {}
        self.calls: dict[str, list[ast.Call]] = {}
        self.target_of: dict[int, str] = {}  # what a value is assigned to, by the id of its node
        self.read: set[str] = set()  # names that are read anywhere in the file
        self.decimals: dict[int, int] | None = None  # see `residuals`
        self._shown_by: dict[int, ast.AST] = {}  # the call or f-string around a node, by its id
        self._texts: list[tuple[set[str], ast.AST]] = []  # names that get a value with f-strings in it
        if text.tree is not None:
            self._read(text.tree, text.tree)

    def _read(self, node: ast.AST, scope: Scope) -> None:
        self.scope_of[id(node)] = scope
        inner = scope
        if isinstance(node, FUNCTIONS):
            self.functions.setdefault(node.name, []).append(node)
            inner = node
        elif isinstance(node, ast.Call):
            self.calls.setdefault(name_of(node.func), []).append(node)
        if isinstance(node, (ast.Call, ast.JoinedStr)):
            self._shown_by.update({id(n): node for n in ast.walk(node) if isinstance(n, ast.expr) and n is not node})
        if isinstance(node, ast.Name) and isinstance(node.ctx, ast.Load):
            self.read.add(node.id)
        self._note_target(node)
        if isinstance(node, ast.Assign) and all(isinstance(target, ast.Name) for target in node.targets):
            self._texts.append(({target.id for target in node.targets if isinstance(target, ast.Name)}, node.value))
        for target in _targets(node):
            self.set_by.setdefault((id(scope), target), []).append(node)
        for child in ast.iter_child_nodes(node):
            self._read(child, inner)

    def _note_target(self, node: ast.AST) -> None:
        if isinstance(node, ast.AugAssign):
            self.target_of[id(node)] = ast.unparse(node.target)
        elif isinstance(node, (ast.Assign, ast.AnnAssign, ast.NamedExpr)) and node.value is not None:
            target = node.targets[0] if isinstance(node, ast.Assign) else node.target
            self.target_of[id(node.value)] = ast.unparse(target)
            if isinstance(node.value, ast.Tuple) and isinstance(target, ast.Tuple):
                if len(target.elts) == len(node.value.elts):
                    for one, value in zip(target.elts, node.value.elts):
                        self.target_of[id(value)] = ast.unparse(one)

    def never_shown(self) -> set[int]:
        """The values in f-strings of names that nothing reads, by the ids of their nodes: they build a text only."""
        unread = [value for names, value in self._texts if not names & self.read]
        pieces = [n.value for value in unread for n in ast.walk(value) if isinstance(n, ast.FormattedValue)]
        return {id(piece) for piece in pieces}

    def shown_by(self, node: ast.AST) -> list[ast.AST]:
        """The calls and f-strings around a node, innermost first."""
        found = []
        while (outer := self._shown_by.get(id(node))) is not None:
            found.append(outer)
            node = outer
        return found

    def only_value(self, node: ast.Name | ast.Attribute) -> ast.AST | None:
        """The one expression that a name of the same scope or of the module is set to; None where there are more."""
        name = node.id if isinstance(node, ast.Name) else ast.unparse(node)
        for scope in (self.scope_of.get(id(node), self.text.tree), self.text.tree):
            known = self.set_by.get((id(scope), name), [])
            if known:
                one = known[0]
                plain = len(known) == 1 and isinstance(one, ast.Assign) and len(one.targets) == 1
                if plain and isinstance(one, ast.Assign) and isinstance(one.targets[0], (ast.Name, ast.Attribute)):
                    return one.value
                return None
            if isinstance(scope, FUNCTIONS) and name in {a.arg for a in ast.walk(scope.args) if isinstance(a, ast.arg)}:
                return None
        return None

    def node_at(self, place: Place) -> ast.AST | None:
        """The expression, or the augmented assignment, that a place stands for."""
        return self.text.node(place)

    def made_from(self, start: ast.AST) -> set[int]:
        """The nodes, by id, that the value of a node may come from."""
        found: set[int] = set()
        todo = [start]
        names: set[Name] = set()
        while todo:
            root = todo.pop()
            for node in _values_of(root):
                if id(node) in found:
                    continue
                found.add(id(node))
                scope = self.scope_of.get(id(node), self.text.tree)
                if isinstance(node, (ast.Name, ast.Attribute)):
                    name = node.id if isinstance(node, ast.Name) else ast.unparse(node)
                    todo += self._setters(scope, name, names)
                if isinstance(node, ast.Call):
                    for function in self.functions.get(name_of(node.func), []):
                        todo += [r for r in ast.walk(function) if isinstance(r, (ast.Return, ast.Yield))]
        return found

    def _setters(self, scope: Scope | None, name: str, names: set[Name]) -> list[ast.AST]:
        """What sets a name: in the scope itself, as an argument of calls, or in the module."""
        for place in (scope, self.text.tree):
            key = (id(place), name)
            known = self.set_by.get(key, [])
            given = isinstance(place, FUNCTIONS) and name in {
                a.arg for a in ast.walk(place.args) if isinstance(a, ast.arg)
            }
            if not (known or given):
                continue
            if key in names:
                return []
            names.add(key)
            if given and isinstance(place, FUNCTIONS):
                return [*known, *(a for call in self.calls.get(place.name, []) for a in (*call.args, *_given(call)))]
            return known
        return []


def _given(call: ast.Call) -> list[ast.expr]:
    return [k.value for k in call.keywords]


def _values_of(root: ast.AST) -> list[ast.AST]:
    """The nodes that a statement or expression reads; of a compound statement, its head."""
    found, todo = [], [root]
    while todo:
        node = todo.pop()
        found.append(node)
        for name, value in ast.iter_fields(node):
            if name in ("body", "orelse", "finalbody", "handlers", "cases") and isinstance(node, ast.stmt):
                continue
            todo += [v for v in (value if isinstance(value, list) else [value]) if isinstance(v, ast.AST)]
    return found


def _targets(node: ast.AST) -> list[str]:
    """The names that a statement sets, or changes in place."""
    todo: list[ast.AST] = []
    if isinstance(node, ast.Assign):
        todo += node.targets
    elif isinstance(node, (ast.AugAssign, ast.AnnAssign, ast.For, ast.AsyncFor, ast.NamedExpr, ast.comprehension)):
        todo.append(node.target)
    elif isinstance(node, ast.Expr) and isinstance(node.value, ast.Call) and isinstance(node.value.func, ast.Attribute):
        todo.append(node.value.func.value)
    elif isinstance(node, ast.withitem) and node.optional_vars is not None:
        todo.append(node.optional_vars)
    found = []
    while todo:
        one = todo.pop()
        if isinstance(one, (ast.Tuple, ast.List)):
            todo += one.elts
        elif isinstance(one, (ast.Subscript, ast.Starred)):
            todo.append(one.value)
        elif isinstance(one, ast.Name):
            found.append(one.id)
        elif isinstance(one, ast.Attribute):
            found.append(ast.unparse(one))
    return found
