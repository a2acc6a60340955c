"""Evaluates an expression of the user's a second time in higher precision, from the values of its names, without
running any of the script's code.

Numbers are taken as they are stored.  A name that the same function has set by one expression is replaced by that
expression, if this gives the name's present value.  Scalars are evaluated in 60 decimal digits, arrays in NumPy's
long double (64 bits of mantissa).  What is not arithmetic raises `Unknown`.
"""

from __future__ import annotations

import ast
import builtins
import decimal
import math
import types
from collections.abc import Callable, Mapping
from decimal import Decimal
from typing import Any

from ..core.records import fact
from ..core.type_identity import is_one_of
from ..source.registry import files
from ..values import nonfinite
from .decimals import CONTEXT, DECIMAL, SAME, Unknown
from .figures import seen

DEEP = 6  # names and functions that are followed
MOST = 1_000_000  # cells of an array
HALF_UNIT = 2.0**-53


class Arrays(Exception):
    """The expression has arrays in it."""


@fact
class Outcome:
    """`stored`: in the script's precision; `exact`: in higher precision; `error`: relative, by the largest cell.

    `inherent`: how much the exact value changes, relatively, when each number that goes in is off by half a unit in its
    last place: no way of calculating could be better than that.
    """

    stored: float
    exact: float
    error: float
    inherent: float


ARRAYS = (
    *("sqrt", "exp", "expm1", "log", "log1p", "log2", "log10", "sin", "cos", "tan", "sum", "mean", "var", "std", "dot"),
    *(
        "abs",
        "absolute",
        "square",
        "arcsin",
        "arccos",
        "arctan",
        "sinh",
        "cosh",
        "tanh",
        "cumsum",
        "diff",
        "max",
        "min",
    ),
)
OPERATIONS: dict[type, Callable[[object, Any], object]] = {
    ast.Add: lambda a, b: a + b,
    ast.Sub: lambda a, b: a - b,
    ast.Mult: lambda a, b: a * b,
    ast.Div: lambda a, b: a / b,
    ast.Pow: lambda a, b: a**b,
}


def compare(root: ast.expr, scope: ast.AST, names: Mapping[str, object]) -> Outcome:
    """The value of an expression in the script's precision and in a higher one.

    `names`: what its names stand for; `scope`: the function in whose statements names are looked up.
    """
    try:
        with decimal.localcontext(CONTEXT):
            exact = _Evaluation(scope, names, _Exact()).value(root)
            stored = _Evaluation(scope, names, _Stored()).value(root)
            if not isinstance(exact, Decimal) or not isinstance(stored, (int, float)):
                raise Unknown
            if not math.isfinite(stored) or not exact.is_finite():
                raise Unknown
            if not exact:
                return Outcome(float(stored), 0.0, math.inf if stored else 0.0, math.inf)
            moved = [_Evaluation(scope, names, _Exact(off)).value(root) for off in _moves(scope)]
            inherent = max(float(abs(m - exact) / abs(exact)) for m in moved)
            return Outcome(float(stored), float(exact), float(abs(Decimal(stored) - exact) / abs(exact)), inherent)
    except Arrays:
        return _compare_arrays(root, scope, names)
    except (ArithmeticError, TypeError, ValueError, RecursionError, LookupError) as e:
        raise Unknown from e


def _compare_arrays(root: ast.expr, scope: ast.AST, names: Mapping[str, object]) -> Outcome:
    np = nonfinite.module("numpy")
    if np is None or np.finfo(np.longdouble).nmant <= 52:
        raise Unknown
    try:
        with np.errstate(all="ignore"):
            exact = np.asarray(_Evaluation(scope, names, _Long()).value(root))
            stored = np.asarray(_Evaluation(scope, names, _Stored()).value(root))
            moved = [np.asarray(_Evaluation(scope, names, _Long(off)).value(root)) for off in _moves(scope)]
    except (ArithmeticError, TypeError, ValueError, RecursionError, LookupError) as e:
        raise Unknown from e
    if exact.shape != stored.shape or stored.dtype != np.float64:
        raise Unknown
    fine = np.isfinite(stored) & np.isfinite(exact)  # else it is masked, or missing
    if not fine.any():
        raise Unknown
    exact, stored, moved = exact[fine], stored[fine], [m[fine] for m in moved]
    gap, largest = np.abs(stored.astype(np.longdouble) - exact), np.abs(exact).max()
    at = int(np.argmax(gap))
    if not largest:
        return Outcome(0.0, 0.0, 0.0, math.inf)
    inherent = max(float(np.abs(m - exact).max() / largest) for m in moved)
    return Outcome(float(stored.ravel()[at]), float(exact.ravel()[at]), float(gap.max() / largest), inherent)


class Moves:
    """By which sign each name's number is moved: all its uses alike.  `kept`: names that are not moved."""

    def __init__(self, pattern: tuple[int, ...], kept: frozenset[str]) -> None:
        self.pattern, self.kept = pattern, kept
        self.signs: dict[str, int] = {}

    def sign(self, name: str) -> int:
        if name in self.kept:
            return 0
        return self.signs.setdefault(name, self.pattern[len(self.signs) % len(self.pattern)])


def _moves(scope: ast.AST) -> list[Moves]:
    kept = frozenset(_accumulators(scope))
    return [Moves(pattern, kept) for pattern in ((1, -1), (1, 1, -1), (1, -1, -1))]


def _accumulators(scope: ast.AST) -> set[str]:
    """Names that begin with 0 and to which a loop adds: their last digits are the script's own doing."""
    zero = {
        ast.unparse(target)
        for node in ast.walk(scope)
        if isinstance(node, ast.Assign) and isinstance(node.value, ast.Constant) and node.value.value == 0
        for target in node.targets
    }
    return {
        ast.unparse(node.target)
        for node in ast.walk(scope)
        if isinstance(node, ast.AugAssign) and isinstance(node.op, ast.Add) and ast.unparse(node.target) in zero
    }


def _is_array(value: object) -> bool:
    """An array, a masked one, or a column of a frame."""
    np, pd = nonfinite.module("numpy"), nonfinite.module("pandas")
    if np is None:
        return False
    return type(value) in (np.ndarray, np.ma.MaskedArray) or (pd is not None and type(value) is pd.Series)


class _Cells:
    """Gives the cells of arrays.  Columns must have equal indices: pandas brings together what has the same label."""

    index: Any = None

    def cells(self, value: Any) -> Any:
        """The cells; nan where they are masked."""
        np = nonfinite.module("numpy")
        if type(value) is np.ndarray:
            return value
        if type(value) is np.ma.MaskedArray:
            return value.filled(np.nan) if value.dtype.kind == "f" else np.asarray(value.data)
        if self.index is not None and not value.index.equals(self.index):
            raise Unknown
        self.index = value.index
        return value.to_numpy()


class _Exact:
    """Sixty decimal digits.  `off`: how the numbers that go in are moved."""

    inline = True

    def __init__(self, off: Moves | None = None) -> None:
        self.off = off

    def given(self, value: object, name: str) -> object:
        """A number that a name stands for."""
        number = self.number(value)
        if self.off is None or type(value) is int:
            return number
        return number * (1 + self.off.sign(name) * Decimal(HALF_UNIT))

    def number(self, value: Any) -> Any:
        np = nonfinite.module("numpy")
        if _is_array(value):
            raise Arrays
        if np is not None and isinstance(value, (np.float64, np.integer)):
            value = value.item()
        if is_one_of(type(value), float, int) and math.isfinite(value):
            return Decimal(value)
        raise Unknown

    def call(self, name: str, args: list[object]) -> object:
        name = SAME.get(name, name)
        if name not in DECIMAL:
            raise Unknown
        return DECIMAL[name](*args)

    def reduced(self, name: str, values: list[Any]) -> object:
        if name == "sum":
            return sum(values, Decimal(0))
        raise Unknown


class _Stored(_Cells):
    """As the script has evaluated it."""

    inline = False

    def given(self, value: object, name: str) -> object:
        return self.number(value)

    def number(self, value: Any) -> object:
        np = nonfinite.module("numpy")
        if np is not None and isinstance(value, (np.float64, np.integer)):
            return value.item()
        if np is not None and _is_array(value):
            value = self.cells(value)
            if value.dtype.kind in "fi" and value.size <= MOST:
                return value
        if is_one_of(type(value), float, int):
            return value
        raise Unknown

    def call(self, name: str, args: list[Any]) -> object:
        np = nonfinite.module("numpy")
        if np is not None and any(isinstance(a, (np.ndarray, np.floating)) for a in args):
            return getattr(np, {"fabs": "abs"}.get(name, name))(*args)
        name = SAME.get(name, name)
        if name in ("abs", "float", "pow"):
            plain: dict[str, Callable[..., object]] = {"abs": abs, "float": float, "pow": pow}
            return plain[name](*args)
        if name == "square":
            return args[0] * args[0]
        return getattr(math, name)(*args)

    def reduced(self, name: str, values: list[object]) -> Any:
        return sum(values)


class _Long(_Cells):
    """NumPy's long double.  `off`: as of `_Exact`."""

    inline = True

    def __init__(self, off: Moves | None = None) -> None:
        self.off = off

    def given(self, value: object, name: str) -> object:
        np, number = nonfinite.module("numpy"), self.number(value)
        if self.off is None or getattr(value, "dtype", np.dtype(type(value))).kind != "f":
            return number
        sign = self.off.sign(name)
        if np.ndim(number):
            signs = np.where(np.arange(number.size) % 3 == 1, -sign, sign).reshape(number.shape)
            return number * (1 + signs * np.longdouble(HALF_UNIT))
        return number * (1 + sign * np.longdouble(HALF_UNIT))

    def number(self, value: Any) -> Any:
        np = nonfinite.module("numpy")
        if _is_array(value):
            value = self.cells(value)
            if value.dtype.kind in "fi" and value.dtype.itemsize == 8 and value.size <= MOST:
                return value.astype(np.longdouble)
        if isinstance(value, (np.float64, np.integer, float, int)) and type(value) is not bool:
            return np.longdouble(value)
        raise Unknown

    def call(self, name: str, args: list[object]) -> object:
        np = nonfinite.module("numpy")
        if name in ("float", "fabs", "pow"):
            return {"float": lambda x: x, "fabs": np.abs, "pow": np.power}[name](*args)
        if name not in ARRAYS:
            raise Unknown
        return getattr(np, name)(*args)

    def reduced(self, name: str, values: list[object]) -> object:
        raise Unknown


class _Evaluation:
    """Walks over the syntax of an expression.  `own`: names of a function of the user's that is followed."""

    def __init__(self, scope: ast.AST, names: Mapping[str, object], domain: Any, depth: int = 0) -> None:
        self.scope, self.names, self.domain, self.depth = scope, names, domain, depth
        self.own: dict[str, object] = {}

    def value(self, node: ast.AST) -> Any:
        if isinstance(node, ast.Constant):
            return self.domain.number(node.value)
        if isinstance(node, ast.Name):
            return self._name(node.id)
        if isinstance(node, ast.BinOp) and type(node.op) in OPERATIONS:
            return OPERATIONS[type(node.op)](self.value(node.left), self.value(node.right))
        if isinstance(node, ast.UnaryOp) and isinstance(node.op, (ast.USub, ast.UAdd)):
            return -self.value(node.operand) if isinstance(node.op, ast.USub) else self.value(node.operand)
        if isinstance(node, ast.Call):
            return self._call(node)
        if isinstance(node, (ast.Attribute, ast.Subscript)):
            return self.domain.given(self._object(node), ast.unparse(node))
        raise Unknown

    def _name(self, name: str) -> object:
        if name in self.own:
            return self.own[name]
        present = self._object(ast.Name(name, ast.Load()))
        if self.domain.inline and self.depth < DEEP and is_one_of(type(present), float):
            for text in _definitions(self.scope, name):
                try:
                    if _Evaluation(self.scope, self.names, _Stored(), DEEP).value(text) == present:
                        inner = _Evaluation(self.scope, self.names, self.domain, self.depth + 1)
                        return inner.value(text)
                except (Unknown, ArithmeticError, TypeError, ValueError, LookupError):
                    continue
        return self.domain.given(present, name)

    def _object(self, node: ast.AST) -> Any:
        """What a name, an attribute or an element of a list or array stands for."""
        if isinstance(node, ast.Name):
            if node.id in self.own:
                raise Unknown  # a number: it has no parts
            if node.id in self.names:
                return self.names[node.id]
            return getattr(builtins, node.id)
        if isinstance(node, ast.Attribute):
            owner = self._object(node.value)
            if isinstance(owner, types.ModuleType):
                return vars(owner)[node.attr]
            return seen(owner, node.attr)
        if isinstance(node, ast.Subscript):
            owner, index = self._object(node.value), self._index(node.slice)
            np, pd = nonfinite.module("numpy"), nonfinite.module("pandas")
            if is_one_of(type(owner), list, tuple, dict) or (np is not None and type(owner) is np.ndarray):
                return owner[index]
            if pd is not None and type(owner) is pd.DataFrame and type(index) is str and owner.columns.is_unique:
                return owner[index]
        raise Unknown

    def _index(self, node: ast.AST) -> object:
        if isinstance(node, ast.Constant):
            return node.value
        if isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.USub) and isinstance(node.operand, ast.Constant):
            return -node.operand.value  # type: ignore[operator]  # an index is a number here, else a TypeError
        if isinstance(node, ast.Slice):
            return slice(*(None if n is None else self._index(n) for n in (node.lower, node.upper, node.step)))
        if isinstance(node, ast.Tuple):
            return tuple(self._index(e) for e in node.elts)
        if isinstance(node, ast.BinOp) and isinstance(node.op, (ast.Add, ast.Sub)):
            return OPERATIONS[type(node.op)](self._index(node.left), self._index(node.right))
        found = self._object(node)
        if not is_one_of(type(found), int, str):
            raise Unknown
        return found

    def _call(self, node: ast.Call) -> object:
        if node.keywords or any(isinstance(a, ast.Starred) for a in node.args):
            raise Unknown
        func = node.func
        if isinstance(func, ast.Attribute):
            np = nonfinite.module("numpy")
            try:
                owner = self._object(func.value)
            except Unknown:
                owner = None
            if not isinstance(owner, types.ModuleType):
                if np is None or func.attr not in ("sum", "mean", "var", "std", "dot"):
                    raise Unknown
                return self.domain.call(func.attr, [self.value(func.value), *map(self.value, node.args)])
        function = self._object(func)
        if isinstance(function, types.FunctionType):
            return self._followed(function, [self.value(a) for a in node.args])
        name = seen(function, "__name__", "")
        home = seen(function, "__module__", "") or ""
        if function is len:
            return self.domain.number(len(self._object(node.args[0])))
        if function is sum:
            return self.domain.reduced(
                "sum", [self.domain.given(v, str(n)) for n, v in enumerate(self._list(node.args[0]))]
            )
        if (
            function in (abs, float, pow)
            or home == "math"
            or home.startswith("numpy")
            or type(function).__name__ == "ufunc"
        ):
            return self.domain.call(name, [self.value(a) for a in node.args])
        raise Unknown

    def _list(self, node: ast.AST) -> list[object]:
        found = self._object(node)
        if not is_one_of(type(found), list, tuple) or len(found) > 10_000:
            raise Unknown
        return list(found)

    def _followed(self, function: types.FunctionType, args: list[object]) -> object:
        """A function of the user's that is assignments and one return."""
        if self.depth >= DEEP:
            raise Unknown
        file = files.get(function.__code__.co_filename)
        node = _definition_of(file.tree, function.__code__) if file is not None else None
        if node is None or len(node.args.args) < len(args) or node.args.vararg or node.args.kwarg:
            raise Unknown
        names = {**function.__globals__}
        for name, cell in zip(function.__code__.co_freevars, function.__closure__ or ()):
            names[name] = cell.cell_contents
        inner = _Evaluation(node, names, self.domain, self.depth + 1)
        wanted = [a.arg for a in node.args.args]
        inner.own = dict(zip(wanted, args))
        for name, default in zip(wanted[::-1], (function.__defaults__ or ())[::-1]):
            inner.own.setdefault(name, self.domain.number(default))
        if set(wanted) - set(inner.own):
            raise Unknown
        if isinstance(node, ast.Lambda):
            return inner.value(node.body)
        for s in node.body:
            if isinstance(s, ast.Return) and s.value is not None:
                return inner.value(s.value)
            if isinstance(s, ast.Assign) and len(s.targets) == 1 and isinstance(s.targets[0], ast.Name):
                inner.own[s.targets[0].id] = inner.value(s.value)
            elif not (isinstance(s, ast.Expr) and isinstance(s.value, ast.Constant)):
                raise Unknown
        raise Unknown


def _definition_of(tree: ast.AST, code: types.CodeType) -> ast.FunctionDef | ast.Lambda | None:
    for node in ast.walk(tree):
        if isinstance(node, ast.FunctionDef) and node.name == code.co_name and node.lineno == code.co_firstlineno:
            return node
        if isinstance(node, ast.Lambda) and code.co_name == "<lambda>" and node.lineno == code.co_firstlineno:
            return node
    return None


def _definitions(scope: ast.AST, name: str) -> list[ast.expr]:
    """The expressions that the statements of a function store under a name, save those that use it themselves."""
    found = []
    for node in ast.walk(scope):
        if isinstance(node, ast.Assign) and len(node.targets) == 1 and getattr(node.targets[0], "id", "") == name:
            if not any(isinstance(n, ast.Name) and n.id == name for n in ast.walk(node.value)):
                found.append(node.value)
    return found
