"""`ill-conditioned`: a linear system or fit whose solution has few digits that hold."""

from __future__ import annotations

import math
import types
from typing import Any

from ...core.data_types import Array
from ...values import nonfinite
from ..figures import seen
from .base import Rule

LIMIT = 1e10


class IllConditioned(Rule):
    """The condition in the 1-norm after rows and columns are equilibrated (Higham 2002, chapter 7): mere scaling does
    not count."""

    NAME = "ill-conditioned"
    WANTS = ("call:solve", "call:inv", "call:lstsq", "call:polyfit", "call:pinv", "call:curve_fit")

    def _fit(self, np: types.ModuleType, result: object, site: int) -> None:
        """The covariance of the parameters of `curve_fit`: which of them cannot be told apart."""
        covariance = result[1] if type(result) is tuple and len(result) > 1 else None
        if covariance is None or type(covariance) is not np.ndarray or covariance.ndim != 2 or len(covariance) < 2:
            return
        spread = np.sqrt(np.abs(np.diag(covariance)))
        pair: list[int] = []
        if not spread.all():
            return  # an exact fit
        if not np.isfinite(covariance).all():
            said = "their covariance is not finite"
        else:
            related = np.abs(covariance / np.outer(spread, spread)) - np.eye(len(covariance))
            if float(related.max()) < 1 - 1e-8:
                return
            pair = sorted(divmod(int(np.argmax(related)), len(covariance)))
            said = f"the correlation of parameters {pair[0]} and {pair[1]} is {float(related.max()):.10g}"
        if self.auditor.has(self, site):
            return
        place = self.auditor.place(site)
        self.auditor.report(
            self,
            site,
            f"{place.text.partition('(')[0]} cannot tell its parameters apart: {said}. Each alone has no meaning.",
            0.8,
            evidence={"parameters": pair, "count": len(covariance)},
        )

    def call(self, function: object, args: tuple[Any, ...], named: dict[str, Any], result: object, site: int) -> None:
        np = nonfinite.module("numpy")
        if np is None or not args:
            return
        name = seen(function, "__name__", "")
        names: list[str] = []
        if name == "curve_fit":
            self._fit(np, result, site)
            return
        if name == "polyfit":
            degree = int(args[2]) if len(args) > 2 else int(named.get("deg", 0))
            if not degree:
                return
            matrix = np.vander(np.asarray(args[0], dtype=float), degree + 1)
            names = [f"x**{degree - k}" for k in range(degree + 1)]
        else:
            given = args[0]
            names = [str(c) for c in seen(given, "columns", [])]
            matrix = np.asarray(given, dtype=float)
        if matrix.ndim != 2 or min(matrix.shape) < 2 or max(matrix.shape) > 3000 or not np.isfinite(matrix).all():
            return
        condition = _condition(np, matrix)
        if condition < LIMIT or self.auditor.has(self, site):
            return
        place = self.auditor.place(site)
        digits = max(0, int(16 - math.log10(condition))) if math.isfinite(condition) else 0
        pair = _dependent(np, matrix)
        texts = place.operand_texts()
        shown = [names[i] if names else f"column {i}" for i in pair] if pair else []
        which = f" Nearly dependent: {shown[0]} and {shown[1]}." if shown else ""
        left = f"about {digits} of 16 digits hold" if digits else "no digit of the result is sure"
        how = f"ill-conditioned ({condition:.2g})" if math.isfinite(condition) else "singular"
        self.auditor.report(
            self,
            site,
            f"{place.text}: {texts[0] if texts else 'the matrix'} is {how}, {left}.{which}",
            0.9 if digits < 3 else 0.75,
            evidence={"condition": condition, "digits": digits, "shape": list(matrix.shape), "columns": shown},
        )


def _condition(np: types.ModuleType, matrix: Array) -> float:
    with np.errstate(all="ignore"):
        rows = np.abs(matrix).max(axis=1, keepdims=True)
        scaled = matrix / np.where(rows == 0, 1, rows) if matrix.shape[0] == matrix.shape[1] else matrix
        columns = np.linalg.norm(scaled, axis=0, keepdims=True)
        scaled = scaled / np.where(columns == 0, 1, columns)
        try:
            values = np.linalg.svd(scaled, compute_uv=False)
        except np.linalg.LinAlgError:
            return math.inf
    return float(values[0] / values[-1]) if values[-1] > 0 else math.inf


def _dependent(np: types.ModuleType, matrix: object) -> list[int]:
    """The two columns with the largest parts in the direction that is nearly lost."""
    columns = np.linalg.norm(matrix, axis=0)
    scaled = matrix / np.where(columns == 0, 1, columns)
    try:
        _, _, right = np.linalg.svd(scaled, full_matrices=False)
    except np.linalg.LinAlgError:
        return []
    order = np.argsort(-np.abs(right[-1]))
    return sorted(int(i) for i in order[:2])
