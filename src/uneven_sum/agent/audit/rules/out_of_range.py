"""`out-of-range`: interpolation beyond its data, and counts of a histogram that leave some values out."""

from __future__ import annotations

from typing import Any

from ...values import nonfinite
from ..figures import seen, short
from .base import Rule


class OutOfRange(Rule):
    NAME = "out-of-range"
    WANTS = ("call:interp", "call:histogram")

    def call(
        self, function: Any, args: tuple[Any, ...], named: dict[str, Any], result: Any, site: int, kept: Any
    ) -> None:
        np = nonfinite.module("numpy")
        if np is None:
            return
        place = self.auditor.place(site)
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
