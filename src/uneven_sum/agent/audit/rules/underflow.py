"""`underflow`: a product or power of numbers that are not 0 is 0, or too small to keep its digits."""

from __future__ import annotations

import math
import sys
import types
from typing import Any

from ...core.type_identity import is_one_of
from ...values import nonfinite
from ..figures import full, many, seen
from .base import Rule

TINY = sys.float_info.min
FARTHEST = 1e9  # powers of ten: what is smaller is 0 by its meaning, as a density at the end of an axis


class Underflow(Rule):
    NAME = "underflow"
    TAKES = frozenset({"float", "array"})
    WANTS = ("mul", "pow", "call:prod", "call:cumprod", "call:exp")
    SCALARS = True

    def scalars(self, name: str, a: object, b: object, result: Any, site: int) -> None:
        if -TINY < result < TINY and a and b and type(result) is float and (name == "mul" or a not in (0, 1)):
            if not self.auditor.has(self, site):
                self._scalar(name, a, b, result, site)

    def _scalar(self, name: str, a: Any, b: Any, result: object, site: int) -> None:
        power = math.log10(abs(a)) + math.log10(abs(b)) if name == "mul" else b * math.log10(abs(a))
        if power < -FARTHEST:
            return
        place = self.auditor.place(site)
        what = "is stored as 0" if result == 0 else f"is stored as {full(result)}, without most of its digits"
        self.auditor.report(
            self,
            site,
            f"{place.text} underflows: the true result is about 1e{power:.0f} and {what}. A sum of logarithms "
            "keeps it.",
            0.7 if result == 0 else 0.5,
            evidence={"log10": round(power, 3), "stored": full(result)},
            right=f"1e{power:.1f}",
            operands=list(zip(place.operand_texts(), (full(a), full(b)))),
        )

    def _exponential(self, np: types.ModuleType, given: Any, result: object, site: int) -> None:
        """`exp` of a number below -745 is 0."""
        x = given if is_one_of(type(given), float, int) else None
        if x is None and np is not None and isinstance(given, (np.ndarray, np.floating)):
            low = np.asarray(given)[(np.asarray(result) == 0) & np.isfinite(np.asarray(given))]
            # a few cells that vanish beside others are how weights and densities look
            x = float(low.ravel()[0]) if low.size and 2 * low.size >= np.size(given) else None
        if x is None or x != x or x == -math.inf or not -FARTHEST < x <= -745 or self.auditor.has(self, site):
            return
        place = self.auditor.place(site)
        power = x / math.log(10)
        self.auditor.report(
            self,
            site,
            f"{place.text} is stored as 0: the true value is about 1e{power:.0f}. Is the logarithm itself enough?",
            0.5,
            question=True,
            evidence={"argument": full(x), "log10": round(power, 3)},
            right=f"1e{power:.1f}",
        )

    def operator(self, name: str, a: object, b: object, result: object, site: int) -> None:
        np = nonfinite.module("numpy")
        if np is None or not isinstance(result, (np.ndarray, np.generic)) or result.dtype.kind != "f":
            return
        if np.asarray(result).all():
            return
        zero = np.asarray(result) == 0
        left, right, zero = np.broadcast_arrays(np.asarray(a), np.asarray(b), zero)
        lost = zero & (left != 0) & ((right != 0) if name == "mul" else np.isfinite(right))
        if name == "mul":
            with np.errstate(all="ignore"):
                lost &= np.isfinite(left.astype(float)) & np.isfinite(right.astype(float))
        if not lost.any() or self.auditor.has(self, site):
            return
        cell = tuple(int(i) for i in np.argwhere(lost)[0])
        x, y = float(left[cell]), float(right[cell])
        power = math.log10(abs(x)) + math.log10(abs(y)) if name == "mul" else y * math.log10(abs(x))
        if power < -FARTHEST:
            return
        place = self.auditor.place(site)
        self.auditor.report(
            self,
            site,
            f"{place.text} underflows to 0 in {many(int(lost.sum()), 'cell')}, the first at {list(cell)}: "
            f"the true value is about 1e{power:.0f}. A sum of logarithms keeps it.",
            0.5,
            evidence={"log10": round(power, 3), "cells": int(lost.sum())},
            right=f"1e{power:.1f}",
            cell=list(cell) or None,
            operands=list(zip(place.operand_texts(), (full(x), full(y)))),
        )

    def call(self, function: object, args: tuple[Any, ...], named: dict[str, object], result: Any, site: int) -> None:
        np = nonfinite.module("numpy")
        if seen(function, "__name__", "") == "exp":
            self._exponential(np, args[0] if args else None, result, site)
            return
        owner = seen(function, "__self__", None)
        given = owner if owner is not None and not isinstance(owner, types.ModuleType) else args[0] if args else None
        if not isinstance(result, (float, int)) and seen(result, "ndim", 1) != 0:
            return
        values = [
            float(v) for v in (np.asarray(given).ravel().tolist() if np is not None else list(given or ()))[:100_000]
        ]
        if float(result) != 0 or not values or 0.0 in values or self.auditor.has(self, site):
            return
        power = sum(math.log10(abs(v)) for v in values)
        place = self.auditor.place(site)
        self.auditor.report(
            self,
            site,
            f"{place.text} underflows: the product of {len(values)} numbers is about 1e{power:.0f}, and is stored "
            "as 0. "
            "A sum of logarithms keeps it.",
            0.75,
            evidence={"log10": round(power, 3), "numbers": len(values)},
            right=f"1e{power:.1f}",
        )
