"""Totals and states lost to missing values: `np.mean(flow)`, `volume += flow[day]` with an empty cell in `flow`.

A nan that was there, or was put there on purpose, does not pause where it is passed on.  Where it makes nan of a whole
total, or of all passes that follow, a script may end in nan without a pause: the first such place of a run is one.
"""

from __future__ import annotations

import ast
import re
import types
from collections.abc import Iterable, Iterator
from typing import Any

from ..core.records import record
from ..core.text import clean
from ..frames.namespace import Scope
from ..source.call_lists import TOTALS
from ..source.registry import file_of
from ..source.sites import callee
from ..source.source_file import COMPREHENSIONS, SourceFile, Statement
from ..values import nonfinite, polars_cells, tensor_arrays
from ..values.describe import text_of
from .provenance import Unreadable, read
from .tested_results import is_tested

MANY = 10_000_000  # cells of an operand that are counted
OF_TOTAL, OF_STATE = "lost-total", "lost-state"  # kinds of reasons
MEANT = re.compile(r"(^|_)(nan|missing|no_?data|fill)")  # names of constants that are nan
SKIPPING = {
    *("sum", "mean", "max", "min", "std", "var", "prod", "median", "quantile", "skew", "kurtosis", "corr", "cov"),
    *("cumsum", "cumprod"),
}
OF_NUMBERS = ("float", "complex", "numpy.float", "numpy.complex", "numpy.ndarray")  # types of terms
LEAVES = (ast.Name, ast.Attribute, ast.Subscript)


@record
class Lost:
    """What made nan of a number that was, or would be, finite.

    `sentence`: for a headline; `term`: at fault; `operand`: what holds the missing values, in `held`.
    """

    sentence: str
    reason: str
    term: ast.AST
    operand: ast.AST
    held: object

    def is_in(self, apart: dict[str, Any], file: SourceFile) -> bool:
        """False where the term is known to be fine; see `report.examine`."""
        text = file.segment(self.term)
        known = [t for t in apart["terms"] if t["text"] == text and t["type"].startswith(OF_NUMBERS)]
        return not known or any(t["nonfinite"] for t in known)

    def mark(self, apart: dict[str, Any], file: SourceFile) -> None:
        """Make the term the culprit of a statement that was taken apart."""
        text = file.segment(self.term)
        found = next((t for t in apart["terms"] if t["text"] == text), {"text": text, "value": "nan", "type": ""})
        term: dict[str, Any] = found
        term["culprit"] = True
        operands = [] if self.operand is self.term else [(file.segment(self.operand), text_of(self.held))]
        apart["culprit"] = {
            **{name: term[name] for name in ("text", "value", "type")},
            **{"operands": [{"text": name, "value": value} for name, value in operands], "reason_kind": self.reason},
            **{"cell": None, "reason": "", "near": [], "shapes": [], "made": 0},
            **{"element": "", "part": "", "sender": ""},
        }


def is_all_nan(value: Any) -> bool:
    """True for a number that is nan, and for an array or a tuple of nothing else."""
    kind = type(value)  # `isinstance` may run code of the script's
    if kind is float or kind is complex:
        return bool(value != value)
    if issubclass(kind, tuple):
        return 0 < len(value) <= 16 and all(is_all_nan(v) for v in value)
    np = nonfinite.module("numpy")
    if np is None:
        return False
    if tensor_arrays.is_tensor(kind):
        value = tensor_arrays.as_numpy(value)
    value = _labelled_cells(value)
    if not issubclass(type(value), np.generic) and type(value) is not np.ndarray:
        return False
    if not value.size or value.dtype.kind not in "fc":
        return False
    first = value.item(0)
    return bool(first != first) and value.size <= MANY and bool(np.isnan(value).all())


def _labelled_cells(value: Any) -> Any:
    """The cells of an array of xarray that is in memory; another value as it is."""
    np = nonfinite.module("numpy")
    home = str(type.__getattribute__(type(value), "__module__"))
    if np is not None and home.startswith("xarray.") and nonfinite.is_in_memory(value):
        return np.asarray(value)
    return value


def may_be_lost(value: Any) -> bool:
    """True for what is nan as a whole, and for a row of numbers that is nan from some place to its end."""
    np = nonfinite.module("numpy")
    value = _labelled_cells(value)
    if np is None or type(value) is not np.ndarray or value.ndim != 1 or not value.size or value.dtype.kind != "f":
        return is_all_nan(value)
    first, last = value.item(0), value.item(-1)
    return bool(last != last) and (first == first or is_all_nan(value))


def lost(value: object, node: ast.AST, statement: Statement, frame: types.FrameType) -> list[Lost]:
    """The totals that an expression may have lost to a few values of an operand, and the state that a step has lost to
    one; none where nan is looked for."""
    scope, file = Scope(frame), file_of(frame)
    if file is None:
        return []
    found: list[Lost | None] = []
    if is_all_nan(value):
        found += _totals(node, scope, file, _is_one_of_many(node, statement))
        found += [_state(statement.node, scope, file), _whole(value, node, scope, file)]
    found += _running(node, scope, file)
    likely = [one for one in found if one is not None]
    return [] if likely and is_tested(statement, frame) else likely


def _is_one_of_many(node: ast.AST, statement: Statement) -> bool:
    """True where an expression gives an element: of a comprehension, an array, a list that grows."""
    whole = statement.node
    if isinstance(whole, ast.Assign) and isinstance(whole.targets[0], ast.Subscript):
        return True
    if isinstance(whole, ast.Expr) and isinstance(whole.value, ast.Call) and callee(whole.value) == "append":
        return True
    of_elements = [part for part in ast.walk(whole) if isinstance(part, COMPREHENSIONS)]
    return any(part is node for one in of_elements for part in ast.walk(one) if part is not one)


def _is_window(node: ast.AST) -> bool:
    """`flow[t : t + 5]`: a part that moves along."""
    bounds = [part for part in ast.walk(node) if isinstance(part, ast.Slice)]
    return any(isinstance(part, ast.Name) for one in bounds for part in ast.walk(one))


def _totals(node: ast.AST, scope: Scope, file: SourceFile, of_many: bool) -> Iterator[Lost]:
    """Calls in which each value counts, with an operand of which a few are nan.  `of_many`: see `_is_one_of_many`."""
    for total in ast.walk(node):
        if isinstance(total, ast.Call) and callee(total) in TOTALS:
            parts = _given(total)
        elif isinstance(total, ast.BinOp) and isinstance(total.op, ast.MatMult):
            parts = [total.left, total.right]
        else:
            continue
        for part in parts:
            for leaf, value in _values(part, scope):
                alone = leaf is part or isinstance(part, (ast.BinOp, ast.UnaryOp))
                skipped = (alone and _skips_nan(total, value)) or (of_many and _is_window(leaf))
                if not skipped:
                    yield from _by_few(leaf, value, total, _text(file, total), file)


def _given(call: ast.Call) -> list[ast.expr]:
    """What a call is given, its object last."""
    parts = [a.value if isinstance(a, ast.Starred) else a for a in call.args]
    parts += [k.value for k in call.keywords]
    return [*parts, call.func.value] if isinstance(call.func, ast.Attribute) else parts


def _by_few(leaf: ast.AST, value: object, total: ast.AST, what: str, file: SourceFile) -> Iterator[Lost]:
    """The loss, where some values of an operand are nan, and not all.  `what` is nan by them."""
    missing, size = _count(value)
    if 0 < missing < size:
        said = f"{missing} nan among the {size} values of {_text(file, leaf)}"
        yield Lost(f"{said} {'makes' if missing == 1 else 'make'} {what} nan", OF_TOTAL, total, leaf, value)


def _skips_nan(total: ast.AST, value: object) -> bool:
    """True for `level.mean()` and `np.mean(level)` of a series: pandas and xarray leave missing values out."""
    home = str(type.__getattribute__(type(value), "__module__")).partition(".")[0]
    if home not in ("pandas", "xarray") or not isinstance(total, ast.Call) or callee(total) not in SKIPPING:
        return False
    return isinstance(total.func, ast.Attribute) and not any(k.arg == "skipna" for k in total.keywords)


def _running(node: ast.AST, scope: Scope, file: SourceFile) -> Iterator[Lost]:
    """`np.cumsum(flow)`, `start - np.cumsum(flow)`, which are nan from the first missing value on."""
    for call in ast.walk(node) if isinstance(node, (ast.Call, ast.BinOp)) else ():
        if isinstance(call, ast.Call) and callee(call) in ("cumsum", "cumprod"):
            for part in _given(call):
                for leaf, value in _values(part, scope):
                    if not _skips_nan(call, value):
                        yield from _by_few(leaf, value, call, f"the end of {_text(file, call)}", file)


def _whole(value: Any, node: ast.AST, scope: Scope, file: SourceFile) -> Lost | None:
    """`np.linspace(0, 1, 5) * k`: a number that is nan makes nan of a whole array."""
    if not getattr(value, "ndim", 0) or not isinstance(node, ast.BinOp):
        return None
    leaves = list(_values(node, scope))
    number = next((leaf for leaf, held in leaves if not getattr(held, "ndim", 0) and _is_lost_number(leaf, held)), None)
    arrays = [held for _, held in leaves if getattr(held, "ndim", 0)]
    if number is None or not all(nonfinite.count(held) == 0 for held in arrays):
        return None
    said = f"{_text(file, number)} is nan and makes all of {_text(file, node)} nan"
    return Lost(said, OF_STATE, number, number, value)


def _is_lost_number(leaf: ast.AST, value: object) -> bool:
    """True for nan that is no constant: `np.nan`, `NODATA` are meant."""
    name = leaf.attr if isinstance(leaf, ast.Attribute) else getattr(leaf, "id", "")
    is_meant = name.isupper() or MEANT.search(name.lower()) is not None
    return is_all_nan(value) and not isinstance(value, tuple) and not is_meant


def _state(node: ast.AST, scope: Scope, file: SourceFile) -> Lost | None:
    """`total += q`, `level = level + q`, `volume[t] = volume[t - 1] + q[t]`: by nan in `q` all that follows is nan."""
    target: ast.expr
    if isinstance(node, ast.AugAssign):
        target, made = node.target, node.value
        before: list[ast.AST] = [target] if not isinstance(target, ast.Subscript) or _is_of_dict(target, scope) else []
    elif isinstance(node, ast.Assign) and len(node.targets) == 1:
        target, made = node.targets[0], node.value
        of_dict = isinstance(target, ast.Subscript) and _is_of_dict(target, scope)
        before = [part for part in ast.walk(made) if _is_before(part, target, of_dict)]
    elif isinstance(node, ast.Expr) and isinstance(node.value, ast.Call) and callee(node.value) == "append":
        # `level.append(level[-1] + q)`
        if not isinstance(node.value.func, ast.Attribute) or len(node.value.args) != 1:
            return None
        target, made = node.value.func.value, node.value.args[0]
        before = [part for part in ast.walk(made) if _is_last(part, target)]
    else:
        return None
    if not any(_is_finite(value) for part in before for _, value in _values(part, scope)):
        return None
    for leaf, value in _values(made, scope):
        if _is_lost_number(leaf, value):
            owner, held = leaf, value
            if isinstance(leaf, ast.Subscript):
                owner, held = next(_values(leaf.value, scope), (leaf, value))
            return Lost(f"{_text(file, leaf)} is nan and makes {_text(file, target)} nan", OF_STATE, leaf, owner, held)
    return None


def _is_before(part: ast.AST, target: ast.AST, of_dict: bool) -> bool:
    """Whether a part of an expression is the target's value so far, or another element of its array."""
    if isinstance(target, ast.Subscript) and not of_dict:
        of_same = isinstance(part, ast.Subscript) and ast.unparse(part.value) == ast.unparse(target.value)
        return of_same and ast.unparse(part) != ast.unparse(target)
    return isinstance(part, LEAVES) and ast.unparse(part) == ast.unparse(target)


def _is_of_dict(target: ast.Subscript, scope: Scope) -> bool:
    """True for `total[gauge]` of a dictionary, whose values are sums; an array's may be results of one pass each."""
    return any(issubclass(type(owner), dict) for _, owner in _values(target.value, scope))


def _is_last(part: ast.AST, target: ast.AST) -> bool:
    of_same = isinstance(part, ast.Subscript) and ast.unparse(part.value) == ast.unparse(target)
    return of_same and ast.unparse(part).endswith("[-1]")


def _is_finite(value: object) -> bool:
    return nonfinite.is_number_kind(type(value)) and not nonfinite.any_bad(value)


def _text(file: SourceFile, node: ast.AST) -> str:
    return clean(file.segment(node), 60)


def _values(node: ast.AST, scope: Scope) -> Iterator[tuple[ast.AST, object]]:
    """The names, attributes and items in an expression that can be read, with their values."""
    if isinstance(node, LEAVES):
        try:
            yield node, read(node, scope)
            return
        except Unreadable:
            pass
    children: Iterable[ast.AST] = ast.iter_child_nodes(node)
    if isinstance(node, (ast.ListComp, ast.SetComp, ast.DictComp, ast.GeneratorExp)):
        children = [g.iter for g in node.generators]  # the names of elements are not in the scope
    for child in children:
        if isinstance(node, ast.Call) and child is node.func:
            child = getattr(child, "value", child)  # the object of a method
        if isinstance(child, ast.expr):
            yield from _values(child, scope)


def _count(value: Any) -> tuple[int, int]:
    """How many values of an array, a series or a list of numbers are nan, and how many there are; of others none."""
    np, pd = nonfinite.module("numpy"), nonfinite.module("pandas")
    if isinstance(value, (list, tuple)):
        numbers = [v for v in nonfinite.plain_list(value) if issubclass(type(v), (int, float))]
        return sum(v != v for v in numbers), len(numbers)
    if polars_cells.is_one(value):
        return polars_cells.nan(value), len(value)
    if tensor_arrays.is_tensor(type(value)):
        value = tensor_arrays.as_numpy(value)
    value = _labelled_cells(value)
    is_array = np is not None and type(value) is np.ndarray and value.dtype.kind in "fc"
    if not is_array and not (pd is not None and isinstance(value, (pd.Series, pd.DataFrame))):
        return 0, 0
    size = int(value.size)
    return (int(np.count_nonzero(nonfinite.nan_mask(value))), size) if size <= MANY else (0, size)
