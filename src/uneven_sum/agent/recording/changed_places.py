"""Attributes and elements that a loop changes by what it calls: `tank.level` of `tank.step(rain)`.

Found in the text: what the called methods and functions store in their arguments, and they in theirs.
"""

from __future__ import annotations

import ast
import os
from collections.abc import Iterator

from ..core.trees import Repeated
from ..source import registry
from ..source.source_file import SCOPES, SourceFile

MOST = 12  # places of one loop
DEEP = 4  # calls within calls
FUNCTIONS = (ast.FunctionDef, ast.AsyncFunctionDef)
Binding = dict[str, str]  # the argument's name, and what was given


def changed_places(file: SourceFile, node: Repeated) -> tuple[str, ...]:
    """As they are written where the loop stands; without those that it assigns itself."""
    found: dict[str, None] = {}
    own = {ast.unparse(t) for n in ast.walk(node) for t in _targets(n)}
    texts = _Texts(file)
    for part in getattr(node, "body", []):
        for call in _calls(part):
            for place in texts.changes(call, None, DEEP):
                if place not in own:
                    found.setdefault(_quoted(place))
    return tuple(found)[:MOST]


class _Texts:
    """The functions and classes of a file, and of those that it imports from beside itself."""

    def __init__(self, file: SourceFile) -> None:
        self.file = file
        self.functions: dict[str, ast.FunctionDef | ast.AsyncFunctionDef] = {}
        self.classes: dict[str, ast.ClassDef] = {}
        self.made: dict[str, set[str]] = {}  # classes, by the names and attributes that their objects are assigned to
        self._under_way: set[int] = set()
        self._read(file.tree, file.path, True)

    def _read(self, tree: ast.AST, path: str, imports: bool) -> None:
        for node in ast.walk(tree):
            if isinstance(node, ast.ClassDef):
                self.classes.setdefault(node.name, node)
            elif isinstance(node, ast.Assign) and isinstance(node.value, ast.Call):
                for target in node.targets:
                    self.made.setdefault(ast.unparse(target), set()).add(_name(node.value.func))
            elif isinstance(node, (ast.Import, ast.ImportFrom)) and imports:
                names = [node.module or ""] if isinstance(node, ast.ImportFrom) else [a.name for a in node.names]
                for name in names:
                    other = _beside(path, name)
                    if other is not None:
                        self._read(other, path, False)
        for node in ast.iter_child_nodes(tree):
            if isinstance(node, FUNCTIONS):
                self.functions.setdefault(node.name, node)

    def changes(self, call: ast.Call, binding: Binding | None, depth: int) -> Iterator[str]:
        """The places that a call changes.  `binding`: of the function that the call stands in; None in the loop, where
        each name stands for itself."""
        if isinstance(call.func, ast.Attribute):
            owner = _bound(call.func.value, binding)
            if owner is None:
                return
            for home in self._homes(call.func, owner):
                method = _method(home, call.func.attr)
                if method is not None:
                    yield from self._stored(method, call, owner, binding, depth, home)
        elif isinstance(call.func, ast.Name) and call.func.id in self.functions:
            yield from self._stored(self.functions[call.func.id], call, None, binding, depth, None)

    def _homes(self, func: ast.Attribute, owner: str) -> list[ast.ClassDef]:
        """The classes that the object of a method may be of: the one that makes it, else all with such a method."""
        known = [self.classes[name] for name in self.made.get(owner, ()) if name in self.classes]
        found = [home for top in known for home in self._with_bases(top) if _method(home, func.attr) is not None]
        if found:
            return found[:1]
        having = [home for home in self.classes.values() if _method(home, func.attr) is not None]
        return having if len(having) < 4 else []

    def _with_bases(self, home: ast.ClassDef) -> list[ast.ClassDef]:
        bases = [self.classes[_name(b)] for b in home.bases if _name(b) in self.classes]
        return [home, *(b for b in bases if b is not home)]

    def _stored(
        self,
        function: ast.FunctionDef | ast.AsyncFunctionDef,
        call: ast.Call,
        owner: str | None,
        binding: Binding | None,
        depth: int,
        home: ast.ClassDef | None,
    ) -> Iterator[str]:
        if depth <= 0 or id(function) in self._under_way:
            return
        inner = _arguments(function, call, owner, binding)
        self._under_way.add(id(function))
        try:
            for part in function.body:
                for node in _within(part):
                    for target in _targets(node):
                        place = _bound(target, inner)
                        if place is not None and not isinstance(target, ast.Name):
                            yield place
                    if isinstance(node, ast.Call):
                        yield from self._of_own_class(node, inner, depth, home)
        finally:
            self._under_way.discard(id(function))

    def _of_own_class(self, call: ast.Call, inner: Binding, depth: int, home: ast.ClassDef | None) -> Iterator[str]:
        """A call of `self.part()` is one of the same class."""
        func = call.func
        if home is not None and isinstance(func, ast.Attribute) and isinstance(func.value, ast.Name):
            first = next(iter(inner), None)
            method = next((m for b in self._with_bases(home) if (m := _method(b, func.attr)) is not None), None)
            if func.value.id == first and method is not None:
                yield from self._stored(method, call, inner[func.value.id], inner, depth - 1, home)
                return
        yield from self.changes(call, inner, depth - 1)


def _beside(path: str, name: str) -> ast.AST | None:
    """The text of a module that is a file beside another one."""
    other = os.path.join(os.path.dirname(os.path.realpath(path)), *name.split(".")) + ".py"
    known = registry.files.get(other)
    try:
        if known is not None:
            return known.tree
        with open(other, "rb") as f:
            return SourceFile(other, f.read()).tree
    except (OSError, SyntaxError, ValueError, RecursionError):
        return None


def _arguments(
    function: ast.FunctionDef | ast.AsyncFunctionDef, call: ast.Call, owner: str | None, binding: Binding | None
) -> Binding:
    names = [a.arg for a in (*function.args.posonlyargs, *function.args.args)]
    found: Binding = {}
    if owner is not None and names:
        static = any(_name(d) in ("staticmethod", "classmethod") for d in function.decorator_list)
        if not static:
            found[names.pop(0)] = owner
    pairs: list[tuple[str, ast.expr]] = list(zip(names, call.args))
    pairs += [(k.arg, k.value) for k in call.keywords if k.arg is not None]
    for name, value in pairs:
        given = _bound(value, binding)
        if given is not None:
            found[name] = given
    return found


def _bound(node: ast.AST, binding: Binding | None) -> str | None:
    """The text of a name, attribute or element with a constant index, seen from the loop; None for others."""
    if isinstance(node, ast.Name):
        return node.id if binding is None else binding.get(node.id)
    if isinstance(node, ast.Attribute):
        owner = _bound(node.value, binding)
        return f"{owner}.{node.attr}" if owner is not None else None
    if isinstance(node, ast.Subscript) and isinstance(node.slice, ast.Constant):
        owner = _bound(node.value, binding)
        return f"{owner}[{node.slice.value!r}]" if owner is not None else None
    return None


def _quoted(text: str) -> str:
    """Texts in double quotes, as most write them."""
    return text.replace("'", '"') if '"' not in text else text


def _targets(node: ast.AST) -> list[ast.expr]:
    found: list[ast.expr] = []
    if isinstance(node, ast.Assign):
        found = list(node.targets)
    elif isinstance(node, (ast.AugAssign, ast.AnnAssign)):
        found = [node.target]
    flat: list[ast.expr] = []
    while found:
        one = found.pop(0)
        found = [*one.elts, *found] if isinstance(one, (ast.Tuple, ast.List)) else found
        if not isinstance(one, (ast.Tuple, ast.List)):
            flat.append(one)
    return flat


def _within(node: ast.AST) -> Iterator[ast.AST]:
    yield node
    for child in ast.iter_child_nodes(node):
        if not isinstance(child, SCOPES):
            yield from _within(child)


def _calls(node: ast.AST) -> Iterator[ast.Call]:
    if not isinstance(node, SCOPES):
        yield from (n for n in _within(node) if isinstance(n, ast.Call))


def _method(home: ast.ClassDef, name: str) -> ast.FunctionDef | ast.AsyncFunctionDef | None:
    return next((n for n in home.body if isinstance(n, FUNCTIONS) and n.name == name), None)


def _name(node: ast.AST) -> str:
    return node.attr if isinstance(node, ast.Attribute) else getattr(node, "id", "")
