"""Says of a join which keys have no partner, on which side, and which columns are empty for it."""

from __future__ import annotations

import ast
import types
from typing import Any

from ..core.data_types import Column, Frame
from ..core.records import record
from ..core.text import clean, plural
from ..source.sites import callee
from ..values import nonfinite
from ..values.kinds.base import text_of

SHOWN = 4  # keys and columns named
LOOKED = 1_000_000  # rows up to which keys are compared


@record
class _Side:
    name: str  # as it is in the text
    keys: Column  # an Index of the rows' keys
    label: str  # what the key is called


def explain(node: ast.AST, operands: dict[str, tuple[str, object]], result: object) -> str:
    """`kg is missing in 16 of 200 rows: no partner in picked for tree 6, 18, 31, …`; empty for what is no join.

    `operands`: of a call, by the name of the argument (`self` for a method's object, else its place): text and value.
    """
    pd = nonfinite.module("pandas")
    if pd is None or not isinstance(node, ast.Call) or not isinstance(result, pd.DataFrame):
        return ""
    sides = _sides(pd, callee(node), operands)
    if sides is None:
        return ""
    left, right = sides
    if max(len(left.keys), len(right.keys)) > LOOKED:
        return ""
    told = []
    for mine, other in ((left, right), (right, left)):
        alone = mine.keys[~mine.keys.isin(other.keys)]
        if len(alone):
            told.append(_alone(alone, mine, other))
    if not told:
        return ""
    where = _empty_columns(result)
    return f"{where}: {'; '.join(told)}" if where else "; ".join(told)


MERGE = ("right", "how", "on", "left_on", "right_on", "left_index", "right_index")


def named_operands(node: ast.Call, texts: list[str], values: list[object]) -> dict[str, tuple[str, object]]:
    """The operands of a call by the name of the argument.

    `texts` and `values` are in their order, with a method's object first.
    """
    given = len(node.args) + len(node.keywords)
    own = len(values) - given
    names = ["self"] * own
    positional = ("other", "on", "how") if callee(node) == "join" else MERGE if own else ("left", *MERGE)
    names += [positional[n] if n < len(positional) else str(n) for n in range(len(node.args))]
    names += [k.arg or "**" for k in node.keywords]
    return dict(zip(names, zip(texts, values)))


def _alone(alone: Any, mine: _Side, other: _Side) -> str:
    distinct = list(dict.fromkeys(alone))
    shown = ", ".join(_key(k) for k in distinct[:SHOWN])
    more = ", …" if len(distinct) > SHOWN else ""
    return f"no partner in {other.name} for {mine.label} {shown}{more}"


def _key(key: object) -> str:
    if isinstance(key, tuple):
        return " ".join(map(_key, key))
    text = str(key)
    return clean(text.removesuffix(" 00:00:00") if hasattr(key, "isoformat") else text_of(key), 40)


def _empty_columns(result: Frame) -> str:
    bad = nonfinite.columns(result)
    if not bad:
        return ""
    parts = [
        f"{name} is missing in {count} of {plural(len(result), 'row')}" for name, count in list(bad.items())[:SHOWN]
    ]
    return clean(", ".join(parts) + (", …" if len(bad) > SHOWN else ""), 160)


def _sides(pd: types.ModuleType, name: str, operands: dict[str, tuple[str, object]]) -> tuple[_Side, _Side] | None:
    """The two tables of a call of `merge` or `join`, with the keys of their rows."""

    def value(argument: str, default: object = None) -> Any:
        return operands[argument][1] if argument in operands else default

    frames = [(text, v) for text, v in operands.values() if isinstance(v, (pd.DataFrame, pd.Series))]
    if name not in ("merge", "join") or len(frames) < 2:
        return None
    (left_text, left), (right_text, right) = frames[:2]
    right = right.to_frame() if isinstance(right, pd.Series) else right
    if not isinstance(left, pd.DataFrame):
        return None
    on = value("on")
    if name == "join":
        left_keys, left_label = _keys(pd, left, on, on is None)
        right_keys, right_label = right.index, str(right.index.name or "row")
    else:
        left_on, right_on = value("left_on", on), value("right_on", on)
        by_index = (bool(value("left_index")), bool(value("right_index")))
        if left_on is None and right_on is None and not any(by_index):
            left_on = right_on = [c for c in left.columns if c in right.columns]
        left_keys, left_label = _keys(pd, left, left_on, by_index[0])
        right_keys, right_label = _keys(pd, right, right_on, by_index[1])
    if left_keys is None or right_keys is None or left_keys.nlevels != right_keys.nlevels:
        return None
    return _Side(_short(left_text, "the left table"), left_keys, left_label), _Side(
        _short(right_text, "the right table"), right_keys, right_label
    )


def _short(text: str, default: str) -> str:
    return text if len(text) <= 30 and "\n" not in text else default


def _keys(pd: types.ModuleType, frame: Frame, on: Any, by_index: bool) -> tuple[Any, str]:
    if by_index:
        return frame.index, str(frame.index.name or "row")
    names = list(on) if isinstance(on, (list, tuple)) else [on]
    if not names or not all(isinstance(n, str) and n in frame.columns for n in names):
        return None, ""
    keys = pd.Index(frame[names[0]]) if len(names) == 1 else pd.MultiIndex.from_frame(frame[names])
    return keys, " ".join(names)
