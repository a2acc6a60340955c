"""`truncation`: a fraction is cut off where an integer is stored, or just below the next integer."""

from __future__ import annotations

import math
from typing import Any

from ...values import nonfinite
from ..figures import full, seen
from .base import Rule

NEAR = 1e-9


class Truncation(Rule):
    """A store of a fraction into an integer array, and `int`, `astype(int)` of a value just below an integer."""

    NAME = "truncation"
    WANTS = ("store", "call:int", "call:astype", "call:floor", "call:trunc")

    def store(self, target: object, index: object, value: object, site: int, kept: object) -> None:
        np = nonfinite.module("numpy")
        if np is None or not isinstance(target, np.ndarray) or target.dtype.kind not in "iu":
            return
        given = np.asarray(value)
        if given.dtype.kind != "f" or not given.size:
            return
        cut = np.isfinite(given) & (given != np.trunc(given))
        if not cut.any() or self.auditor.has(self, site):
            return
        first = given[cut].ravel()[0]
        place = self.auditor.place(site)
        count = int(cut.sum())
        what = f"{count} values lose their fraction, the first {full(first)}" if count > 1 else f"{full(first)}"
        self.auditor.report(
            self,
            site,
            f"{place.text} stores integers ({target.dtype}): {what} becomes {int(first)}. "
            "An array of float64 would keep it.",
            0.9,
            evidence={"given": full(first), "stored": str(int(first)), "dtype": str(target.dtype), "cells": count},
            right=full(first),
        )

    def call(
        self, function: object, args: tuple[Any, ...], named: dict[str, Any], result: object, site: int, kept: object
    ) -> None:
        np = nonfinite.module("numpy")
        name = seen(function, "__name__", "")
        if (function is int and len(args) == 1 and type(args[0]) is float) or (
            name in ("floor", "trunc") and args and type(args[0]) is float
        ):
            self._near(args[0], site)
        elif name == "astype" and np is not None:
            given = seen(function, "__self__", None)
            told = seen(result, "dtype", None)
            if seen(told, "kind", "") not in ("i", "u") or seen(seen(given, "dtype", None), "kind", "") != "f":
                return
            cells = np.asarray(given)
            up = np.ceil(cells)
            with np.errstate(all="ignore"):
                below = (up - cells > 0) & (up - cells < NEAR * np.maximum(1.0, np.abs(cells)))
            if below.any() and not self.auditor.has(self, site):
                first = float(cells[below].ravel()[0])
                self._tell(first, int(below.sum()), site)

    def _near(self, value: float, site: int) -> None:
        if not math.isfinite(value):
            return
        up = math.ceil(value) if value > 0 else math.floor(value)
        gap = abs(up - value)
        if 0 < gap < NEAR * max(1.0, abs(value)) and not self.auditor.has(self, site):
            self._tell(value, 1, site)

    def _tell(self, value: float, cells: int, site: int) -> None:
        place = self.auditor.place(site)
        near = round(value)
        where = f" in {cells} cells" if cells > 1 else ""
        self.auditor.report(
            self,
            site,
            f"{place.text} cuts a value just below {near}{where}: {full(value)} becomes {math.trunc(value)}. "
            "round() first gives the integer that is meant.",
            0.85,
            evidence={"value": full(value), "cut": str(math.trunc(value)), "nearest": str(near), "cells": cells},
            right=str(near),
        )
