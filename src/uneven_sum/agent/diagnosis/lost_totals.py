"""Totals and states lost to missing values: `np.mean(flow)`, `volume += flow[day]` with an empty cell in `flow`.

A nan that was there, or was put there on purpose, does not pause where it is passed on.  Where it makes nan of a whole
total, or of all passes that follow, a script may end in nan without a pause: the first such place of a run is one.
"""

from __future__ import annotations

import ast
import types
from collections.abc import Iterable, Iterator
from typing import Any

from ..core.records import record
from ..core.text import clean
from ..frames.exception_handlers import statement_at
from ..frames.namespace import Scope
from ..frames.stack import user_frame
from ..source.call_lists import ABSORBING, TOTALS
from ..source.registry import file_of, files
from ..source.sites import callee
from ..source.source_file import COMPREHENSIONS, SourceFile, Statement
from ..values import nonfinite, polars_cells, tensor_arrays
from ..values.describe import text_of
from .gaps import is_handled, stored_names
from .provenance import Unreadable, read

MANY = 10_000_000  # cells of an operand that are counted
OF_TOTAL, OF_STATE = "lost-total", "lost-state"  # kinds of reasons
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

    def mark(self, apart: dict[str, Any], file: SourceFile) -> None:
        """Make the term the culprit of a statement that was taken apart; see `report.examine`."""
        text = file.segment(self.term)
        found = next((t for t in apart["terms"] if t["text"] == text), {"text": text, "value": "nan", "type": ""})
        term: dict[str, Any] = found
        term["culprit"] = True
        operands = [] if self.operand is self.term else [(file.segment(self.operand), text_of(self.held))]
        apart["culprit"] = {
            **{name: term[name] for name in ("text", "value", "type")},
            **{"operands": [{"text": name, "value": value} for name, value in operands], "reason_kind": self.reason},
            **{"cell": None, "reason": "", "near": [], "shapes": [], "element": "", "sender": "", "made": 0},
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
    elif not issubclass(kind, np.generic) and kind is not np.ndarray:
        return False
    if not value.size or value.dtype.kind not in "fc":
        return False
    return value.size <= MANY and bool(np.isnan(value.flat[0])) and bool(np.isnan(value).all())


def lost(node: ast.AST, statement: Statement, frame: types.FrameType) -> Lost | None:
    """The total that an expression loses to a few values of an operand, or the state that a step loses to one; None
    where there is none, or nan is looked for."""
    scope, file = Scope(frame), file_of(frame)
    if file is None:
        return None
    found = _total(node, scope, file, _is_one_of_many(node, statement)) or _state(statement.node, scope, file)
    return None if found is None or _is_tested(statement, frame) else found


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


def _total(node: ast.AST, scope: Scope, file: SourceFile, of_many: bool) -> Lost | None:
    for total in ast.walk(node):
        if isinstance(total, ast.Call) and callee(total) in TOTALS:
            parts = [a.value if isinstance(a, ast.Starred) else a for a in total.args]
            parts += [k.value for k in total.keywords]
            parts += [total.func.value] if isinstance(total.func, ast.Attribute) else []
        elif isinstance(total, ast.BinOp) and isinstance(total.op, ast.MatMult):
            parts = [total.left, total.right]
        else:
            continue
        for part in parts:
            for leaf, value in _values(part, scope):
                missing, size = _count(value)
                if 0 < missing < size and not (of_many and _is_window(leaf)):
                    makes = "makes" if missing == 1 else "make"
                    said = (
                        f"{missing} nan among the {size} values of {_text(file, leaf)} {makes} {_text(file, total)} nan"
                    )
                    return Lost(said, OF_TOTAL, total, leaf, value)
    return None


def _state(node: ast.AST, scope: Scope, file: SourceFile) -> Lost | None:
    """`total += q`, `level = level + q`, `volume[t] = volume[t - 1] + q[t]`: by nan in `q` all that follows is nan."""
    target: ast.expr
    if isinstance(node, ast.AugAssign):
        target, made = node.target, node.value
        before: list[ast.AST] = [] if isinstance(target, ast.Subscript) else [target]
    elif isinstance(node, ast.Assign) and len(node.targets) == 1:
        target, made = node.targets[0], node.value
        before = [part for part in ast.walk(made) if _is_before(part, target)]
    else:
        return None
    if not any(_is_finite(value) for part in before for _, value in _values(part, scope)):
        return None
    for leaf, value in _values(made, scope):
        if is_all_nan(value) and not isinstance(value, tuple):
            owner, held = leaf, value
            if isinstance(leaf, ast.Subscript):
                owner, held = next(_values(leaf.value, scope), (leaf, value))
            return Lost(f"{_text(file, leaf)} is nan and makes {_text(file, target)} nan", OF_STATE, leaf, owner, held)
    return None


def _is_before(part: ast.AST, target: ast.AST) -> bool:
    """Whether a part of an expression is the target's value so far, or an element before it."""
    if isinstance(target, ast.Subscript):
        of_same = isinstance(part, ast.Subscript) and ast.unparse(part.value) == ast.unparse(target.value)
        return of_same and ast.unparse(part) != ast.unparse(target)
    return isinstance(part, LEAVES) and ast.unparse(part) == ast.unparse(target)


def _is_finite(value: object) -> bool:
    return nonfinite.is_number_kind(type(value)) and not nonfinite.any_bad(value)


def _text(file: SourceFile, node: ast.AST) -> str:
    return clean(file.segment(node), 60)


def _is_tested(statement: Statement, frame: types.FrameType) -> bool:
    """True where what the statement makes is tested, filled or left out: by its function, by one that it is handed to,
    or by the caller."""
    node = statement.node
    is_lambda = frame.f_code.co_name == "<lambda>"
    if is_lambda or _leaves_by_return(statement):
        outer = user_frame(frame.f_back)
        file = file_of(outer) if outer is not None else None
        calling = statement_at(file, outer) if outer is not None and file is not None else None
        if outer is not None and calling is not None and not isinstance(calling.node, ast.Return):
            if _is_tested(calling, outer):
                return True
    if is_lambda or isinstance(node, ast.Return):
        return False
    made: ast.AST = ast.Constant(None)
    if isinstance(node, ast.Expr) and isinstance(node.value, ast.Call) and isinstance(node.value.func, ast.Attribute):
        made = node.value.func.value  # `means.append(…)`
    elif isinstance(node, (ast.AugAssign, ast.AnnAssign)):
        made = node.target
    if is_handled(made, statement) or _is_handed_to_a_test(node, Scope(frame)):
        return True
    names = stored_names(made).union(*map(stored_names, getattr(node, "targets", [])))
    return _is_compared_with_itself(names, statement.scope)


def _is_handed_to_a_test(node: ast.AST, scope: Scope) -> bool:
    """True for `safe(np.mean(flow))` where the user's own function asks `isnan`, or fills."""
    for call in ast.walk(node):
        if isinstance(call, ast.Call) and isinstance(call.func, LEAVES):
            try:
                code = getattr(read(call.func, scope), "__code__", None)
            except Unreadable:
                continue
            if isinstance(code, types.CodeType) and code.co_filename in files and ABSORBING & set(_names_in(code)):
                return True
    return False


def _names_in(code: types.CodeType) -> Iterator[str]:
    yield from code.co_names
    for inner in code.co_consts:
        if isinstance(inner, types.CodeType):
            yield from _names_in(inner)


def _is_compared_with_itself(names: set[str], tree: ast.AST) -> bool:
    """`if total != total`, `[s for s in totals if s == s]`."""
    for part in ast.walk(tree):
        if isinstance(part, COMPREHENSIONS):
            over = set().union(*(stored_names(g.iter) for g in part.generators))
            if names & over and any(map(_is_itself, ast.walk(part))):
                return True
        elif _is_itself(part) and names & stored_names(part):
            return True
    return False


def _is_itself(node: ast.AST) -> bool:
    return isinstance(node, ast.Compare) and ast.dump(node.left) == ast.dump(node.comparators[0])


def _leaves_by_return(statement: Statement) -> bool:
    """True for a `return`, and where the name that is stored is returned later."""
    node = statement.node
    targets = [*getattr(node, "targets", []), *([node.target] if isinstance(node, ast.AugAssign) else [])]
    names = {name for target in targets for name in stored_names(target)}
    returns = [node] if isinstance(node, ast.Return) else ast.walk(statement.scope)
    return any(
        isinstance(one, ast.Return) and (one is node or (one.value is not None and names & stored_names(one.value)))
        for one in returns
    )


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
    is_array = np is not None and type(value) is np.ndarray and value.dtype.kind in "fc"
    if not is_array and not (pd is not None and isinstance(value, (pd.Series, pd.DataFrame))):
        return 0, 0
    size = int(value.size)
    return (int(np.count_nonzero(nonfinite.nan_mask(value))), size) if size <= MANY else (0, size)
