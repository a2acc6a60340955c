"""Which cell of a value a place is, and which cells and elements it was made from."""

from __future__ import annotations

import ast
import re
from dataclasses import dataclass
from typing import Any

from ..core.errors import Refused
from ..diagnosis import provenance
from ..frames.namespace import Scope
from ..source.sites import callee
from ..values import nonfinite
from .place import Place, fixed_of, key_node
from .reader import Expected, covers, is_bad

SEQUENCES = ("list", "tuple", "ndarray", "str", "deque", "Series")
MOST = 20_000_000  # cells of an array whose indices are worked out


@dataclass(frozen=True)
class Cell:
    """Part of a value: `suffix` as it is written behind the value's text.  `index`: of an array, one number for each
    of its dimensions; `label`: of a series.  `known`: the value is one number, or the index is known."""

    suffix: str = ""
    index: tuple[int, ...] = ()
    shape: tuple[int, ...] = ()
    label: object = None
    known: bool = False

    def within(self, operand: object) -> str:
        """The text behind an operand of an element-wise expression: its cell that this cell is made from."""
        numpy, pandas = nonfinite.module("numpy"), nonfinite.module("pandas")
        try:
            if pandas is not None and isinstance(operand, pandas.Series) and self.label is not None:
                return f".loc[{self.label!r}]"
            if type(operand) in (list, tuple) and self.index:
                return "".join(f"[{k}]" for k in self.index)
            if numpy is None or not isinstance(operand, numpy.ndarray) or not operand.shape or not self.index:
                return ""
            index = self.index[len(self.index) - operand.ndim :]
            fitted = [i if n > 1 else 0 for i, n in zip(index, operand.shape)]
            return f"[{', '.join(map(str, fitted))}]" if len(fitted) == operand.ndim else ""
        except Exception:
            return ""


def within(target: ast.expr, place: Place, scope: Scope) -> bool:
    """Whether a target of an assignment is the place, or holds it: it begins with the same name or object."""
    node = target.value if isinstance(target, ast.Starred) else target
    root: ast.AST = node
    while isinstance(root, (ast.Attribute, ast.Subscript)):
        root = root.value
    if isinstance(node, ast.Name):
        return node.id == place.name
    if not isinstance(root, ast.Name):
        return False
    if root.id == place.name:
        return True
    return place.name not in scope or _shares(root.id, place, scope)


def holds(target: ast.expr, place: Place, scope: Scope) -> bool:
    """Whether a target is surely the place, or holds it: the same name, the same element, the same cell of memory."""
    suffix = place.text[len(place.name) :]
    if isinstance(target, ast.Name) or not suffix:
        return within(target, place, scope)
    if not within(target, place, scope) or not isinstance(target, (ast.Attribute, ast.Subscript)):
        return False
    own = _own_suffix(target, scope)
    if own and (suffix.startswith(own) or _row_of(suffix, own) is not None):
        return True
    numpy, cell = nonfinite.module("numpy"), index_of(suffix)
    if not isinstance(target, ast.Subscript) or numpy is None or not cell or place.name not in scope:
        return False
    try:
        owner, index = provenance.read(target.value, scope), provenance.read(target.slice, scope)
    except provenance.Unreadable:
        return False
    return covers(numpy, scope[place.name], cell, owner, index)


def _row_of(suffix: str, own: str) -> str | None:
    """The row of `.loc[row, column]` where the target `own` is that column, as `["rain"]` is."""
    found = re.fullmatch(r"\.(?:loc|at)\[(.+), (.+)\]", suffix)
    return found[1] if found is not None and own == f"[{found[2]}]" else None


def _shares(name: str, place: Place, scope: Scope) -> bool:
    if name not in scope:
        return False
    numpy, a, b = nonfinite.module("numpy"), scope[name], scope[place.name]
    return a is b or (numpy is not None and isinstance(a, numpy.ndarray) and isinstance(b, numpy.ndarray))


def cell_of(target: ast.expr, place: Place, scope: Scope) -> Cell:
    """Which cell of the value that a target gets becomes the place."""
    suffix = place.text[len(place.name) :]
    if isinstance(target, ast.Name):
        return of_suffix(suffix)
    if isinstance(target, (ast.Subscript, ast.Attribute)) and suffix:
        own = _own_suffix(target, scope)
        if own and suffix.startswith(own):
            return of_suffix(suffix[len(own) :])
        row = _row_of(suffix, own)
        if own and row is not None:
            return of_suffix(f".loc[{row}]")
    if isinstance(target, ast.Subscript) and suffix:
        return _stored(target, suffix, scope)
    return Cell(known=True)


def of_suffix(suffix: str) -> Cell:
    """The part of a value that a text behind it names."""
    return Cell(suffix, index=index_of(suffix), label=label_of(suffix), known=True)


def _own_suffix(target: ast.expr, scope: Scope) -> str:
    """What stands behind the name that a target begins with, its indices worked out."""
    try:
        fixed = fixed_of(target, scope)
    except Refused:
        return ""
    root: ast.AST = fixed
    while isinstance(root, (ast.Attribute, ast.Subscript)):
        root = root.value
    return ast.unparse(fixed)[len(ast.unparse(root)) :]


def index_of(suffix: str) -> tuple[int, ...]:
    """The whole numbers of `[3]` or `[3, 4]`; empty for anything else."""
    if not suffix.startswith("["):
        return ()
    try:
        found = [ast.literal_eval(part) for part in suffix[1:-1].split("][")]
    except (ValueError, SyntaxError):
        return ()
    keys = tuple(k for key in found for k in (key if isinstance(key, tuple) else (key,)))
    return keys if all(type(k) is int for k in keys) else ()


def label_of(suffix: str) -> object:
    for begin in (".loc[", "["):
        if suffix.startswith(begin):
            try:
                return ast.literal_eval(suffix[len(begin) : -1])
            except (ValueError, SyntaxError):
                return None
    return None


def _stored(target: ast.Subscript, suffix: str, scope: Scope) -> Cell:
    """`a[slice] = value`: the cell's index in the value."""
    numpy = nonfinite.module("numpy")
    wanted = index_of(suffix)
    try:
        owner = provenance.read(target.value, scope)
        index = provenance.read(target.slice, scope)
        if numpy is None or not isinstance(owner, numpy.ndarray) or owner.size > MOST or not wanted:
            return Cell(known=True)
        numbers = numpy.arange(owner.size).reshape(owner.shape)
        part = numbers[index]
        if not part.shape:
            return Cell(known=True)
        found = numpy.argwhere(part == numbers[wanted])
        if len(found):
            return Cell("", tuple(int(i) for i in found[-1]), part.shape, known=True)
    except (provenance.Unreadable, IndexError, ValueError, TypeError):
        pass
    return Cell(known=True)


def first_bad(value: Any) -> str:
    """The text behind a value for its first cell that is not finite; empty when it is one number."""
    numpy, pandas = nonfinite.module("numpy"), nonfinite.module("pandas")
    try:
        if pandas is not None and isinstance(value, pandas.Series):
            marks = nonfinite.mask(value)
            key = ast.unparse(key_node(value.index[int(numpy.argmax(numpy.asarray(marks)))]))
            return f".loc[{key}]"
        if type(value) in (list, tuple):
            number = next((k for k, one in enumerate(value) if is_bad(one)), None)
            return "" if number is None else f"[{number}]" + first_bad(value[number])
        if type(value) is dict:
            key_of = next((k for k, one in value.items() if is_bad(one)), None)
            return "" if key_of is None else f"[{ast.unparse(key_node(key_of))}]" + first_bad(value[key_of])
        if numpy is not None and isinstance(value, numpy.ndarray) and value.shape:
            broken = Expected.broken(value)
            marks = broken if getattr(broken, "shape", None) == value.shape and broken.any() else ~numpy.isfinite(value)
            at = numpy.unravel_index(int(numpy.argmax(marks)), value.shape)
            return f"[{', '.join(str(int(i)) for i in at)}]"
    except (Refused, TypeError, ValueError):
        pass
    return ""


# -- elements of what a loop goes over -----------------------------------------------------------------


def element_of(target: ast.expr, over: ast.expr, name: str, number: int, scope: Scope) -> ast.expr | None:
    """The expression of the element that a name got in pass `number`, counted from 1: `levels[2]` for `level` in
    `for k, level in enumerate(levels)`.  None where that is not known."""
    parts = target.elts if isinstance(target, (ast.Tuple, ast.List)) else None
    at = None if parts is None else next((n for n, part in enumerate(parts) if name in _names(part)), None)
    word = callee(over) if isinstance(over, ast.Call) else ""
    if parts is not None and at is not None and isinstance(over, ast.Call):
        if word == "enumerate" and at == 1 and over.args:
            return element_of(parts[1], over.args[0], name, number, scope)
        if word == "zip" and at < len(over.args):
            return element_of(parts[at], over.args[at], name, number, scope)
        if word == "iterrows" and at == 1 and isinstance(over.func, ast.Attribute):
            rows = ast.Attribute(over.func.value, "iloc", ast.Load())
            return ast.Subscript(rows, ast.Constant(number - 1), ast.Load())
        return None
    if isinstance(over, ast.Call):
        return None
    return _indexed(over, at, number, scope)


def _indexed(over: ast.expr, at: int | None, number: int, scope: Scope) -> ast.expr | None:
    try:
        thing: Any = provenance.read(over, scope)
        if type(thing).__name__ == "dict":
            key = key_node(list(thing)[number - 1])
            return key if at is None else None
    except (provenance.Unreadable, Refused, IndexError):
        return None
    if type(thing).__name__ not in SEQUENCES:
        return None
    owner: ast.expr = over
    if type(thing).__name__ == "Series":
        owner = ast.Attribute(over, "iloc", ast.Load())
    element = ast.Subscript(owner, ast.Constant(number - 1), ast.Load())
    return element if at is None else ast.Subscript(element, ast.Constant(at), ast.Load())


def _names(target: ast.expr) -> set[str]:
    return {n.id for n in ast.walk(target) if isinstance(n, ast.Name)}
