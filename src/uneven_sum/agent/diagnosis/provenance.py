"""Says of a non-finite value whether it was created here, has arrived from outside, or was carried along.

First the quick way, which runs no code of the script's: the operands that can be read (names, items,
attributes) are looked at; where one explains the bad cells, they are carried.  Only when none does, the
statement is taken apart (`terms`) and the culprit decides.
"""

from __future__ import annotations

import ast
import itertools
import operator as o
import re
import types
from typing import Any

from ..core.markers import MISSING
from ..core.type_identity import is_one_of
from ..frames.namespace import Scope
from ..source.call_lists import DIVIDES, EMPTY_BY_DESIGN
from ..source.sites import callee, written_to
from ..source.source_file import COMPREHENSIONS
from ..values import nonfinite, polars_cells, quick_look
from ..values.safe_read import read_attribute, safe_kind
from .held_values import bad_within

CREATED, ARRIVED, CARRIED = "created", "arrived", "carried"
BAD_LITERAL = re.compile(r"[+-]?(inf|infinity|s?nan)(j|[+-][\w.]*j)?|[+-]?[\d.]+[+-](inf|infinity|nan)j")
TEXT = (str, bytes, bytearray, bool, type(None))


class Unreadable(Exception):
    """A term that cannot be read without running the script's code."""


OPERATORS: dict[type, Any] = {}


def _fill_operators() -> None:
    OPERATORS.update({ast.Add: o.add, ast.Sub: o.sub, ast.Mult: o.mul, ast.Div: o.truediv, ast.FloorDiv: o.floordiv})
    OPERATORS.update({ast.Mod: o.mod, ast.Pow: o.pow, ast.LShift: o.lshift, ast.RShift: o.rshift, ast.BitOr: o.or_})
    OPERATORS.update({ast.BitXor: o.xor, ast.BitAnd: o.and_, ast.MatMult: o.matmul})
    OPERATORS.update({ast.UAdd: o.pos, ast.USub: o.neg, ast.Not: o.not_, ast.Invert: o.invert})
    OPERATORS.update({ast.Eq: o.eq, ast.NotEq: o.ne, ast.Lt: o.lt, ast.LtE: o.le, ast.Gt: o.gt, ast.GtE: o.ge})
    OPERATORS.update({ast.Is: o.is_, ast.IsNot: o.is_not})
    OPERATORS.update({ast.In: lambda a, b: a in b, ast.NotIn: lambda a, b: a not in b})


_fill_operators()


def read(node: ast.AST, scope: Scope) -> Any:
    """The value of a name, attribute or item, and of arithmetic on numbers, or Unreadable."""
    if isinstance(node, ast.Constant):
        return node.value
    if isinstance(node, ast.Name):
        try:
            return scope[node.id]
        except KeyError:
            raise Unreadable from None
    if isinstance(node, ast.Attribute):
        found = read_attribute(read(node.value, scope), node.attr)
        if found is MISSING:
            raise Unreadable
        return found
    if isinstance(node, ast.Subscript):
        owner = read(node.value, scope)
        index = read(node.slice, scope)
        if not safe_kind(type(owner)):
            raise Unreadable
        try:
            found = dict.get(owner, index, MISSING) if isinstance(owner, dict) else owner[index]  # no default is made
        except Exception:
            raise Unreadable from None
        if found is MISSING:
            raise Unreadable
        return found
    if isinstance(node, ast.Slice):
        return slice(*[part and read(part, scope) for part in (node.lower, node.upper, node.step)])
    if isinstance(node, ast.Tuple):
        return tuple(read(e, scope) for e in node.elts)
    if isinstance(node, ast.BinOp):
        left, right = read(node.left, scope), read(node.right, scope)
        if (
            is_one_of(type(left), int, float)
            and is_one_of(type(right), int, float)
            and not isinstance(node.op, ast.Pow)
        ):
            try:
                return OPERATORS[type(node.op)](left, right)
            except Exception:
                raise Unreadable from None
        raise Unreadable
    if isinstance(node, ast.UnaryOp):
        value = read(node.operand, scope)
        if is_one_of(type(value), int, float, complex):
            return OPERATORS[type(node.op)](value)
    raise Unreadable


class Operands:
    """The readable operands of an expression, and the kinds of calls in it."""

    def __init__(self, node: ast.AST, scope: Scope) -> None:
        self.scope = scope
        self.cellwise: list[Any] = []  # values that meet the result cell by cell
        self.whole: list[object] = []  # values under a reduction, a product, an unknown call
        self.no_data_calls = 0
        self.calls = 0
        self.exempt = False  # a call leaves cells empty by design
        self.divides = False  # and it may divide by zero
        self._walk(node, self.cellwise)

    @classmethod
    def of(cls, cellwise: list[Any], whole: list[object]) -> Operands:
        """Operands that are known already."""
        one = cls(ast.Constant(None), Scope.__new__(Scope))
        one.cellwise, one.whole = cellwise, whole
        return one

    def _leaf(self, node: ast.AST, into: list[object]) -> None:
        try:
            into.append(read(node, self.scope))
        except Unreadable:
            for child in ast.iter_child_nodes(node):
                if isinstance(child, ast.expr):
                    self._walk(child, self.whole)

    def _walk(self, node: ast.AST, into: list[object]) -> None:
        if isinstance(node, ast.AugAssign):
            self._walk(node.target, into)
            self._walk(node.value, into)
        elif isinstance(node, ast.BinOp):
            rights = []  # of a sum of thousands of terms: each is an operand of the next
            left: ast.AST = node
            while isinstance(left, ast.BinOp):
                into = self.whole if isinstance(left.op, ast.MatMult) else into
                rights.append((left.right, into))
                left = left.left
            self._walk(left, into)
            for right, side in reversed(rights):
                self._walk(right, side)
        elif isinstance(node, ast.UnaryOp):
            self._walk(node.operand, into)
        elif isinstance(node, ast.Call):
            self._call(node, into)
        elif isinstance(node, (ast.Name, ast.Attribute, ast.Subscript, ast.Constant)):
            self._leaf(node, into)
        elif isinstance(node, COMPREHENSIONS):
            for g in node.generators:
                self._walk(g.iter, self.whole)
            self._note_calls(node)
            bound = {n.id for g in node.generators for n in ast.walk(g.target) if isinstance(n, ast.Name)}
            for part in (getattr(node, name, None) for name in ("elt", "key", "value")):
                if part is not None:
                    self._from_outside(part, bound)
        elif isinstance(node, ast.Lambda):
            given = node.args
            named = [*given.posonlyargs, *given.args, *given.kwonlyargs, given.vararg, given.kwarg]
            self._from_outside(node.body, {one.arg for one in named if one is not None})
        else:
            for child in ast.iter_child_nodes(node):
                if isinstance(child, (ast.expr, ast.keyword)):
                    self._walk(child, self.whole)

    def _from_outside(self, node: ast.AST, bound: set[str]) -> None:
        """What an element of a comprehension, or a lambda, reads besides its own names: `flow` of `flow[k] * 2`."""
        if isinstance(node, (ast.Name, ast.Attribute, ast.Subscript)):
            if not any(isinstance(n, ast.Name) and n.id in bound for n in ast.walk(node)):
                self._leaf(node, self.whole)
            elif not isinstance(node, ast.Name):
                self._from_outside(node.value, bound)
        elif not isinstance(node, ast.Lambda):
            for child in ast.iter_child_nodes(node):
                self._from_outside(child, bound)

    def _note_calls(self, node: ast.AST) -> None:
        """An element of a comprehension was looked at when it was made: only whether it is empty by design counts."""
        for call in ast.walk(node):
            if isinstance(call, ast.Call) and callee(call) in EMPTY_BY_DESIGN and not self._fills_with_a_number(call):
                self.exempt = True
                self.divides = self.divides or callee(call) in DIVIDES

    def _fills_with_a_number(self, node: ast.Call) -> bool:
        """`np.full(4, 0.5)`: nothing is left empty by that."""
        if callee(node) not in ("full", "full_like"):
            return False
        given = node.args[1:2] or [k.value for k in node.keywords if k.arg == "fill_value"]
        try:
            return bool(given) and not nonfinite.any_bad(read(given[0], self.scope))
        except Unreadable:
            return False

    def _call(self, node: ast.Call, into: list[object]) -> None:
        self.calls += 1
        if any(k.arg == "errors" and getattr(k.value, "value", "") == "coerce" for k in node.keywords):
            self.exempt = True  # what is no number is to become nan
        if callee(node) in EMPTY_BY_DESIGN and not self._fills_with_a_number(node):
            self.exempt = True
            self.divides = self.divides or callee(node) in DIVIDES
        if is_deliberate(node):
            into.append(float("nan"))
            return
        function = self._function(node)
        side = into if is_cellwise(function) else self.whole
        before = len(self.cellwise) + len(self.whole) + self.no_data_calls
        if isinstance(node.func, ast.Attribute) and not isinstance(self._owner(node.func), types.ModuleType):
            self._walk(node.func.value, side)
        elif isinstance(node.func, (ast.Call, ast.Lambda)):  # a function that was made here
            self._walk(node.func, self.whole)
        for a in node.args:
            self._walk(a.value if isinstance(a, ast.Starred) else a, side)
        written = written_to(node)
        for k in node.keywords:
            if k.value is not written and not (
                isinstance(k.value, ast.Constant) and k.value.value is None
            ):  # an option left open, no data
                self._walk(k.value, side)
        given = (self.cellwise + self.whole)[:]
        if before == len(given) + self.no_data_calls or not any(is_data(v) for v in self._own(node)):
            self.no_data_calls += 1

    def _own(self, node: ast.Call) -> list[object]:
        """What this very call is given; for terms that cannot be read, something that counts as data."""
        parts: list[ast.AST] = [a.value if isinstance(a, ast.Starred) else a for a in node.args]
        parts += [k.value for k in node.keywords]
        if isinstance(node.func, ast.Attribute):
            owner = self._owner(node.func)
            if not isinstance(owner, (types.ModuleType, type)):
                parts.append(node.func.value)
        elif isinstance(node.func, ast.Call):  # a method that a call gives: it has its object's data
            parts.append(node.func)
        found = []
        for part in parts:
            try:
                found.append(read(part, self.scope))
            except Unreadable:
                found.append("" if _is_text(part) else 0.0)
        return found

    def _owner(self, func: ast.Attribute) -> object:
        try:
            return read(func.value, self.scope)
        except Unreadable:
            return None

    def _function(self, node: ast.Call) -> object:
        try:
            return read(node.func, self.scope)
        except Unreadable:
            return None


def _is_text(node: ast.AST) -> bool:
    return isinstance(node, ast.JoinedStr) or (isinstance(node, ast.Constant) and isinstance(node.value, TEXT))


def is_data(value: object, depth: int = 0) -> bool:
    """True for numbers, arrays, frames and collections of them: what can carry a number into a call."""
    if isinstance(value, TEXT) or callable(value):
        return False
    if isinstance(value, (list, tuple, set, dict)):
        values: Any = dict.values(value) if isinstance(value, dict) else value
        if isinstance(value, (list, tuple)):
            values = nonfinite.plain_list(value)
        elif isinstance(value, set):
            values = set.__iter__(value)
        return depth < 4 and any(is_data(v, depth + 1) for v, _ in zip(values, range(20)))
    if isinstance(value, (int, float, complex)):
        return True
    kind = type(value)
    if hasattr(kind, "__array__") or nonfinite.has_look(kind):
        return getattr(getattr(value, "dtype", None), "kind", "f") not in "SUO" or not hasattr(value, "dtype")
    return hasattr(kind, "__float__") or hasattr(kind, "__dataframe__")


# Methods and functions that give an element of a collection, and make nothing.
TAKES_OUT = {
    *(
        "pop",
        "popleft",
        "popitem",
        "get",
        "setdefault",
        "heappop",
        "heappushpop",
        "heapreplace",
        "nlargest",
        "nsmallest",
    ),
}

OF_EACH_CELL = {
    *("log", "log2", "log10", "log1p", "sqrt", "rsqrt", "exp", "expm1", "exp2", "sin", "cos", "tan", "asin", "acos"),
    *(
        "atan",
        "arcsin",
        "arccos",
        "arctan",
        "sinh",
        "cosh",
        "tanh",
        "acosh",
        "atanh",
        "abs",
        "reciprocal",
        "pow",
        "div",
    ),
    *("add", "sub", "mul", "true_divide", "divide", "subtract", "multiply", "power", "square", "digamma", "lgamma"),
}


def _is_tensors(function: object) -> bool:
    """True for a function of PyTorch or JAX, or a method of polars."""
    home = str(getattr(function, "__module__", None) or type(getattr(function, "__self__", None)).__module__)
    return home.partition(".")[0] in ("torch", "jax", "polars") or "torch" in str(getattr(function, "__qualname__", ""))


def is_cellwise(function: object) -> bool:
    """True for functions whose result's cells come from the operands' cells at the same place."""
    np = nonfinite.module("numpy")
    if np is not None and isinstance(function, np.ufunc):
        return True
    name = getattr(function, "__name__", None)
    if type(name) is not str:  # polars.col makes an expression of any attribute
        return False
    if name in OF_EACH_CELL and _is_tensors(function):
        return True
    return getattr(function, "__module__", None) in ("math", "cmath") and name not in ("fsum", "prod", "sumprod")


def takes_out(node: ast.AST, scope: Scope) -> bool:
    """True for calls that give what a collection of Python's holds: `stack.pop()`, `heappop(heap)`, `prices.get(k)`."""
    if not isinstance(node, ast.Call):
        return False
    try:
        function = read(node.func, scope)
    except Unreadable:
        return False
    if type(function) is not types.BuiltinFunctionType:
        return False
    owner = type(function.__self__)
    held = is_one_of(owner, list, dict, set) or owner.__module__ == "collections"
    return function.__name__ in TAKES_OUT and (held or function.__module__ in ("_heapq", "heapq"))


def is_deliberate(node: ast.AST) -> bool:
    """`float("inf")`, `Decimal("NaN")`, `np.float64("nan")`: a non-finite literal in the shape of a call; and
    `pd.Series(index=days)`, which is to be filled."""
    if isinstance(node, ast.Call) and callee(node) in ("Series", "DataFrame") and not node.args:
        return not any(k.arg in ("data", None) for k in node.keywords)
    if not isinstance(node, ast.Call) or len(node.args) != 1 or node.keywords:
        return False
    text = node.args[0]
    if not (isinstance(text, ast.Constant) and isinstance(text.value, str)):
        return False
    return BAD_LITERAL.fullmatch(text.value.strip().lower()) is not None


def explained(value: Any, operands: Operands) -> bool:
    """True when the bad cells of a value are all those of its operands, or of what these hold: it only carries them."""
    if _explained(value, operands):
        return True
    of_objects = [bad_within(v) for v in operands.cellwise if not isinstance(v, (list, tuple))]  # `np.sqrt(grid)`
    held = [bad_within(v) for v in operands.whole]
    if not any(of_objects) and not any(held):
        return False
    cellwise = [*operands.cellwise, *itertools.chain(*of_objects)]
    return _explained(value, Operands.of(cellwise, [*operands.whole, *itertools.chain(*held)]))


def _explained(value: Any, operands: Operands) -> bool:
    kind, read_already = type(value), (*operands.cellwise, *operands.whole)
    if kind is float or kind is quick_look.float64:
        if quick_look.carries_float(value, read_already):
            return True
    elif quick_look.carries(value, read_already):
        return True
    if polars_cells.is_one(value):
        carries = _explained_polars(value, operands)
        if carries is not None:
            return carries
    pd = nonfinite.module("pandas")
    if pd is not None and isinstance(value, pd.DataFrame):
        everything = operands.cellwise + operands.whole
        bad = [v for v in everything if nonfinite.any_bad(v) or _has_none(v)]
        return bool(bad) and _explained_frame(pd, value, bad, everything)
    np = nonfinite.module("numpy")
    if np is not None and type(value) is np.ndarray and value.size > quick_look.CHUNK and value.dtype.kind in "fc":
        carries = _large_explained(np, value, operands)
        if carries is not None:
            return carries
    if makes_nan(value, operands.cellwise, operands.whole):
        return False
    if any(nonfinite.any_bad(v) for v in operands.whole):
        return True
    if pd is not None and isinstance(value, (pd.Series, pd.Index)) and any(map(_has_none, operands.whole)):
        return True
    bad = [v for v in operands.cellwise if nonfinite.count(v)]
    if not bad:
        return False
    if isinstance(value, tuple):
        return True
    if pd is not None and isinstance(value, pd.Series):
        return _explained_frame(pd, value, bad, operands.cellwise + operands.whole)
    mine = nonfinite.mask(value)
    if not getattr(mine, "shape", ()):
        return True  # one cell (always one without numpy), and an operand of it is bad
    left = mine.copy()
    for operand in bad:
        theirs = nonfinite.mask(operand)
        try:
            left &= ~np.broadcast_to(theirs, mine.shape)
        except ValueError:
            return True  # of another shape: it went through something that is no cell-by-cell operation
    return not left.any()


def _large_explained(np: types.ModuleType, value: Any, operands: Operands) -> bool | None:
    """`explained` for a large array, in one walk; None where an operand is neither a number nor such an array."""
    arrays = [v for v in operands.cellwise if type(v) is np.ndarray and v.ndim]
    scalars = [v for v in operands.cellwise if not any(v is a for a in arrays)]
    alike = all(a.shape == value.shape and a.dtype.kind in "fciub" for a in arrays)
    if not alike or not all(isinstance(v, (int, float, complex, np.generic)) for v in scalars):
        return None
    bad, made = quick_look.new_cells(np, value, arrays)
    if made and any(nonfinite.any_bad(v) for v in [*operands.cellwise, *operands.whole]):
        others = [*scalars, *operands.whole]
        if not any(np.any(nonfinite.nan_mask(v)) for v in others):
            return False  # see `makes_nan`
    return not bad or any(nonfinite.any_bad(v) for v in [*operands.whole, *scalars])


def makes_nan(value: object, cellwise: list[object], whole: list[object]) -> bool:
    """True for IEEE 754's invalid operation on infinities: nan at a cell where an operand is infinite and none is nan.

    `inf - inf`, `0 * inf`, `inf / inf`, `inf % x`, `sin(inf)`; operands that are used as a whole must hold no nan.
    """
    np = nonfinite.module("numpy")
    if nonfinite.is_frame(value) or not any(nonfinite.any_bad(v) for v in [*cellwise, *whole]):
        return False
    left = nonfinite.nan_mask(value)
    if np is None:
        operands = [*cellwise, *whole]
        return bool(left) and not any(bool(nonfinite.nan_mask(v)) for v in operands)
    if not np.any(left) or any(np.any(nonfinite.nan_mask(v)) for v in whole):
        return False
    left = np.array(left)
    for operand in cellwise:
        try:
            left &= ~np.broadcast_to(nonfinite.nan_mask(operand), left.shape)
        except ValueError:
            return False
    return bool(left.any())


def _explained_polars(value: object, operands: Operands) -> bool | None:
    """`explained` for polars, by what the cells hold: a null comes from a null, an infinity from an infinity, nan from
    either of the floats.  None where the cells' places decide."""
    given = [*operands.cellwise, *operands.whole]
    frames = [v for v in given if polars_cells.is_one(v)]
    known = {name for frame in frames for name in getattr(frame, "columns", [])}
    others = any(nonfinite.any_bad(v) for v in given if not polars_cells.is_one(v))
    for kind, sources in polars_cells.SOURCES.items():
        bad = polars_cells.names(value, (kind,))
        if not bad or others or (kind == "missing" and any(map(_has_none, given))):
            continue
        had = {name for frame in frames for name in polars_cells.names(frame, sources)}
        if not had:
            return False
        if hasattr(value, "get_column") and not all(name in had or name not in known for name in bad):
            return False
    return True if hasattr(value, "get_column") else None


def _has_none(value: Any, depth: int = 0) -> bool:
    """None among data: a gap that was there, or is meant.  Looked for in three levels of collections."""
    if depth < 3 and isinstance(value, dict):
        return any(_has_none(v, depth + 1) for v, _ in zip(dict.values(value), range(1000)))
    if depth < 3 and isinstance(value, (list, tuple)):
        value = nonfinite.plain_list(value)
        return any(_has_none(v, depth + 1) for v in value[: 10_000 if depth < 2 else 100])
    return value is None


def _explained_frame(pd: types.ModuleType, value: object, bad: list[object], operands: list[object]) -> bool:
    """Frames: a column has missing cells although no operand's column of that name (any, if new) had."""
    if isinstance(value, pd.Series):
        for operand in bad:
            if isinstance(operand, pd.Series) and operand.index.equals(value.index):
                continue
            return True
        mine = nonfinite.mask(value)
        for operand in bad:
            mine = mine & ~nonfinite.mask(operand)
        return not mine.any()
    had: set[object] = set()
    known: set[object] = set()
    for operand in bad:
        if not isinstance(operand, pd.DataFrame):
            return True
        had |= set(nonfinite.columns(operand))
    for operand in operands:
        if isinstance(operand, pd.DataFrame):
            known |= set(operand.columns)
    return all(name in had or name not in known for name in nonfinite.columns(value))
