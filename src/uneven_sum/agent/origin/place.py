"""Places whose origin can be asked for: a name, or something within its object, with its indices worked out."""

from __future__ import annotations

import ast
import os
import types
from dataclasses import asdict, dataclass
from typing import Any

from ..core.errors import Refused
from ..core.type_identity import is_one_of
from ..diagnosis import provenance
from ..frames import stack
from ..frames.namespace import Scope
from ..source import registry
from ..values.describe import children_count

KEYS = (int, str, float, bool, bytes, type(None))


@dataclass(frozen=True)
class Place:
    """`text`: as it is read in the function `scope` (empty: the module) of `file`; `name`: the name that it begins
    with.  `returns`: the value that call number `call` of the function returns, `text` then being what is taken of it;
    `leaves`: within an object that this call makes.  `shown`: as the user reads it, where that is another text.
    `whole`: an object that can be changed in place."""

    file: str
    scope: str
    name: str
    text: str
    returns: bool = False
    leaves: bool = False
    call: int = 0
    shown: str = ""
    whole: bool = False

    def told(self) -> dict[str, object]:
        return asdict(self)


def place_of(text: str, frame: types.FrameType) -> Place:
    """The place that an expression names in a call.  Refused when it is none."""
    try:
        node = ast.parse(text.strip(), mode="eval").body
    except (SyntaxError, ValueError):
        raise Refused(f"{text.strip()[:60]} is no expression.") from None
    return resolved(node, frame)


def resolved(node: ast.expr, frame: types.FrameType) -> Place:
    """As `place_of`, of a syntax tree."""
    call = stack.calls(frame)[0] if stack.calls(frame) else frame
    fixed = fixed_of(node, Scope(frame))
    root: ast.expr = fixed
    while isinstance(root, (ast.Attribute, ast.Subscript)):
        root = root.value
    assert isinstance(root, ast.Name)
    scope, file = scope_of(root.id, call)
    return Place(file, scope, root.id, ast.unparse(fixed), whole=_can_change(fixed, frame))


def _can_change(node: ast.expr, frame: types.FrameType) -> bool:
    """Whether the value is an object that can be changed in place."""
    try:
        value = provenance.read(node, Scope(frame))
    except provenance.Unreadable:
        return False
    return children_count(value) > 0 and not isinstance(value, (str, bytes, tuple, frozenset, range))


def fixed_of(node: ast.expr, scope: Scope) -> ast.expr:
    """The expression with its indices worked out: `flow[day]` is `flow[211]`."""
    if isinstance(node, ast.Name):
        if node.id not in scope:
            raise Refused(f"There is no name {node.id} here.")
        return ast.Name(node.id, ast.Load())
    if isinstance(node, ast.Attribute):
        return ast.Attribute(fixed_of(node.value, scope), node.attr, ast.Load())
    if isinstance(node, ast.Subscript):
        return ast.Subscript(fixed_of(node.value, scope), _key(node.slice, scope), ast.Load())
    raise Refused(
        f"{ast.unparse(node)[:60]} is worked out anew each time. Ask for a name, an attribute, or an element."
    )


def _key(node: ast.expr, scope: Scope) -> ast.expr:
    if isinstance(node, ast.Tuple):
        return ast.Tuple([_key(e, scope) for e in node.elts], ast.Load())
    if isinstance(node, ast.Slice):
        return ast.Slice(*[part and _key(part, scope) for part in (node.lower, node.upper, node.step)])
    try:
        value = provenance.read(node, scope)
    except provenance.Unreadable:
        raise Refused(f"The index {ast.unparse(node)[:40]} cannot be read here.") from None
    return key_node(value)


def key_node(value: object) -> ast.expr:
    """An index as syntax.  Refused when it is no number or text."""
    item = getattr(value, "item", None)  # of NumPy's scalars
    if item is not None and getattr(value, "shape", None) == () and not is_one_of(type(value), *KEYS):
        value = item()
    if is_one_of(type(value), *KEYS):
        return ast.parse(repr(value), mode="eval").body
    if value is ...:
        return ast.Constant(...)
    if type(value) is tuple:
        return ast.Tuple([key_node(v) for v in value], ast.Load())
    raise Refused(f"An index of type {type(value).__name__} cannot be followed. Ask for one element.")


def scope_of(name: str, frame: types.FrameType) -> tuple[str, str]:
    """The function that has the name (empty: the module), and its file, as a call sees it."""
    code = frame.f_code
    here = stack.plain_name(stack.function_name(frame))
    file = os.path.realpath(code.co_filename)
    if name in code.co_varnames or name in code.co_cellvars:
        return here, file
    if name in code.co_freevars:
        source = registry.file_of(frame)
        outer = here.rpartition(".")[0]
        while source is not None and outer:
            if name in names_of(source.tree, outer):
                return outer, file
            outer = outer.rpartition(".")[0]
        return here.rpartition(".")[0], file
    home = frame.f_globals.get("__file__")
    return "", os.path.realpath(home) if isinstance(home, str) else file


def names_of(tree: ast.Module, function: str) -> set[str]:
    """Names that a function, by its qualified name, binds."""
    body: list[ast.stmt] = tree.body
    node: Any = None
    for part in function.split("."):
        kinds = (ast.FunctionDef, ast.AsyncFunctionDef, ast.ClassDef)
        node = next((n for s in body for n in ast.walk(s) if isinstance(n, kinds) and n.name == part), None)
        if node is None:
            return set()
        body = node.body
    from ..lookouts.lookout import assigned_names

    return assigned_names(node)[0]
