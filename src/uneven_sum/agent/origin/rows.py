"""Follows a row of a data frame through what makes rows anew: joins, groups, sorts, filters.

The statement is about to run in a copy of the script, which ends then: what makes the rows is evaluated here.
"""

from __future__ import annotations

import ast
import types
from typing import Any

from ..core.data_types import Column
from ..core.errors import Refused
from ..core.records import fact
from ..diagnosis import provenance
from ..frames.namespace import Scope
from ..values import nonfinite
from .place import key_node

MOST_ROWS = 3  # of a group, whose values are listed
JOINS = ("merge", "join")


@fact
class From:
    """An operand: its text; or, with `said`, why there is none."""

    text: str = ""
    said: str = ""


def rows_of(root: ast.expr, scope: Scope, suffix: str) -> list[From]:
    """The cells of other frames that the cell `suffix` of the frame or series `root` is made from; empty when it is
    not known."""
    pandas = nonfinite.module("pandas")
    if pandas is None or not suffix or not isinstance(root, (ast.Call, ast.Subscript)):
        return []
    try:
        names = {**scope.globals, **scope.locals, "__builtins__": scope.builtins}
        result = eval(compile(ast.Expression(root), "<rows>", "eval"), names)
        label, column = cell_in(pandas, result, suffix)
        return (
            _grouped(root, scope, label)
            or _joined(pandas, root, scope, result, label, column)
            or _same(pandas, root, scope, result, label, column)
        )
    except (Exception, Refused):
        return []


def cell_in(pandas: types.ModuleType, result: Column, suffix: str) -> tuple[object, Any]:
    """The label and the column of a cell.  ValueError when it is none."""
    node = ast.parse("it" + suffix, mode="eval").body
    keys: list[tuple[str, Any]] = []
    while isinstance(node, ast.Subscript):
        key = ast.literal_eval(node.slice)
        node = node.value
        how = "plain"
        if isinstance(node, ast.Attribute):
            how, node = node.attr, node.value
        keys.insert(0, (how, key))
    if isinstance(result, pandas.Series):
        ((how, key),) = keys
        return (result.index[key] if how in ("iloc", "iat") else key), None
    if len(keys) == 1:
        row, column = keys[0][1]
        return row, column
    (_, column), (how, key) = keys
    return (result.index[key] if how in ("iloc", "iat") else key), column


def _text(owner: ast.expr, frame: Any, column: object, label: object) -> str:
    picked = "" if column is None else f"[{ast.unparse(key_node(column))}]"
    try:
        row = f".loc[{ast.unparse(key_node(label))}]"
    except Refused:  # a date, say: by its place
        row = f".iloc[{frame.index.get_loc(label)}]"
    return f"{ast.unparse(owner)}{picked}{row}"


def _grouped(root: ast.expr, scope: Scope, label: object) -> list[From]:
    """`table.groupby(key)[column].mean()`: the rows of the group, those that are not finite first."""
    if not (isinstance(root, ast.Call) and isinstance(root.func, ast.Attribute)):
        return []
    inner = root.func.value
    if not isinstance(inner, ast.Subscript) or not isinstance(inner.value, ast.Call):
        return []
    call = inner.value
    if not (isinstance(call.func, ast.Attribute) and call.func.attr == "groupby" and call.args):
        return []
    frame, key = provenance.read(call.func.value, scope), provenance.read(call.args[0], scope)
    column = provenance.read(inner.slice, scope)
    rows = frame.index[frame[key] == label]
    bad = [row for row in rows if nonfinite.any_bad(frame.at[row, column])]
    return [From(_text(call.func.value, frame, column, row)) for row in [*bad, *rows][:MOST_ROWS]]


def _joined(
    pandas: types.ModuleType, root: ast.expr, scope: Scope, result: Any, label: object, column: object
) -> list[From]:
    """`left.merge(right, on=key)`: the row of the frame that has the column, by the key."""
    if not (isinstance(root, ast.Call) and isinstance(root.func, ast.Attribute) and root.func.attr in JOINS):
        return []
    sides = [root.func.value, *root.args] if _is_frame(pandas, root.func.value, scope) else list(root.args)
    frames = [(side, provenance.read(side, scope)) for side in sides[:2]]
    given = {k.arg: provenance.read(k.value, scope) for k in root.keywords if k.arg}
    for number, (side, frame) in enumerate(frames):
        if column not in frame.columns:
            continue
        key = given.get("on") or given.get("right_on" if number else "left_on")
        other = given.get("on") or given.get("left_on" if number else "right_on")
        if key is None and (root.func.attr == "join" or given.get("left_index") or given.get("right_index")):
            if label in frame.index:
                return [From(_text(side, frame, column, label))]
            return [From(said=f"no row of {ast.unparse(side)} has the label {_label_text(label)}")]
        if key is None:
            continue
        value = result.at[label, key if key in result.columns else other]
        rows = frame.index[frame[key] == value]
        if len(rows):
            return [From(_text(side, frame, column, row)) for row in rows[:MOST_ROWS]]
        return [From(said=f"no row of {ast.unparse(side)} has {key} = {value!r}")]
    return []


def _label_text(label: object) -> str:
    return str(label) if hasattr(label, "isoformat") else repr(label)


def _is_frame(pandas: types.ModuleType, node: ast.expr, scope: Scope) -> bool:
    """Whether an expression is a frame that can be read."""
    try:
        return isinstance(provenance.read(node, scope), pandas.DataFrame)
    except provenance.Unreadable:
        return False


def _same(
    pandas: types.ModuleType, root: ast.expr, scope: Scope, result: Any, label: object, column: object
) -> list[From]:
    """A sort, a filter, a copy: the row of the same label has the same values; after new labels, that of its place."""
    owner: ast.expr = root
    while isinstance(owner, (ast.Call, ast.Attribute, ast.Subscript)):
        owner = owner.func if isinstance(owner, ast.Call) else owner.value
        try:
            frame = provenance.read(owner, scope)
        except provenance.Unreadable:
            continue
        if not isinstance(frame, (pandas.DataFrame, pandas.Series)):
            continue
        if isinstance(frame, pandas.DataFrame) is (column is None) or (column is not None and column not in frame):
            continue
        cells = frame if column is None else frame[column]
        row = result.loc[label]
        if label in cells.index and _alike(frame.loc[label], row):
            return [From(_text(owner, frame, column, label))]
        if len(cells) == len(result) and _alike(frame.iloc[result.index.get_loc(label)], row):
            return [From(_text(owner, frame, column, cells.index[result.index.get_loc(label)]))]
    return []


def _alike(a: Column, b: Column) -> bool:
    """Whether two rows, or two values, are equal in what both have."""
    if hasattr(a, "iloc") and hasattr(b, "iloc"):
        common = [name for name in a.index if name in b.index]
        return bool(common) and all(_alike(a[name], b[name]) for name in common)
    return bool(a == b) or bool(a != a and b != b)
