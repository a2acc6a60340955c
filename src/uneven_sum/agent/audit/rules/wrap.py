"""`wrap`: an integer of fixed width left its range and wrapped around."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from ...values import nonfinite
from ..figures import full, many, seen
from .base import Rule

EXACT: dict[str, Callable[[int, int], int]] = {
    "add": lambda a, b: a + b,
    "sub": lambda a, b: a - b,
    "mul": lambda a, b: a * b,
    "pow": lambda a, b: a**b if 0 <= b <= 4096 else 0,
}
SIGNS = {"add": "+", "sub": "−", "mul": "×", "pow": "to the power of"}
REDUCES = ("sum", "prod", "cumsum", "cumprod", "dot")
WIDER = ("int64", "float64")


class Wrap(Rule):
    """Bounds of the result from those of the operands; only where these leave the dtype are the cells looked at.

    Unsigned products and sums are exempt (hashes, checksums); an unsigned difference counts in the upper half only.
    """

    NAME = "wrap"
    WANTS = (*EXACT, *(f"call:{name}" for name in (*REDUCES, "abs", "absolute", "negative")))

    def operator(self, name: str, a: object, b: object, result: object, site: int) -> None:
        np = nonfinite.module("numpy")
        if np is None:
            return
        told = _cells(np, result)
        if told is None or told.dtype.kind not in "iu" or not told.size:
            return
        left, right = _cells(np, a), _cells(np, b)
        if left is None or right is None or left.dtype.kind not in "iub" or right.dtype.kind not in "iub":
            return
        unsigned = told.dtype.kind == "u"
        if unsigned and name != "sub":
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
        floats = {"add": np.add, "sub": np.subtract, "mul": np.multiply, "pow": np.float_power}[name]
        near = floats(wide.astype(float), other.astype(float))
        half = float(info.max) / 2
        outside = (near > float(info.max) * (1 + 1e-9)) | (near < float(info.min) * (1 + 1e-9) - 0.5)
        if unsigned:
            outside = (near < -0.5) & (told.astype(float) > half)
        places = np.argwhere(outside)
        if not len(places) or self.auditor.has(self, site):
            return
        cell = tuple(int(i) for i in places[0])
        x, y = int(wide[cell]), int(other[cell])
        self._tell(site, name, x, y, exact(x, y), told[cell], told.dtype, list(cell), len(places))

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
            evidence={"exact": str(exact), "stored": full(stored), "dtype": str(dtype), "cells": cells},
            right=str(exact),
            cell=cell or None,
            operands=list(zip(place.operand_texts(), (full(x), full(y)))),
        )

    def call(
        self, function: object, args: tuple[Any, ...], named: dict[str, Any], result: object, site: int, kept: object
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
            if cells.dtype.kind == "i" and int(cells.min()) == int(info.min) and not self.auditor.has(self, site):
                self._told_call(site, name, -int(info.min), int(info.min), told.dtype)
            return
        if told.dtype.kind == "u" and name != "sum":
            return
        axis = named.get("axis", args[1] if len(args) > 1 and name != "dot" else None)
        if name == "dot":
            if len(values) < 2:
                return
            other = _cells(np, values[1])
            near, stored = np.dot(cells.astype(float), other.astype(float)), told
        else:
            near, stored = getattr(np, name)(cells.astype(float), axis=axis), told
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


def _cells(np: Any, value: Any) -> Any:
    """A value's cells as an array, without running the script's code; None where it has none."""
    if type(value) is int and abs(value) < 2**63:
        return np.array(value)
    if isinstance(value, (np.ndarray, np.generic)):
        return np.asarray(value)
    pd = nonfinite.module("pandas")
    if pd is not None and isinstance(value, pd.Series) and isinstance(value.dtype, np.dtype):
        return value.to_numpy()
    return None
