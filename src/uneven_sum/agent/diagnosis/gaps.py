"""Gaps: cells that a library call left empty (nan) although its operands were complete, as many document.

They are reported without a pause.  The values that hold them are remembered, weakly; where one enters the user's own
arithmetic, and nothing in that function fills, drops, masks or tests it, there is a pause.
"""

from __future__ import annotations

import ast
import types
import weakref
from collections.abc import Sequence
from typing import Any

from ..core.data_types import Column
from ..core.records import record
from ..frames.namespace import Scope
from ..source.call_lists import ABSORBING, ARITHMETIC_METHODS
from ..source.cells import place_words
from ..source.sites import Parts, callee
from ..source.source_file import Statement
from ..values import nonfinite, polars_cells
from . import provenance
from .arguments import argument_of

KEPT = 1000  # values that are remembered
MOST_CALLS = 3  # that hand a column on


@record
class Gap:
    """What left the cells empty.  `cells`: how many."""

    call: str
    file: str
    line: int
    cells: int
    why: str = ""
    entered: bool = False  # the user's arithmetic: there was a pause
    looked_for: bool = False  # by its function, which masks it or only counts it

    def sentence(self) -> str:
        why = f" ({self.why})" if self.why else ""
        at = place_words(self.file, self.line)
        return f"{self.cells} empty cell{'s' if self.cells != 1 else ''} left by {self.call} at {at}{why}"


def is_gap(node: ast.AST, function: object, value: object) -> bool:
    """True for a library call whose result has cells of nan, none of inf, and not nothing but nan.

    The operators of NumPy's universal functions and of pandas' methods (`add`, `div`) are arithmetic.
    """
    if not isinstance(node, ast.Call) or _is_arithmetic(node, function):
        return False
    if polars_cells.is_one(value):
        return polars_cells.is_partly_missing(value)
    np, pd = nonfinite.module("numpy"), nonfinite.module("pandas")
    if np is None:
        return False
    if pd is not None and isinstance(value, pd.DataFrame):
        columns = [value.iloc[:, n] for n in range(min(value.shape[1], 1000))]
    elif isinstance(value, np.ndarray) or (pd is not None and isinstance(value, pd.Series)):
        columns = [value]
    else:
        return False
    return len(value) > 0 and all(map(_is_partly_nan, columns))


def _is_partly_nan(column: Column) -> bool:
    np = nonfinite.module("numpy")
    if not getattr(column, "size", 0) or not getattr(column, "shape", ()):
        return False
    bad = nonfinite.count(column)
    kind = getattr(getattr(column, "dtype", None), "kind", "O")
    return bad < column.size and (not bad or kind not in "fc" or not bool(np.isinf(np.asarray(column)).any()))


def _is_arithmetic(node: ast.Call, function: object) -> bool:
    np = nonfinite.module("numpy")
    home = str(getattr(function, "__module__", None) or "")
    if np is not None and isinstance(function, np.ufunc):
        return getattr(np, function.__name__, None) is function
    if home in ("math", "cmath", "operator", "builtins"):
        return True
    return isinstance(node.func, ast.Attribute) and node.func.attr in ARITHMETIC_METHODS


class Gaps:
    """The values with gaps, and the columns of frames that were set to such."""

    def __init__(self) -> None:
        self.values: dict[int, tuple[weakref.ref[object], Gap]] = {}
        self.columns: dict[tuple[int, object], tuple[weakref.ref[object], Gap]] = {}
        self._read_from: dict[tuple[ast.AST, str], ast.expr | None] = {}

    def __bool__(self) -> bool:
        return bool(self.values)

    def may_enter(self, given: Sequence[object], parts: Parts) -> bool:
        """Whether an expression may have an operand with a gap.  `given`: the values of its names."""
        if not parts.complete or (self.columns and (parts.elements or parts.keys or parts.attributes or parts.items)):
            return True
        held = [one for one in given if type(one) is not float and type(one) is not int]
        return any(id(one) in self.values or nonfinite.is_frame(one) or polars_cells.is_one(one) for one in held)

    def note(self, value: object, gap: Gap, statement: Statement, scope: Scope) -> None:
        """Remember a value, and what the statement stores it in."""
        _keep(self.values, id(value), value, gap)
        for target in getattr(statement.node, "targets", []):
            found = _column(target, scope)
            if found is not None:
                _keep(self.columns, (id(found[0]), found[1]), found[0], gap)

    def of(self, value: object) -> Gap | None:
        return _alive(self.values, id(value), value)

    def _at(self, node: ast.AST, scope: Scope) -> Gap | None:
        """The gap that a name, an attribute or an item holds."""
        found = _column(node, scope)
        if found is not None:
            gap = _alive(self.columns, (id(found[0]), found[1]), found[0])
            if gap is not None:
                return gap
        try:
            return self.of(provenance.read(node, scope))
        except provenance.Unreadable:
            return None

    def holds(self, node: ast.AST, value: object, scope: Scope) -> Gap | None:
        """The gap of a value that leaves a function."""
        return self.of(value) or self._at(node, scope)

    def follow(self, value: object, node: ast.AST, statement: Statement, scope: Scope) -> tuple[Gap, str] | None:
        """A value that carries nan was made: the gap that has entered arithmetic here unhandled, with the operand.

        Where the value only passes a gap on it is remembered, too.
        """
        direct = self._through(node, scope, statement.scope, False)
        if direct is None:
            return None
        gap, source, arithmetic = direct
        column = self._column_of(source, statement.scope)
        if not arithmetic:
            self.note(value, gap, statement, scope)
            return None
        if gap.entered or is_handled(source, statement) or (column is not None and is_handled(column, statement)):
            return None
        gap.entered = True
        return gap, ast.unparse(source)

    def enter(self, node: ast.AST, scope: Scope) -> None:
        """What an operand holds has had its pause."""
        gap = self._at(node, scope)
        if gap is not None:
            gap.entered = True

    def pass_on(self, value: object, node: ast.AST, statement: Statement, scope: Scope) -> None:
        """Remember a value that was made of one with a gap, whatever was done to it."""
        found = self._through(node, scope, statement.scope, False)
        if found is not None and not found[0].entered:
            self.note(value, found[0], statement, scope)

    def _column_of(self, node: ast.AST, tree: ast.AST) -> ast.expr | None:
        """The column or element that a name stands for in a function: `level = frame["level"]`, and nothing else."""
        if not isinstance(node, ast.Name):
            return None
        key = (tree, node.id)
        if key not in self._read_from:
            stores = [n for n in ast.walk(tree) if isinstance(n, ast.Name) and isinstance(n.ctx, ast.Store)]
            set_to = [n for n in ast.walk(tree) if isinstance(n, ast.Assign) and len(n.targets) == 1]
            values = [n.value for n in set_to if isinstance(n.targets[0], ast.Name) and n.targets[0].id == node.id]
            once = len(values) == sum(n.id == node.id for n in stores) == 1
            self._read_from[key] = values[0] if once and isinstance(values[0], (ast.Attribute, ast.Subscript)) else None
        return self._read_from[key]

    def _handed(self, name: str, scope: Scope, tree: ast.AST, depth: int = 0) -> Gap | None:
        """The gap of a column or value that the caller gave for a parameter, and does not handle itself."""
        given = argument_of(name, scope.frame, tree) if depth < MOST_CALLS else None
        if given is None or not isinstance(given.node, (ast.Name, ast.Attribute, ast.Subscript)):
            return None
        theirs = Scope(given.frame)
        gap = self._part(given.node, theirs, given.statement.scope)
        if gap is None and isinstance(given.node, ast.Name):
            return self._handed(given.node.id, theirs, given.statement.scope, depth + 1)
        return None if gap is None or is_handled(given.node, given.statement) else gap

    def _part(self, node: ast.AST, scope: Scope, tree: ast.AST) -> Gap | None:
        """The gap of a name, or of the owner of an attribute or item."""
        gap = self._at(node, scope)
        part = node if isinstance(node, (ast.Attribute, ast.Subscript)) else self._column_of(node, tree)
        while gap is None and isinstance(part, (ast.Attribute, ast.Subscript)):
            gap = self._at(part, scope) or self._at(part.value, scope)
            part = part.value
        return gap

    def _through(
        self, node: ast.AST, scope: Scope, tree: ast.AST, arithmetic: bool
    ) -> tuple[Gap, ast.AST, bool] | None:
        """The first operand with a gap, and whether there is arithmetic between it and the whole."""
        if isinstance(node, ast.AugAssign):
            return self._through(node.target, scope, tree, True) or self._through(node.value, scope, tree, True)
        if isinstance(node, (ast.Name, ast.Attribute, ast.Subscript)):
            try:
                if not nonfinite.any_bad(provenance.read(node, scope)):
                    return None
            except provenance.Unreadable:
                pass
            gap = self._part(node, scope, tree)
            if gap is None and isinstance(node, ast.Name):
                gap = self._handed(node.id, scope, tree)
            if gap is not None:
                return gap, node, arithmetic
        if isinstance(node, ast.Call):
            if callee(node) in ABSORBING:
                return None
            try:
                function = provenance.read(node.func, scope)
            except provenance.Unreadable:
                function = None
            arithmetic = arithmetic or _is_arithmetic(node, function)
        elif isinstance(node, (ast.BinOp, ast.UnaryOp)):
            arithmetic = True
        for child in ast.iter_child_nodes(node):
            if isinstance(child, (ast.expr, ast.keyword)):
                found = self._through(child, scope, tree, arithmetic)
                if found is not None:
                    return found
        return None


def _keep(into: dict[Any, tuple[weakref.ref[object], Gap]], key: object, value: object, gap: Gap) -> None:
    if len(into) >= KEPT:
        for old in [k for k, (ref, _) in into.items() if ref() is None] or list(into)[: KEPT // 2]:
            del into[old]
    try:
        into[key] = (weakref.ref(value), gap)
    except TypeError:
        pass


def _alive(table: dict[Any, tuple[weakref.ref[object], Gap]], key: object, value: object) -> Gap | None:
    try:
        found = table.get(key)
    except TypeError:
        return None  # a key that has no hash
    return found[1] if found is not None and found[0]() is value else None


def _column(node: ast.AST, scope: Scope) -> tuple[object, object] | None:
    """The owner and the key of `owner["key"]` or `owner.key`."""
    try:
        if isinstance(node, ast.Subscript):
            owner, key = provenance.read(node.value, scope), provenance.read(node.slice, scope)
        elif isinstance(node, ast.Attribute):
            owner, key = provenance.read(node.value, scope), node.attr
        else:
            return None
    except provenance.Unreadable:
        return None
    return (owner, key) if isinstance(key, (str, int)) and not isinstance(owner, types.ModuleType) else None


def is_handled(source: ast.AST, statement: Statement, results_only: bool = False) -> bool:
    """True when some call of the same function fills, drops, masks or tests what is named by the operand or target.

    `results_only`: a target, if there is one.
    """
    targets = getattr(statement.node, "targets", [])
    names = set() if results_only and targets else stored_names(source)
    for target in targets:
        names |= stored_names(target)
    for node in ast.walk(statement.scope):
        if isinstance(node, ast.Call) and callee(node) in ABSORBING and names & stored_names(node):
            return True
    return False


FILLS = {"nan_to_num", "masked_invalid", "fix_invalid"}
TESTS = {"isinf", "isfinite", "isposinf", "isneginf"}


def is_masked_later(statement: Statement) -> bool:
    """True when the function masks, after a statement, infinities in the names that it stores into, or decides by a
    test of them.  To count or print them is neither."""
    targets = getattr(statement.node, "targets", [])
    names = {target.id for target in targets if isinstance(target, ast.Name)}
    after = statement.node.end_lineno or statement.line
    tests: set[int] = set()
    for node in ast.walk(statement.scope):
        if isinstance(node, ast.Call) and (node.lineno > after or statement.loops):
            if callee(node) in FILLS | TESTS and names & set().union(*map(stored_names, (*node.args, node.func))):
                if callee(node) in FILLS:
                    return True
                tests.add(id(node))
    masks = _named(statement.scope, tests) if tests else set()
    return bool(tests) and any(_decides(node, tests, masks) for node in ast.walk(statement.scope))


def _named(scope: ast.AST, tests: set[int]) -> set[str]:
    """The names of masks: `bad = ~np.isfinite(w)`."""
    made = [n for n in ast.walk(scope) if isinstance(n, ast.Assign) and _holds(n.value, tests)]
    masks = [n for n in made if isinstance(n.value, (ast.UnaryOp, ast.BinOp)) or id(n.value) in tests]
    return {target.id for node in masks for target in node.targets if isinstance(target, ast.Name)}


def _holds(node: ast.AST, tests: set[int]) -> bool:
    return any(id(part) in tests for part in ast.walk(node))


def _decides(node: ast.AST, tests: set[int], masks: set[str]) -> bool:
    """An index, `where`, or the head of a branch that goes by a test or by its mask."""
    by: list[ast.AST] = []
    if isinstance(node, ast.Subscript):
        by = [node.slice]
    elif isinstance(node, (ast.If, ast.IfExp, ast.While, ast.Assert)):
        by = [node.test]
    elif isinstance(node, ast.Call) and callee(node) in ("where", "putmask", "copyto", "place", "masked_where"):
        by = [*node.args, *(k.value for k in node.keywords)]
    return any(_holds(part, tests) or masks & {n.id for n in ast.walk(part) if isinstance(n, ast.Name)} for part in by)


def stored_names(node: ast.AST) -> set[str]:
    """The names and the column keys in an expression; not those of modules and functions."""
    found = set()
    for part in ast.walk(node):
        if isinstance(part, ast.Name):
            found.add(part.id)
        elif isinstance(part, ast.Subscript) and isinstance(part.slice, ast.Constant):
            found.add(str(part.slice.value))
    return found - {"np", "numpy", "pd", "pandas", "self"}
