"""Reads a place within an object; tells which writes of elements are writes of it, and which values are the same."""

from __future__ import annotations

import ast
import math
import types
from typing import Any

from ..core.data_types import Array
from ..core.markers import MISSING
from ..core.type_identity import is_one_of
from ..values import nonfinite

OBJECT = "·object"
NUMBERS = (bool, int, float, complex, str, bytes, type(None))
NOT_FINITE = ("nan", "inf", "infinity")  # as `float` reads them


class Reader:
    """Reads a place within an object."""

    def __init__(self, name: str, text: str) -> None:
        tree = ast.parse(text, mode="eval")
        self.steps: list[ast.expr] = []  # from the name outwards
        node: ast.expr = tree.body
        while isinstance(node, (ast.Subscript, ast.Attribute, ast.Call)):
            self.steps.insert(0, node)
            node = node.func if isinstance(node, ast.Call) else node.value
        assert isinstance(node, ast.Name)
        node.id = OBJECT
        self.code = compile(tree, "<place>", "eval", dont_inherit=True)
        last = self.steps[-1] if self.steps else None
        self.index: object = MISSING
        self.owner: types.CodeType | None = None
        if isinstance(last, ast.Subscript):
            whole = ast.Expression(last.value)
            self.owner = compile(whole, "<place>", "eval", dont_inherit=True)
            index = ast.Expression(last.slice)
            if not any(isinstance(n, (ast.Name, ast.Slice)) for n in ast.walk(index)):
                self.index = eval(compile(index, "<place>", "eval", dont_inherit=True))
        self.counted = len(self.steps) == 1 and type(self.index) is int and self.index >= 0

    def read(self, thing: Any) -> object:
        """The value at the place; MISSING where there is none."""
        try:
            return thing[self.index] if self.counted else eval(self.code, {OBJECT: thing})
        except Exception:
            return MISSING

    def is_part(self, thing: object, owner: object) -> bool:
        """Whether an object is the one that the place is in, of the same memory, or holds it."""
        try:
            mine = thing if self.owner is None else eval(self.owner, {OBJECT: thing})
        except Exception:
            return True
        numpy = nonfinite.module("numpy")
        arrays = numpy is not None and type(mine) is type(owner) is numpy.ndarray
        return mine is owner or thing is owner or not arrays or bool(numpy.may_share_memory(mine, owner))

    def is_at(self, thing: object, owner: object, index: object) -> bool:
        """Whether `owner[index]` is, or holds, the place within `thing`."""
        if self.owner is None or self.index is MISSING:
            return False
        if self.counted and owner is thing and type(index) is int and index >= 0:
            return bool(index == self.index)
        try:
            mine = eval(self.owner, {OBJECT: thing})
        except Exception:
            return False
        if mine is owner and same(index, self.index):
            return True
        numpy = nonfinite.module("numpy")
        if numpy is None or not (type(mine) is type(owner) is numpy.ndarray):
            return False
        return covers(numpy, mine, self.index, owner, index)


def share(a: object, b: object) -> bool:
    """Whether two arrays are of the same memory."""
    numpy = nonfinite.module("numpy")
    if numpy is None or not (type(a) is type(b) is numpy.ndarray):
        return False
    return bool(numpy.may_share_memory(a, b))


def covers(numpy: types.ModuleType, mine: Any, cell: object, owner: Any, index: object) -> bool:
    """Whether `owner[index]` holds the cell `mine[cell]`, an array of the same memory."""
    try:
        if not numpy.may_share_memory(mine, owner):
            return False
        parts = index if type(index) is tuple else (index,)
        if not all(is_one_of(type(i), int, slice, type(...), type(None)) for i in parts):
            return owner is mine and _is_selected(numpy, mine, cell, index)
        one = mine[_as_slices(cell)]
        return bool(one.size) and bool(numpy.shares_memory(one, owner[_as_slices(index)], max_work=1000))
    except Exception:
        return False


def _as_slices(index: object) -> object:
    """An index by which an array gives a view: 3 becomes 3:4."""
    parts = index if isinstance(index, tuple) else (index,)
    return tuple(slice(i, i + 1 if i != -1 else None) if is_one_of(type(i), int) else i for i in parts)


def _is_selected(numpy: types.ModuleType, array: Array, cell: object, index: object) -> bool:
    marks = numpy.zeros(array.shape, bool)
    marks[index] = True
    return bool(marks[cell])


class Expected:
    """What is expected of each value of a chain, as Python over `value`; None: nothing."""

    code: types.CodeType | None = None

    @classmethod
    def broken(cls, value: object) -> Any:
        """What does not hold of a value: a truth value, or one for each cell; False where it cannot be asked."""
        if cls.code is None or value is MISSING:
            return False
        names = {"value": value, "math": math, "np": nonfinite.module("numpy")}
        try:
            held = eval(cls.code, names)
            return ~held if hasattr(held, "dtype") else not held
        except Exception:
            return False


def is_bad(value: object) -> bool:
    """Whether a value is not what is expected: has cells that are not finite, is a text that becomes such a number, or
    breaks what the user expects."""
    if Expected.code is not None:
        broken = Expected.broken(value)
        if bool(broken.any()) if hasattr(broken, "any") else bool(broken):
            return True
    if type(value) is float:
        return value - value != 0.0
    if type(value) is str:
        return len(value) < 20 and value.strip().lstrip("+-").lower() in NOT_FINITE
    try:
        return nonfinite.any_bad(value)
    except Exception:
        return False


def same(a: Any, b: Any) -> bool:
    """Whether nothing has changed: the same object, or numbers that are alike to the last bit."""
    if a is b:
        return True
    kind = type(a)
    if kind is not type(b):
        return False
    if isinstance(a, float):
        return bool((a == b and math.copysign(1.0, a) == math.copysign(1.0, b)) or (a != a and b != b))
    if is_one_of(kind, *NUMBERS):
        return bool(a == b)
    numpy = nonfinite.module("numpy")
    try:
        if numpy is not None and isinstance(a, (numpy.ndarray, numpy.generic)):
            return bool(a.shape == b.shape and a.dtype == b.dtype and a.tobytes() == b.tobytes())
    except Exception:
        return False
    pandas = nonfinite.module("pandas")
    try:
        if pandas is not None and isinstance(a, (pandas.Timestamp, pandas.Timedelta)):
            return bool(a == b)
        if pandas is not None and isinstance(a, (pandas.Series, pandas.DataFrame, pandas.Index)):
            return bool(a.equals(b))
    except Exception:
        return False
    if is_one_of(kind, list, tuple, dict, set, slice):
        try:
            return bool(a == b)
        except Exception:
            return False
    return False
