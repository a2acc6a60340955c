"""`out-of-range`: interpolation beyond its data, and counts of a histogram that leave some values out."""

from __future__ import annotations

import ast
from typing import Any

from ...values import nonfinite
from ..figures import seen, short
from ..finding import Place
from .base import Rule


class OutOfRange(Rule):
    NAME = "out-of-range"
    WANTS = ("call:interp", "call:histogram", "call:sum")

    def call(
        self, function: object, args: tuple[object, ...], named: dict[str, object], result: Any, site: int
    ) -> None:
        np = nonfinite.module("numpy")
        if np is None and seen(function, "__name__", "") != "sum":
            return
        place = self.auditor.place(site)
        if seen(function, "__name__", "") == "sum":
            self._short(args[0] if args and not isinstance(args[0], (int, float)) else seen(function, "__self__"), site)
            return
        if seen(function, "__name__", "") == "interp" and len(args) + len(named) >= 3:
            if {"left", "right", "period"} & set(named) or len(args) > 3:
                return
            x, xp = np.atleast_1d(np.asarray(args[0], dtype=float)), np.asarray(named.get("xp", args[1]), dtype=float)
            outside = (x < xp.min()) | (x > xp.max())
            if not outside.any() or self.auditor.has(self, site):
                return
            first = float(x[outside][0])
            end = float(xp.min() if first < xp.min() else xp.max())
            used = float(np.atleast_1d(np.asarray(result, dtype=float))[outside][0])
            self.auditor.report(
                self,
                site,
                f"{place.text} interpolates outside its data in {int(outside.sum())} of {x.size} places: "
                f"{short(first)} is "
                f"beyond {short(end)}, and the value at the end, {short(used)}, is used. Is that meant?",
                0.7,
                question=True,
                evidence={"x": first, "end": end, "used": used, "places": int(outside.sum()), "of": int(x.size)},
            )
        elif seen(function, "__name__", "") == "histogram" and args:
            given = np.asarray(args[0])
            count = (
                int(np.asarray(result[0]).sum())
                if not (named.get("density") or named.get("weights") is not None)
                else -1
            )
            if 0 <= count < given.size and not self.auditor.has(self, site):
                self.auditor.report(
                    self,
                    site,
                    f"{place.text} counts {count:,} of {given.size:,} values: the others are outside the bins. Is "
                    "that meant?",
                    0.6,
                    question=True,
                    evidence={"counted": count, "of": int(given.size)},
                )

    def _short(self, cells: Any, site: int) -> None:
        """`sum(x[i : i + n]) / n` where the slice has fewer than n elements, since the end of x is reached."""
        place = self.auditor.place(site)
        kept = place.kept.setdefault(self.NAME, {})
        if "width" not in kept:
            kept["width"] = _width(place)
        width = kept["width"]
        if width is None or not hasattr(type(cells), "__len__"):
            return
        number = width.value if isinstance(width, ast.Constant) else self.auditor.value_of(width.id)
        count = len(cells)
        if type(number) is not int or not 0 < count < number or self.auditor.has(self, site):
            return
        self.auditor.report(
            self,
            site,
            f"{place.text} has {count} of {number} elements, since the slice ends at the end of its data, and is "
            f"divided by {number}: the mean is too small.",
            0.8,
            evidence={"elements": count, "divided by": number},
            right=f"divided by {count}",
        )


def _width(place: Place) -> ast.Name | ast.Constant | None:
    """What a sum of a slice is divided by, where the slice has that width: `x[a : a + n]`."""
    call, outer = place.node, next(iter(place.around), None)
    if not isinstance(call, ast.Call) or not isinstance(outer, ast.BinOp) or not isinstance(outer.op, ast.Div):
        return None
    given = call.args[0] if call.args else call.func.value if isinstance(call.func, ast.Attribute) else None
    if outer.left is not call or not isinstance(given, ast.Subscript) or not isinstance(given.slice, ast.Slice):
        return None
    lower, upper, width = given.slice.lower, given.slice.upper, outer.right
    if not isinstance(width, (ast.Name, ast.Constant)) or upper is None:
        return None
    words = {ast.unparse(n) for end in (lower, upper) if end is not None for n in ast.walk(end)}
    return width if ast.unparse(width) in words else None
