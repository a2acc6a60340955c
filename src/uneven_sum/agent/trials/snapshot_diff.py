"""What an evaluation has changed: names, cells of arrays, elements and attributes, found by comparing with before.

Made for a copy of the script (`trial`), where the state before is not needed any more.
"""

from __future__ import annotations

import ast
import builtins
import math
import types
import zlib
from typing import Any

from ..core.markers import HIDDEN, MISSING
from ..core.type_identity import TypeIds, key_of
from ..diagnosis import provenance
from ..frames.namespace import Scope
from ..values import nonfinite
from ..values.describe import summary
from ..values.safe_read import safe_kind

COPIED = 64 << 20  # bytes of arrays that are copied, so that the changed cells can be named
SUMMED = 256 << 20  # bytes of further ones of which a sum is taken; beyond it a sample
PARTS = 100_000  # elements and attributes of collections and objects looked at
DEEP = 3  # levels of collections and objects
TOLD = 12  # changes told
PLAIN = TypeIds(int, float, complex, str, bytes, bool, type(None))
LEFT_OUT = (types.ModuleType, types.FunctionType, types.BuiltinFunctionType, type, types.CodeType)

PURE_NAMES = {
    *("abs", "all", "any", "bin", "bool", "bytes", "callable", "chr", "complex", "dict", "divmod"),
    *("enumerate", "filter", "float", "format", "frozenset", "getattr", "hasattr", "hash", "hex", "id"),
    *("int", "isinstance", "issubclass", "len", "list", "max", "min", "oct", "ord", "pow", "range"),
    *("repr", "reversed", "round", "set", "slice", "sorted", "str", "sum", "tuple", "type", "zip"),
}
PURE_METHODS = {
    *("abs", "all", "any", "argmax", "argmin", "argsort", "astype", "conj", "copy", "corr", "count"),
    *("cov", "cumprod", "cumsum", "describe", "diagonal", "dot", "endswith", "flatten", "format", "get"),
    *("head", "idxmax", "idxmin", "index", "isna", "isnull", "items", "join", "keys", "lower", "max"),
    *("mean", "median", "min", "nonzero", "notna", "nunique", "prod", "quantile", "ravel", "repeat"),
    *("replace", "reshape", "round", "split", "squeeze", "startswith", "std", "strip", "sum", "tail"),
    *("take", "tolist", "trace", "transpose", "unique", "upper", "value_counts", "values", "var"),
}


def is_pure(node: ast.AST, scope: Scope) -> bool:
    """True for an expression that cannot change anything: operators on numbers, arrays and plain collections,
    and calls known to leave what they are given alone."""
    for part in ast.walk(node):
        if isinstance(part, (ast.NamedExpr, ast.Await, ast.Yield, ast.YieldFrom, ast.Lambda, ast.GeneratorExp)):
            return False
        if isinstance(part, ast.Call) and not _is_pure_call(part, scope):
            return False
        if isinstance(part, ast.Name):
            value = scope.get(part.id, MISSING)
            if value is not MISSING and not isinstance(value, LEFT_OUT) and not safe_kind(type(value)):
                return False
    return True


def _is_pure_call(node: ast.Call, scope: Scope) -> bool:
    if any(k.arg in ("out", "inplace", "where", "key") or k.arg is None for k in node.keywords):
        return False
    try:
        function = provenance.read(node.func, scope)
    except provenance.Unreadable:
        return False
    if isinstance(node.func, ast.Name):
        return node.func.id in PURE_NAMES and function is getattr(builtins, node.func.id, None)
    np = nonfinite.module("numpy")
    if np is not None and isinstance(function, np.ufunc):
        return bool(len(node.args) <= function.nin)
    if getattr(function, "__module__", None) == "math":
        return True
    owner = getattr(function, "__self__", None)
    # mypy: its owner came from an attribute
    return node.func.attr in PURE_METHODS and owner is not None and safe_kind(type(owner))  # type: ignore[attr-defined]


class NamesBefore:
    """The values of names as they are now; `differences` says later what has become of them."""

    def __init__(self, names: dict[str, object]) -> None:
        self.copied, self.summed, self.parts = COPIED, SUMMED, PARTS
        self.sampled = False  # something was too large to be compared completely
        self.seen: set[int] = set()
        self.kept: list[object] = []  # so that no identity is given to another object
        self.names = {n: self._of(v, 0) for n, v in names.items() if _counts(n, v)}
        self.values = {n: v for n, v in names.items() if _counts(n, v)}

    def _of(self, value: Any, depth: int) -> tuple[object, ...]:
        """What a value is like: a tuple that differs when the value does."""
        kind = type(value)
        if key_of(kind) in PLAIN:
            return ("is", kind, "nan" if value != value else value)
        self.kept.append(value)
        np = nonfinite.module("numpy")
        if np is not None and isinstance(value, np.ndarray):
            return self._of_array(np, value)
        told: tuple[object, ...] = ("object", id(value))
        if depth >= DEEP or id(value) in self.seen:
            return told
        self.seen.add(id(value))
        if kind is list or kind is tuple:
            return ("list", id(value), [self._of(v, depth + 1) for v in value[: self._room(len(value))]], len(value))
        if kind is dict:
            room = self._room(len(value))
            parts = [(k, self._of(v, depth + 1)) for k, v in list(value.items())[:room] if key_of(type(k)) in PLAIN]
            return ("dict", id(value), dict(parts), len(value))
        if kind is set or kind is frozenset:
            return ("set", id(value), frozenset(map(id, value)), len(value))
        pd = nonfinite.module("pandas")
        if pd is not None and isinstance(value, (pd.DataFrame, pd.Series)):
            return ("frame", id(value), *self._of_frame(value))
        own = _attributes(value)
        if own is not None:
            room = self._room(len(own))
            return ("attributes", id(value), {n: self._of(v, depth + 1) for n, v in list(own.items())[:room]}, 0)
        return told

    def _room(self, wanted: int) -> int:
        """How many parts of a collection are looked at."""
        room = min(wanted, self.parts)
        self.parts -= room
        self.sampled = self.sampled or room < wanted
        return room

    def _of_array(self, np: types.ModuleType, value: Any) -> tuple[object, ...]:
        if value.dtype.hasobject:
            return ("array", id(value), value.shape, str(value.dtype), tuple(map(id, value.reshape(-1)[:PARTS])))
        if value.nbytes <= self.copied:
            self.copied -= value.nbytes
            return ("array", id(value), value.shape, str(value.dtype), value.copy())
        if value.nbytes <= self.summed and value.flags.c_contiguous and value.nbytes % 8 == 0:
            self.summed -= value.nbytes
            words = value.reshape(-1).view(np.uint64)
            return ("array", id(value), value.shape, str(value.dtype), int(np.add.reduce(words)))
        self.sampled = True
        flat = value.reshape(-1) if value.flags.c_contiguous else value.flat
        part = np.ascontiguousarray(flat[:: 1 + value.size // 100_000])
        return ("array", id(value), value.shape, str(value.dtype), zlib.crc32(part.tobytes()))

    def _of_frame(self, value: Any) -> tuple[object, ...]:
        columns = list(getattr(value, "columns", [None]))
        print_: list[object] = []
        for number in range(min(len(columns), 2_000)):
            column = value.iloc[:, number] if hasattr(value, "columns") else value
            cells = column.to_numpy()
            print_.append(self._of_array(nonfinite.module("numpy"), cells)[3:] if cells.ndim == 1 else None)
        return (print_, [str(c) for c in columns], len(value))

    # -- afterwards ----------------------------------------------------------------------------------

    def differences(self, names: dict[str, object]) -> list[dict[str, object]]:
        """What is different now: `name`, `old`, `new`, and for arrays `cells` and `where`; at most TOLD of them."""
        after = NamesBefore({})
        found: list[dict[str, object]] = []
        for name, before in self.names.items():
            if name not in names:
                found.append({"name": name, "old": _text(self.values[name]), "new": "deleted"})
            else:
                after.seen = set()
                self._compare(name, before, after._of(names[name], 0), self.values[name], names[name], found)
        for name, value in names.items():
            if name not in self.names and _counts(name, value):
                found.append({"name": name, "old": "not assigned", "new": _text(value)})
        return found[:TOLD]

    def _compare(
        self,
        path: str,
        before: tuple[Any, ...],
        now: tuple[Any, ...],
        old: object,
        new: object,
        found: list[dict[str, object]],
    ) -> None:
        if len(found) >= TOLD:
            return
        if before[0] != now[0] or before[0] == "is" or before[1] != now[1]:
            if before[0] == "is" or now[0] == "is" or before[1] != now[1]:
                same = before == now
                if not same:
                    found.append({"name": path, "old": _was(before, old), "new": _text(new)})
            return
        kind = before[0]
        if kind == "array":
            self._compare_cells(path, before, now, found)
        elif kind in ("list", "dict", "attributes"):
            parts = enumerate(before[2]) if kind == "list" else before[2].items()
            for key, part in list(parts):
                inner = _inner(path, kind, key)
                try:
                    present = now[2][key]
                except (KeyError, IndexError):
                    found.append({"name": inner, "old": _was(part, None), "new": "deleted"})
                    continue
                self._compare(inner, part, present, None, _part(new, kind, key), found)
            if kind == "list" and now[3] > before[3]:
                found.append({"name": path, "old": f"{before[3]} elements", "new": f"{now[3]} elements"})
            elif kind != "list":
                for key in [k for k in now[2] if k not in before[2]][:TOLD]:
                    new_part = _text(_part(new, kind, key))
                    found.append({"name": _inner(path, kind, key), "old": "not there", "new": new_part})
        elif kind == "set" and before[2:] != now[2:]:
            found.append({"name": path, "old": f"{before[3]} elements", "new": f"{now[3]} elements"})
        elif kind == "frame":
            self._compare_frames(path, before, now, found)

    def _compare_cells(
        self, path: str, before: tuple[Any, ...], now: tuple[Any, ...], found: list[dict[str, object]]
    ) -> None:
        np = nonfinite.module("numpy")
        if before[2:4] != now[2:4]:
            old, new = (f"{part[2]} {part[3]}" for part in (before, now))
            found.append({"name": path, "old": old, "new": new})
            return
        one, other = before[4], now[4]
        if not hasattr(one, "shape") or not hasattr(other, "shape"):
            if not hasattr(one, "shape") and not hasattr(other, "shape") and one != other:
                found.append({"name": path, "old": "", "new": "changed in place"})
            return
        with np.errstate(all="ignore"):
            differs = one != other
            if one.dtype.kind in "fcmM":
                differs &= ~((one != one) & (other != other))
        count = int(np.count_nonzero(differs))
        if count:
            places = [[int(i) for i in p] for p in np.argwhere(differs)[:3]]
            first = tuple(places[0])
            old, new = _text(one[first]), _text(other[first])
            found.append({"name": path, "old": old, "new": new, "cells": count, "where": places})

    def _compare_frames(
        self, path: str, before: tuple[Any, ...], now: tuple[Any, ...], found: list[dict[str, object]]
    ) -> None:
        if before[4] != now[4]:
            found.append({"name": path, "old": f"{before[4]} rows", "new": f"{now[4]} rows"})
            return
        were, are = set(before[3]), {name: place for place, name in reversed(list(enumerate(now[3])))}
        for name in [c for c in now[3] if c not in were][:TOLD]:
            found.append({"name": f"{path}[{name!r}]", "old": "not there", "new": "a new column"})
        for name in [c for c in before[3] if c not in are][:TOLD]:
            found.append({"name": f"{path}[{name!r}]", "old": "a column", "new": "deleted"})
        for name, one in zip(before[3], before[2]):
            if are.get(name, len(now[2])) < len(now[2]) and one is not None:
                other = now[2][are[name]]
                label = f"{path}[{name!r}]" if name != "None" else path
                self._compare_cells(label, (0, 0, before[4], *one), (0, 0, now[4], *other), found)


def _inner(path: str, kind: str, key: object) -> str:
    return f"{path}.{key}" if kind == "attributes" else f"{path}[{key!r}]"


def _part(owner: object, kind: str, key: object) -> object:
    own = _attributes(owner) if kind == "attributes" else owner
    try:
        return own[key]  # type: ignore[index]  # TypeError is caught
    except (KeyError, IndexError, TypeError):
        return MISSING


def _attributes(value: object) -> dict[str, object] | None:
    """An object's own attributes, read without running its code."""
    try:
        found = object.__getattribute__(value, "__dict__")
    except Exception:
        return None
    return found if type(found) is dict else None


def _counts(name: str, value: object) -> bool:
    return not (name.startswith(("__", *HIDDEN)) or isinstance(value, LEFT_OUT))


def _was(before: tuple[object, ...], old: object) -> str:
    if before[0] == "is":
        return _text(math.nan if before[2] == "nan" and before[1] is float else before[2])
    return _text(old) if old is not None else "another object"


def _text(value: object) -> str:
    return "deleted" if value is MISSING else str(summary(value)["text"])[:80]


def sentence(found: list[dict[str, Any]]) -> str:
    """`head 0.0 → 1.0; 3 cells of flow, first at [211]: nan → 0.0`."""
    parts = []
    for change in found:
        if change.get("cells"):
            at = ", ".join(map(str, change["where"][0]))
            plural = "s" if change["cells"] != 1 else ""
            told = f"{change['cells']} cell{plural} of {change['name']}, first at [{at}]"
            parts.append(f"{told}: {change['old']} → {change['new']}")
        elif change["old"]:
            parts.append(f"{change['name']} {change['old']} → {change['new']}")
        else:
            parts.append(f"{change['name']} {change['new']}")
    return "; ".join(parts)
