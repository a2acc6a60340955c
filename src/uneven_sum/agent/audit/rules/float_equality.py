"""`float-equality`: two floats that differ in their last digits only are compared, and count as different."""

from __future__ import annotations

import ast
import itertools
import math
import types
from typing import Any

from ...core.data_types import Array
from ...core.type_identity import is_one_of
from ...values import nonfinite
from ..figures import full, seen
from ..finding import Place
from .base import Rule

ULPS = 8


class FloatEquality(Rule):
    """Exempt where the place becomes equal later: there the comparison does what it should."""

    NAME = "float-equality"
    AT_ONCE = False
    TAKES = frozenset({"float", "array", "frame"})
    WANTS = (
        *("eq", "ne", "lt", "le", "gt", "ge", "in"),
        *(f"call:{name}" for name in ("arange", "isin", "get", "index", "count", "set", "unique")),
    )
    SCALARS = True

    def scalars(self, name: str, a: Any, b: Any, result: object, site: int) -> None:
        if a != a or b != b:
            return
        if a == b:
            if type(a) is float or type(b) is float:
                self.auditor.place(site).kept["equal"] = True
                self.auditor.drop(self, site)
        elif (type(a) is float or type(b) is float) and abs(a - b) <= ULPS * math.ulp(max(abs(a), abs(b))):
            place = self.auditor.place(site)
            if place.kept.get("equal") or self.auditor.has(self, site):
                return
            if name in ("lt", "le", "gt", "ge") and not self._by_rounding(place, a, b):
                return
            self._tell(a, b, 1, site)

    @staticmethod
    def _by_rounding(place: Place, a: float, b: float) -> bool:
        """Whether an order was decided by rounding: a running sum misses a round number."""
        short = [v for v in (a, b) if len(repr(float(v))) <= 8]
        node = place.node
        if len(short) != 1 or not isinstance(node, ast.Compare):
            return False
        other = node.left if short[0] == b else node.comparators[0]
        return isinstance(other, (ast.Name, ast.Attribute)) and _is_summed(place.scope, ast.unparse(other))

    def operator(self, name: str, a: object, b: object, result: object, site: int) -> None:
        np = nonfinite.module("numpy")
        if name == "in":
            if not result:
                self._among(a, b, site)
            return
        if np is None or name in ("lt", "le", "gt", "ge"):
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
            fix=_with_isclose(place) if cells == 1 else None,
            operands=list(zip(place.operand_texts(), (full(a), full(b)))),
        )

    def _among(self, value: Any, others: Any, site: int) -> None:
        """A float that is not among others, though one of them differs in its last digits only."""
        if not is_one_of(type(value), float) or value != value or self.auditor.has(self, site):
            return
        np = nonfinite.module("numpy")
        if np is not None and isinstance(others, np.ndarray):
            others = others.ravel()[:100_000].tolist()
        if not is_one_of(type(others), list, tuple, set, frozenset, dict):
            return
        for other in itertools.islice(others, 100_000):
            if is_one_of(type(other), float, int) and other != value and math.isfinite(other):
                if abs(other - value) <= ULPS * math.ulp(max(abs(other), abs(value))):
                    place = self.auditor.place(site)
                    self.auditor.report(
                        self,
                        site,
                        f"{place.text} does not find {full(value)}, though {full(other)} is there: they differ in "
                        "their last digits only. math.isclose, or keys that are integers, find it.",
                        0.85,
                        evidence={"value": full(value), "near": full(other)},
                        right=f"{full(other)} is found",
                    )
                    return

    def _distinct(self, np: types.ModuleType, result: Array, site: int) -> None:
        """Distinct floats of which some differ in their last digits only."""
        if np is not None and isinstance(result, np.ndarray) and result.dtype.kind == "f":
            result = result.ravel()[:100_000].tolist()
        if not is_one_of(type(result), set, list) or not 2 <= len(result) <= 100_000:
            return
        values = sorted(v for v in result if is_one_of(type(v), float) and math.isfinite(v))
        near = [(a, b) for a, b in itertools.pairwise(values) if b - a <= ULPS * math.ulp(max(abs(a), abs(b)))]
        if near and not self.auditor.has(self, site):
            place = self.auditor.place(site)
            self.auditor.report(
                self,
                site,
                f"{place.text} counts {full(near[0][0])} and {full(near[0][1])} as two values: they differ in their "
                "last digits only. round() first makes them one.",
                0.75,
                evidence={"left": full(near[0][0]), "right": full(near[0][1]), "pairs": len(near)},
                right=f"{len(values) - len(near)} values",
            )

    def call(self, function: object, args: tuple[Any, ...], named: dict[str, object], result: Any, site: int) -> None:
        np, name = nonfinite.module("numpy"), seen(function, "__name__", "")
        owner = seen(function, "__self__", None)
        if (name == "get" and is_one_of(type(owner), dict) and args and args[0] not in owner) or (
            name in ("index", "count") and is_one_of(type(owner), list, tuple) and args and not result
        ):
            self._among(args[0], owner, site)
        elif name == "unique" or function is set:
            self._distinct(np, result, site)
        if np is None or not args:
            return
        if name == "isin":
            given = [v for v in np.atleast_1d(np.asarray(args[0])).ravel()[:1000].tolist()]
            hits = np.atleast_1d(np.asarray(result)).ravel()[:1000].tolist()
            for value, hit in zip(given, hits):
                if not hit and len(args) > 1:
                    self._among(value, np.asarray(args[1]).ravel()[:100_000].tolist(), site)
        if name != "arange" or len(args) < 3:
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


def _floats(np: types.ModuleType, value: object) -> Any:
    if is_one_of(type(value), float, int):
        return np.asarray(value)
    if isinstance(value, (np.ndarray, np.generic)) and value.dtype.kind in "fi":
        return np.asarray(value)
    pd = nonfinite.module("pandas")
    if pd is not None and isinstance(value, pd.Series) and value.dtype.kind in "fi":
        return value.to_numpy()
    return None


def _is_summed(scope: ast.AST, name: str) -> bool:
    """Whether a name is a running sum: `t += dt`, `t = t + dt`."""
    for node in ast.walk(scope):
        if isinstance(node, ast.AugAssign) and isinstance(node.op, (ast.Add, ast.Sub)):
            if ast.unparse(node.target) == name:
                return True
        if (
            isinstance(node, ast.Assign)
            and isinstance(node.value, ast.BinOp)
            and isinstance(node.value.op, (ast.Add, ast.Sub))
        ):
            if ast.unparse(node.targets[0]) == name == ast.unparse(node.value.left):
                return True
    return False


def _with_isclose(place: Place) -> str | None:
    """The statement with `math.isclose` in the place of `==` or `!=`."""
    node = place.node
    if not isinstance(node, ast.Compare) or not isinstance(node.ops[0], (ast.Eq, ast.NotEq)):
        return None
    negated = "not " if isinstance(node.ops[0], ast.NotEq) else ""
    return place.with_term(f"{negated}math.isclose({', '.join(place.operand_texts())})")
