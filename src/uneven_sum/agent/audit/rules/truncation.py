"""`truncation`: a fraction is cut off where an integer is stored, or just below the next integer."""

from __future__ import annotations

import ast
import math
import types
from typing import Any

from ...core.data_types import Array
from ...values import nonfinite
from .. import pictures
from ..figures import full, seen
from ..finding import Place
from .base import Rule

NEAR = 1e-9


class Truncation(Rule):
    """A store of a fraction into an integer array, and `int`, `astype(int)` of a value just below an integer."""

    NAME = "truncation"
    WANTS = ("store", "floordiv", *(f"call:{name}" for name in ("int", "astype", "floor", "trunc", "fill", "linspace")))
    SCALARS = True
    SCREEN = "floats"

    def scalars(self, name: str, a: object, b: Any, result: object, site: int) -> None:
        """`1.0 // 0.1` is 9.0: the quotient is 10 within rounding."""
        if type(result) is not float or not b or not math.isfinite(result) or abs(result) > 1e9:
            return
        quotient = a / b
        near = round(quotient)
        if near - result == 1.0 and abs(quotient - near) < NEAR and not self.auditor.has(self, site):
            place = self.auditor.place(site)
            self.auditor.report(
                self,
                site,
                f"{place.text} is {full(result)}, though {full(a)} / {full(b)} is {full(quotient)}: the divisor is "
                f"stored with a rounding error. Is {near} meant? round({place.text.replace('//', '/')}) gives it.",
                0.8,
                evidence={"quotient": full(quotient), "cut": full(result), "nearest": str(near)},
                right=str(near),
                operands=list(zip(place.operand_texts(), (full(a), full(b)))),
            )

    def store(self, target: object, index: object, value: object, site: int) -> None:
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
            f"{_stored_into(place)} stores integers ({target.dtype}): {what} becomes {int(first)}. "
            f"{'Is that meant?' if target.dtype.itemsize == 1 else 'An array of float64 would keep it.'}",
            0.9,
            question=target.dtype.itemsize == 1,  # pixels are stored so
            evidence={"given": full(first), "stored": str(int(first)), "dtype": str(target.dtype), "cells": count},
            right=full(first),
            pictures=pictures.cells(np, "cells that lose a fraction", cut),
        )

    def call(
        self, function: object, args: tuple[object, ...], named: dict[str, object], result: object, site: int
    ) -> None:
        np = nonfinite.module("numpy")
        name = seen(function, "__name__", "")
        if (function is int and len(args) == 1 and type(args[0]) is float) or (
            name in ("floor", "trunc") and args and type(args[0]) is float
        ):
            self._near(args[0], site)
        elif name == "fill" and np is not None and args:
            self.store(seen(function, "__self__", None), None, args[0], site)
        elif name == "linspace" and np is not None and seen(seen(result, "dtype"), "kind", "") in ("i", "u"):
            self._steps(np, args, result, site)
        elif name in ("floor", "trunc") and np is not None and isinstance(args[0] if args else None, np.ndarray):
            self._below(np, np.asarray(args[0]), site)
        elif name == "astype" and np is not None:
            given = seen(function, "__self__", None)
            told = seen(result, "dtype", None)
            if seen(told, "kind", "") not in ("i", "u") or seen(seen(given, "dtype", None), "kind", "") != "f":
                return
            self._below(np, np.asarray(given), site)

    def _below(self, np: types.ModuleType, cells: Array, site: int) -> None:
        if cells.dtype.kind != "f":
            return
        up = np.ceil(cells)
        with np.errstate(all="ignore"):
            below = (up - cells > 0) & (up - cells < NEAR * np.maximum(1.0, np.abs(cells)))
        if below.any() and not self.auditor.has(self, site):
            shown = pictures.cells(np, "cells that are cut", below)
            self._tell(float(cells[below].ravel()[0]), int(below.sum()), site, shown)

    def _steps(self, np: types.ModuleType, args: tuple[Any, ...], result: Any, site: int) -> None:
        """`linspace` with an integer dtype cuts its steps."""
        if len(args) < 2 or len(result) < 2 or np.ndim(args[0]) or np.ndim(args[1]):
            return
        right = np.linspace(float(args[0]), float(args[1]), len(result))
        cut = right != result
        if cut.any() and not self.auditor.has(self, site):
            place, first = self.auditor.place(site), right[cut][0]
            self.auditor.report(
                self,
                site,
                f"{place.text} stores integers: {int(cut.sum())} of {len(result)} values lose their fraction, "
                f"the first {full(first)}. Without dtype it keeps them.",
                0.75,
                evidence={"given": full(first), "cells": int(cut.sum())},
                right=full(first),
            )

    def _near(self, value: float, site: int) -> None:
        if not math.isfinite(value):
            return
        up = math.ceil(value) if value > 0 else math.floor(value)
        gap = abs(up - value)
        if 0 < gap < NEAR * max(1.0, abs(value)) and not self.auditor.has(self, site):
            self._tell(value, 1, site)

    def _tell(self, value: float, cells: int, site: int, shown: list[dict[str, object]] | None = None) -> None:
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
            pictures=shown or [],
            fix=place.with_term("round" + place.text[3:]) if place.text.startswith("int(") else None,
        )


def _stored_into(place: Place) -> str:
    """`x[i]`, or `x` of `x.fill(…)`."""
    node = place.node
    if isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute):
        return place.text_of(node.func.value)
    return place.text
