"""`narrowing`: a large integer changed when it became a float that is too narrow for it."""

from __future__ import annotations

from typing import Any

from ...values import nonfinite
from ..figures import full, many, seen
from .base import Rule

LIMIT = {"float16": 2**11, "float32": 2**24, "float64": 2**53}


class Narrowing(Rule):
    NAME = "narrowing"
    WANTS = ("call:astype", "call:float", "call:float32", "call:float64", "call:asarray", "call:array")

    def call(
        self, function: Any, args: tuple[Any, ...], named: dict[str, Any], result: Any, site: int, kept: Any
    ) -> None:
        np = nonfinite.module("numpy")
        if np is None:
            if function is float and args and type(args[0]) is int and int(result) != args[0]:
                self._tell(args[0], result, "float64", 1, 0, site)
            return
        given = seen(function, "__self__", None) if seen(function, "__name__", "") == "astype" else None
        given = given if given is not None else args[0] if args else None
        kind = str(seen(result, "dtype", "float64" if type(result) is float else ""))
        if kind not in LIMIT:
            return
        before = (
            np.asarray(given) if isinstance(given, (np.ndarray, np.generic, int)) or nonfinite.is_frame(given) else None
        )
        if before is None or type(given) is bool:
            return
        if before.dtype.kind == "f" and before.dtype.itemsize > np.dtype(kind).itemsize:
            whole = np.isfinite(before) & (before == np.trunc(before)) & (np.abs(before) >= LIMIT[kind])
            changed = whole & (np.asarray(result).astype(before.dtype) != before)
        elif before.dtype.kind in "iu":
            after = np.asarray(result)
            large = np.abs(before.astype(float)) >= LIMIT[kind]
            if not large.any():
                return
            back = np.array([int(v) for v in after.ravel().tolist()], dtype=object).reshape(before.shape)
            changed = large & (back != before.astype(object)).astype(bool)
        else:
            return
        if not changed.any() or self.auditor.has(self, site):
            return
        first = before[changed].ravel()[0]
        then = np.asarray(result)[changed].ravel()[0]
        lost = len(np.unique(before)) - len(np.unique(np.asarray(result)))
        self._tell(first, then, kind, int(changed.sum()), lost, site)

    def _tell(self, first: Any, then: Any, kind: str, cells: int, lost: int, site: int) -> None:
        place = self.auditor.place(site)
        collide = f" {many(lost, 'distinct value')} became equal to another." if lost else ""
        self.auditor.report(
            self,
            site,
            f"{place.text} changes {'a large integer' if cells == 1 else f'{cells} large integers'}: "
            f"{full(first)} becomes {int(then)} in {kind}, which holds integers up to {LIMIT[kind]:,} "
            f"exactly.{collide}",
            0.85 if lost else 0.7,
            evidence={"given": full(first), "stored": str(int(then)), "dtype": kind, "cells": cells, "collide": lost},
            right=full(first),
        )
