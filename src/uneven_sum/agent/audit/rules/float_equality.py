"""`float-equality`: two floats that differ in their last digits only are compared, and count as different."""

from __future__ import annotations

import math
from typing import Any

from ...core.type_identity import is_one_of
from ...values import nonfinite
from ..figures import full, seen
from .base import Rule

ULPS = 8


class FloatEquality(Rule):
    """Exempt where the place becomes equal later: there the comparison does what it should."""

    NAME = "float-equality"
    WANTS = ("eq", "ne", "call:arange", "call:isin")
    SCALARS = True

    def scalars(self, name: str, a: Any, b: Any, result: Any, site: int) -> None:
        if a == b:
            if type(a) is float or type(b) is float:
                self.auditor.place(site).kept["equal"] = True
                self.auditor.drop(self, site)
        elif (type(a) is float or type(b) is float) and abs(a - b) <= ULPS * math.ulp(max(abs(a), abs(b))):
            place = self.auditor.place(site)
            if place.kept.get("equal") or self.auditor.has(self, site):
                return
            self._tell(a, b, 1, site)

    def operator(self, name: str, a: object, b: object, result: object, site: int) -> None:
        np = nonfinite.module("numpy")
        if np is None:
            return
        left, right = _floats(np, a), _floats(np, b)
        if left is None or right is None or (left.dtype.kind != "f" and right.dtype.kind != "f"):
            return
        try:
            left, right = np.broadcast_arrays(left, right)
        except ValueError:
            return
        near = (left != right) & (np.abs(left - right) <= ULPS * np.spacing(np.maximum(np.abs(left), np.abs(right))))
        if not near.any() or self.auditor.has(self, site):
            return
        cell = tuple(int(i) for i in np.argwhere(near)[0])
        self._tell(left[cell].item(), right[cell].item(), int(near.sum()), site)

    def _tell(self, a: object, b: object, cells: int, site: int) -> None:
        place = self.auditor.place(site)
        where = f" in {cells} cells" if cells > 1 else ""
        self.auditor.report(
            self,
            site,
            f"{place.text} compares floats that differ in their last digits only{where}: {full(a)} and {full(b)}. "
            "math.isclose, or integers, say what is meant.",
            0.8,
            evidence={"left": full(a), "right": full(b), "cells": cells},
            right="equal",
            operands=list(zip(place.operand_texts(), (full(a), full(b)))),
        )

    def call(
        self, function: Any, args: tuple[Any, ...], named: dict[str, Any], result: Any, site: int, kept: Any
    ) -> None:
        np = nonfinite.module("numpy")
        if np is None or seen(function, "__name__", "") != "arange" or len(args) < 3:
            return
        start, stop, step = (float(v) for v in args[:3])
        if all(float(v).is_integer() for v in (start, stop, step)) or not step:
            return
        passes = (stop - start) / step
        if abs(passes - round(passes)) < 1e-6 and len(result) > round(passes) and not self.auditor.has(self, site):
            place = self.auditor.place(site)
            self.auditor.report(
                self,
                site,
                f"{place.text} has {len(result)} elements, and the last is {full(result[-1])}: the end, which "
                "arange leaves "
                f"out, came in by rounding. linspace says how many.",
                0.8,
                evidence={"elements": len(result), "last": full(result[-1])},
                right=f"{round(passes)} elements",
            )


def _floats(np: Any, value: Any) -> Any:
    if is_one_of(type(value), float, int):
        return np.asarray(value)
    if isinstance(value, (np.ndarray, np.generic)) and value.dtype.kind in "fi":
        return np.asarray(value)
    pd = nonfinite.module("pandas")
    if pd is not None and isinstance(value, pd.Series) and value.dtype.kind in "fi":
        return value.to_numpy()
    return None
