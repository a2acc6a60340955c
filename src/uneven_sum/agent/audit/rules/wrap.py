"""`wrap`: an integer of fixed width left its range and wrapped around."""

from __future__ import annotations

import ast
import types
from collections.abc import Callable
from typing import Any

from ...core.data_types import Array
from ...values import nonfinite
from .. import pictures
from ..figures import full, many, seen
from .base import Rule

EXACT: dict[str, Callable[[int, int], int]] = {
    "add": lambda a, b: a + b,
    "sub": lambda a, b: a - b,
    "mul": lambda a, b: a * b,
    "pow": lambda a, b: a**b if 0 <= b <= 4096 else 0,
}
UFUNCS = {"add": "add", "subtract": "sub", "multiply": "mul", "power": "pow"}
SIGNS = {"add": "+", "sub": "−", "mul": "×", "pow": "to the power of"}
REDUCES = ("sum", "prod", "cumsum", "cumprod", "dot", "matmul")
INTEGERS = ("int8", "int16", "int32", "uint8", "uint16", "uint32")
EXACT_CELLS = 1_000  # of 64 bits, that are calculated in Python integers
WIDER = ("int64", "float64")


class Wrap(Rule):
    """Bounds of the result from those of the operands; only where these leave the dtype are the cells looked at.

    Unsigned products and sums are exempt (hashes, checksums); an unsigned difference counts in the upper half only.
    """

    NAME = "wrap"
    TAKES = frozenset({"integer", "array", "frame"})
    WANTS = (
        *(*EXACT, "matmul", "neg"),
        *(
            f"call:{name}"
            for name in (*REDUCES, *UFUNCS, *INTEGERS, "square", "abs", "absolute", "negative", "diff", "ptp", "astype")
        ),
    )

    def operator(self, name: str, a: object, b: object, result: object, site: int) -> None:
        np = nonfinite.module("numpy")
        if np is None:
            return
        if name == "matmul":
            self._product(np, a, b, result, site)
            return
        if name == "neg":
            self._lowest(np, "negative", a, result, site)
            return
        told = _cells(np, result)
        if told is None or told.dtype.kind not in "iu" or not told.size:
            return
        left, right = _cells(np, a), _cells(np, b)
        if left is None or right is None or left.dtype.kind not in "iub" or right.dtype.kind not in "iub":
            return
        unsigned = told.dtype.kind == "u"
        if unsigned and name != "sub" and (name != "add" or self._is_hash(site)):
            return
        info = np.iinfo(told.dtype)
        if not left.size or not right.size:
            return
        ends = [int(left.min()), int(left.max())], [int(right.min()), int(right.max())]
        exact = EXACT[name]
        bounds = [exact(x, y) for x in ends[0] for y in ends[1]]
        if min(bounds) >= int(info.min) and max(bounds) <= int(info.max):
            return
        wide, other = np.broadcast_arrays(left, right)
        if name != "pow" and told.dtype.itemsize < 8:
            ints = {"add": np.add, "sub": np.subtract, "mul": np.multiply}[name]
            outside = ints(wide.astype(np.int64), other.astype(np.int64)) != told
        elif told.size <= EXACT_CELLS:
            pairs = zip(wide.ravel().tolist(), other.ravel().tolist(), told.ravel().tolist())
            outside = np.array([exact(x, y) != z for x, y, z in pairs]).reshape(told.shape)
        else:
            floats = {"add": np.add, "sub": np.subtract, "mul": np.multiply, "pow": np.float_power}[name]
            near = floats(wide.astype(float), other.astype(float))
            outside = (near > float(info.max) * (1 + 1e-9)) | (near < float(info.min) * (1 + 1e-9) - 0.5)
        if unsigned and name == "sub":
            outside &= told > info.max // 2
        places = np.argwhere(outside)
        if not len(places) or self.auditor.has(self, site):
            return
        cell = tuple(int(i) for i in places[0])
        x, y = int(wide[cell]), int(other[cell])
        shown = pictures.cells(np, "cells that wrapped", outside)
        if name != "pow" and told.ndim == 1:
            near = {"add": np.add, "sub": np.subtract, "mul": np.multiply}[name](wide.astype(float), other)
            shown += pictures.course(np, "exact and stored, by cell", {"exact": near, "stored": told})
        self._tell(site, name, x, y, exact(x, y), told[cell], told.dtype, list(cell), len(places), shown)

    def _tell(
        self,
        site: int,
        name: str,
        x: int,
        y: int,
        exact: int,
        stored: object,
        dtype: object,
        cell: list[int],
        cells: int,
        shown: list[dict[str, object]],
    ) -> None:
        place = self.auditor.place(site)
        where = f" in {many(cells, 'cell')}, the first at {cell}" if cell else ""
        holds = next((w for w in WIDER if w != str(dtype)), "float64")
        self.auditor.report(
            self,
            site,
            f"{place.text} wraps around{where}: {x} {SIGNS[name]} {y} is {exact}, and {dtype} stores {full(stored)}. "
            f"{'float64 or Python integers' if str(dtype) in ('int64', 'uint64') else holds} would hold it.",
            0.95,
            question=name == "add" and str(dtype).startswith("u"),
            evidence={"exact": str(exact), "stored": full(stored), "dtype": str(dtype), "cells": cells},
            right=str(exact),
            cell=cell or None,
            operands=list(zip(place.operand_texts(), (full(x), full(y)))),
            pictures=shown,
        )

    def call(
        self, function: object, args: tuple[object, ...], named: dict[str, object], result: object, site: int
    ) -> None:
        np = nonfinite.module("numpy")
        told = _cells(np, result) if np is not None else None
        name = seen(function, "__name__", "")
        if told is None or told.dtype.kind not in "iu" or not told.size:
            return
        owner = seen(function, "__self__", None)
        data = owner if _cells(np, owner) is not None and seen(owner, "dtype", None) is not None else None
        values = [v for v in ([data] if data is not None else []) + list(args) if _cells(np, v) is not None]
        if not values:
            return
        cells = _cells(np, values[0])
        if cells is None or cells.dtype.kind not in "iub" or not cells.size:
            return
        info = np.iinfo(told.dtype)
        if name in ("abs", "absolute", "negative"):
            self._lowest(np, name, cells, result, site)
            return
        if name == "square":
            self.operator("mul", cells, cells, result, site)
            return
        if name in UFUNCS:
            if len(args) > 1:
                self.operator(UFUNCS[name], args[0], args[1], result, site)
            return
        if name in ("dot", "matmul"):
            if len(values) > 1:
                self._product(np, values[0], values[1], result, site)
            return
        if name == "diff":
            if cells.ndim == 1 and not named:
                self.operator("sub", cells[1:], cells[:-1], told, site)
            return
        if name == "astype" or name in INTEGERS:
            self._cast(np, cells, told, site)
            return
        if name == "ptp":
            self._range(cells, told, named.get("axis", args[1] if len(args) > 1 else None), site)
            return
        if told.dtype.kind == "u" and (name != "sum" or told.dtype.itemsize == 8):
            return  # hashes and checksums; shorter ones are added up in 64 bits, unless a dtype is given
        if name in ("sum", "cumsum") and max(abs(int(cells.min())), abs(int(cells.max()))) * cells.size <= int(
            info.max
        ):
            return
        axis = named.get(
            "axis", args[-1] if args and type(args[-1]) is int and len(args) + (data is not None) > 1 else None
        )
        axis = 0 if axis is None and name.startswith("cum") and seen(data, "index") is not None else axis
        near, stored = getattr(np, name)(cells.astype(float), axis=axis), told
        if np.shape(near) != np.shape(stored):
            return
        outside = np.atleast_1d((near > float(info.max) * (1 + 1e-9)) | (near < float(info.min) * (1 + 1e-9)))
        if (
            name == "sum"
            and not outside.any()
            and np.ndim(near) == 0
            and abs(float(near)) > float(info.max) * (1 - 1e-9)
        ):
            exact = sum(cells.ravel().tolist())  # too near to the end of the range for a float to tell
            outside = np.atleast_1d(not int(info.min) <= exact <= int(info.max))
        if outside.any() and not self.auditor.has(self, site):
            where = int(np.argmax(outside))
            self._told_call(
                site, name, float(np.atleast_1d(near).ravel()[where]), np.atleast_1d(stored).ravel()[where], told.dtype
            )

    def _range(self, cells: Any, told: Any, axis: object, site: int) -> None:
        """The largest cell less the smallest, in a dtype that may not hold it."""
        highest, lowest = cells.max(axis=axis).astype(object), cells.min(axis=axis).astype(object)
        np = nonfinite.module("numpy")
        assert np is not None
        exact, stored = np.ravel(highest - lowest), np.ravel(told)
        if exact.shape != stored.shape:
            return
        wrong = np.flatnonzero(exact != stored.astype(object))
        if len(wrong) and not self.auditor.has(self, site):
            self._told_call(site, "ptp", int(exact[wrong[0]]), stored[wrong[0]], told.dtype)

    def _is_hash(self, site: int) -> bool:
        """Whether the code around works on bits, where a sum is meant to wrap around."""
        bits = (ast.BitXor, ast.BitAnd, ast.BitOr, ast.LShift, ast.RShift)
        return any(isinstance(getattr(n, "op", None), bits) for n in ast.walk(self.auditor.place(site).scope))

    def _lowest(self, np: types.ModuleType, name: str, value: object, result: object, site: int) -> None:
        """The lowest integer of a width has no positive partner."""
        cells, told = _cells(np, value), _cells(np, result)
        if cells is None or told is None or cells.dtype.kind != "i" or told.dtype.kind != "i" or not cells.size:
            return
        lowest = int(np.iinfo(told.dtype).min)
        if int(cells.min()) == lowest and not self.auditor.has(self, site):
            self._told_call(site, name, -lowest, lowest, told.dtype)

    def _product(self, np: types.ModuleType, a: object, b: object, result: object, site: int) -> None:
        """A matrix product: its float64 counterpart leaves the range."""
        left, right, told = _cells(np, a), _cells(np, b), _cells(np, result)
        if left is None or right is None or told is None or told.dtype.kind != "i" or not told.size:
            return
        near = np.asarray(left.astype(float) @ right.astype(float))
        info = np.iinfo(told.dtype)
        outside = np.atleast_1d((near > float(info.max) * (1 + 1e-9)) | (near < float(info.min) * (1 + 1e-9)))
        if outside.any() and not self.auditor.has(self, site):
            where = int(np.argmax(outside))
            self._told_call(site, "dot", float(near.ravel()[where]), np.asarray(told).ravel()[where], told.dtype)

    def _cast(self, np: types.ModuleType, before: Array, after: Array, site: int) -> None:
        """A cast to a narrower integer."""
        if before.shape != after.shape or np.iinfo(after.dtype).bits >= np.iinfo(before.dtype).bits:
            return
        changed = before != after
        if not changed.any() or self.auditor.has(self, site):
            return
        cell = tuple(int(i) for i in np.argwhere(changed)[0])
        x, stored, count = int(before[cell]), after[cell], int(changed.sum())
        place = self.auditor.place(site)
        self.auditor.report(
            self,
            site,
            f"{place.text} wraps around in {many(count, 'cell')}: {x} becomes {full(stored)} in {after.dtype}. "
            f"{before.dtype} holds it.",
            0.9,
            evidence={"exact": str(x), "stored": full(stored), "dtype": str(after.dtype), "cells": count},
            pictures=pictures.cells(np, "cells that wrapped", changed),
            right=str(x),
            cell=list(cell) or None,
        )

    def _told_call(self, site: int, name: str, exact: object, stored: object, dtype: object) -> None:
        place = self.auditor.place(site)
        about = f"about {exact:.6g}" if isinstance(exact, float) else str(exact)
        self.auditor.report(
            self,
            site,
            f"{place.text} wraps around: the result is {about}, and {dtype} stores {full(stored)}. "
            "float64 would hold it.",
            0.95,
            evidence={"exact": about, "stored": full(stored), "dtype": str(dtype)},
            right=about,
        )


def may_leave(name: str, a: Array, b: object) -> bool:
    """Whether an operation in place on an array of integers may leave their range, by the ends of the operands."""
    np = nonfinite.module("numpy")
    if np is None or name not in EXACT or a.dtype.kind not in "iu" or not a.size:
        return False
    other = _cells(np, b)
    if other is None or other.dtype.kind not in "iub" or not other.size:
        return False
    info, exact = np.iinfo(a.dtype), EXACT[name]
    ends = [int(a.min()), int(a.max())], [int(other.min()), int(other.max())]
    bounds = [exact(x, y) for x in ends[0] for y in ends[1]]
    return min(bounds) < int(info.min) or max(bounds) > int(info.max)


def _cells(np: types.ModuleType, value: object) -> Any:
    """A value's cells as an array, without running the script's code; None where it has none."""
    if type(value) is int and abs(value) < 2**63:
        return np.array(value)
    if isinstance(value, (np.ndarray, np.generic)):
        return np.asarray(value)
    pd = nonfinite.module("pandas")
    if pd is not None and isinstance(value, pd.Series) and isinstance(value.dtype, np.dtype):
        return value.to_numpy()
    pl = nonfinite.module("polars")
    if pl is not None and isinstance(value, pl.Series) and value.dtype.is_integer() and not value.null_count():
        return value.to_numpy()
    return None
