"""`narrowing`: a large integer changed when it became a float that is too narrow for it."""

from __future__ import annotations

import types
from typing import Any

from ...core.data_types import Array
from ...core.type_identity import is_one_of
from ...values import nonfinite
from .. import pictures
from ..figures import full, many, seen
from .base import Rule

LIMIT = {"float16": 2**11, "float32": 2**24, "float64": 2**53}


class Narrowing(Rule):
    NAME = "narrowing"
    WANTS = (
        *(f"call:{name}" for name in ("astype", "float", "float32", "float64", "asarray", "array")),
        *("store", "mul", "add", "sub", "truediv", "call:merge", "call:join", "call:reindex", "call:concat"),
    )

    def operator(self, name: str, a: object, b: object, result: object, site: int) -> None:
        """An array of large integers with a float: the integers become floats first."""
        np = nonfinite.module("numpy")
        if np is None or not is_one_of(type(b), float) or not isinstance(a, np.ndarray) or a.dtype.kind not in "iu":
            return
        if a.size and int(np.abs(a).max()) > LIMIT["float64"] and not self.auditor.has(self, site):
            self._changed(np, a, a.astype(float), "float64", site)

    def store(self, target: object, index: object, value: object, site: int) -> None:
        np = nonfinite.module("numpy")
        if np is None or not isinstance(target, np.ndarray) or str(target.dtype) not in LIMIT:
            return
        if type(value) is int and abs(value) > LIMIT[str(target.dtype)]:
            stored = target.dtype.type(value)
            if int(stored) != value and not self.auditor.has(self, site):
                self._tell(value, stored, str(target.dtype), 1, 0, site)
        elif isinstance(value, np.ndarray) and value.dtype.kind in "iu" and value.size:
            if not self.auditor.has(self, site):
                self._changed(np, value, value.astype(target.dtype), str(target.dtype), site)

    def _columns(self, pd: types.ModuleType, np: types.ModuleType, sources: list[Any], result: Any, site: int) -> None:
        """Integers that became floats since rows without a partner have missing values."""
        made = {result.name: result} if isinstance(result, pd.Series) else dict(result.items())
        for source in sources:
            for label, column in {source.name: source}.items() if isinstance(source, pd.Series) else source.items():
                after = made.get(label)
                if after is None or column.dtype.kind not in "iu" or after.dtype.kind != "f" or not len(column):
                    continue
                if int(column.abs().max()) > LIMIT["float64"] and not self.auditor.has(self, site):
                    cells = column.to_numpy()
                    self._changed(np, cells, cells.astype(float), "float64", site, f" in `{label}`")

    def _changed(self, np: types.ModuleType, before: Array, after: Any, kind: str, site: int, where: str = "") -> None:
        back = np.array([int(v) for v in after.ravel().tolist()], dtype=object).reshape(before.shape)
        changed = (back != before.astype(object)).astype(bool)
        if changed.any():
            lost = len(np.unique(before)) - len(np.unique(after))
            first, then = before[changed].ravel()[0], after[changed].ravel()[0]
            shown = pictures.cells(np, "cells that change", changed)
            self._tell(first, then, kind, int(changed.sum()), lost, site, where, shown)

    def call(
        self, function: object, args: tuple[object, ...], named: dict[str, object], result: Any, site: int
    ) -> None:
        np = nonfinite.module("numpy")
        if np is None:
            if function is float and args and type(args[0]) is int and int(result) != args[0]:
                self._tell(args[0], result, "float64", 1, 0, site)
            return
        if args and isinstance(args[0], (float, np.floating)):
            return  # a measurement: only whole numbers that count or name something matter
        pd, name = nonfinite.module("pandas"), seen(function, "__name__", "")
        if name in ("merge", "join", "reindex", "concat"):
            if pd is not None and isinstance(result, (pd.DataFrame, pd.Series)):
                near = [seen(function, "__self__", None), *args, named.get("right")]
                near += [v for a in args if isinstance(a, (list, tuple)) for v in a]
                self._columns(pd, np, [v for v in near if isinstance(v, (pd.DataFrame, pd.Series))], result, site)
            return
        if name in ("array", "asarray") and args and isinstance(args[0], (list, tuple)):
            large = [v for v in args[0][:100_000] if type(v) is int and abs(v) > LIMIT["float64"]]
            wrong = [
                v for v in large if isinstance(result, np.ndarray) and result.dtype.kind == "f" and int(float(v)) != v
            ]
            if wrong and not self.auditor.has(self, site):
                self._tell(wrong[0], float(wrong[0]), "float64", len(wrong), 0, site)
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
        shown = pictures.cells(np, "cells that change", changed)
        self._tell(first, then, kind, int(changed.sum()), lost, site, shown=shown)

    def _tell(
        self,
        first: object,
        then: Any,
        kind: str,
        cells: int,
        lost: int,
        site: int,
        where: str = "",
        shown: list[dict[str, object]] | None = None,
    ) -> None:
        place = self.auditor.place(site)
        collide = f" {many(lost, 'distinct value')} became equal to another." if lost else ""
        self.auditor.report(
            self,
            site,
            f"{place.text} changes {'a large integer' if cells == 1 else f'{cells} large integers'}{where}: "
            f"{full(first)} becomes {int(then)} in {kind}, which holds integers up to {LIMIT[kind]:,} "
            f"exactly.{collide}",
            0.85 if lost else 0.7,
            evidence={"given": full(first), "stored": str(int(then)), "dtype": kind, "cells": cells, "collide": lost},
            right=full(first),
            pictures=shown or [],
        )
