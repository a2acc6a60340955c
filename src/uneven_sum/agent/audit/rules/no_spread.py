"""`no-spread`: the standard deviation of equal values, which is rounding instead of 0."""

from __future__ import annotations

import ast
import types
from collections.abc import Callable

from ...core.data_types import Array
from ...values import nonfinite
from ..figures import full, many, seen, short
from ..finding import Place
from .base import Rule

SPREADS = ("std", "var", "nanstd", "nanvar")
TESTS = ("isclose", "allclose", "maximum", "fmax", "max", "clip")


class NoSpread(Rule):
    """Confirmed by the smallest and the largest of the values, which are the same number.

    Their mean is often off by the last digit, and so is what is left of each value: about 1e-16 of it.  Where values
    are standardised, that rounding becomes 1 or -1, and a check for 0 does not see it.

    Exempt: a spread that is compared with a tolerance, has one added, or is kept above one.
    """

    NAME = "no-spread"
    WANTS = tuple(f"call:{name}" for name in SPREADS)

    def call(
        self, function: object, args: tuple[object, ...], named: dict[str, object], result: object, site: int
    ) -> None:
        np, pd = nonfinite.module("numpy"), nonfinite.module("pandas")
        owner = seen(function, "__self__", None)
        if np is None or "where" in named or "out" in named:
            return
        if isinstance(owner, np.ndarray) or (pd is not None and isinstance(owner, (pd.Series, pd.DataFrame))):
            given, rest = owner, args
        elif args and not isinstance(owner, types.ModuleType) and owner is not None:
            return  # a rolling window or a group: pandas looks for equal values there itself
        elif args:
            given, rest = args[0], args[1:]
        else:
            return
        axis = named.get("axis", rest[0] if rest else 0 if pd is not None and isinstance(given, pd.DataFrame) else None)
        labels = seen(result, "index", None) if pd is not None and isinstance(result, pd.Series) else None
        if pd is not None and isinstance(given, pd.DataFrame):
            if axis not in (0, "index") or labels is None:
                return
            given, axis = given[labels], 0
        cells = np.asarray(given)
        if cells.dtype.kind != "f" or not cells.size or not (axis is None or isinstance(axis, int)):
            return
        self._judge(np, cells, axis, np.asarray(result), labels, site)

    def _judge(
        self, np: types.ModuleType, cells: Array, axis: int | None, spread: Array, labels: object, site: int
    ) -> None:
        low, high = np.fmin.reduce(cells, axis=axis), np.fmax.reduce(cells, axis=axis)
        if np.shape(low) != spread.shape:  # `keepdims`
            spread = spread.reshape(np.shape(low)) if np.size(low) == spread.size else np.zeros(np.shape(low))
        at = np.flatnonzero((low == high) & (spread > 0))
        if not at.size or self.auditor.has(self, site):
            return
        place = self.auditor.place(site)
        if _is_kept_apart(place):
            return
        first = int(at[0])
        value, left = np.ravel(low)[first], np.ravel(spread)[first]
        where, cell = "", None
        if np.ndim(low):
            cell = [int(i) for i in np.unravel_index(first, np.shape(low))]
            name = f"[{', '.join(map(str, cell))}]" if labels is None else repr(labels[first])  # type: ignore[index]
            where = f" at {name}"
            where += f" and in {many(int(at.size) - 1, 'other cell')}" if at.size > 1 else ""
        count = cells.size // max(1, int(np.size(low)))
        self.auditor.report(
            self,
            site,
            f"{place.text} is not 0 for equal values: all {count:,} are {short(value)}, and it gives {left:.3g}{where},"
            " which is rounding. What is divided by it has no meaning.",
            0.8,
            evidence={"value": full(value), "values": count, "stored": full(left), "cells": int(at.size)},
            right="0.0",
            cell=cell,
        )


def _is_kept_apart(place: Place) -> bool:
    """Whether the code around expects a spread that is nearly 0."""
    statement = next((outer for outer in place.around if isinstance(outer, ast.stmt)), None)
    targets = statement.targets if isinstance(statement, ast.Assign) else []
    names = {n.id for t in targets for n in ast.walk(t) if isinstance(n, ast.Name)}

    def is_spread(node: ast.AST) -> bool:
        return any(n is place.node or (isinstance(n, ast.Name) and n.id in names) for n in ast.walk(node))

    for node in ast.walk(place.scope):
        if isinstance(node, ast.Compare) and is_spread(node):
            if not all(isinstance(side, ast.Constant) and side.value == 0 for side in _others(node, is_spread)):
                return True
        elif isinstance(node, ast.BinOp) and isinstance(node.op, ast.Add):
            if is_spread(node.left) != is_spread(node.right):
                return True
        elif isinstance(node, ast.Call):
            name = getattr(node.func, "attr", getattr(node.func, "id", ""))
            if name in TESTS and any(is_spread(one) for one in (*node.args, *([node.func] * (name == "clip")))):
                return True
    return False


def _others(node: ast.Compare, is_spread: Callable[[ast.AST], bool]) -> list[ast.expr]:
    return [side for side in (node.left, *node.comparators) if not is_spread(side)]
