"""`missing`: missing cells are counted on one side of a comparison, chosen as the largest, or divided by."""

from __future__ import annotations

import ast
from typing import Any

from ...core.type_identity import is_one_of
from ...values import nonfinite
from ..figures import many, seen
from ..finding import Place
from .base import Rule

ORDERS = ("lt", "le", "gt", "ge")
PLACES = ("argmax", "argmin", "argsort", "max", "min", "sorted", "sort")


class Missing(Rule):
    """A comparison with a missing cell is False, whichever way it is put: what takes the False cells for the other side
    counts the missing ones there.  Exempt where the same function asks for missing cells."""

    NAME = "missing"
    AT_ONCE = False
    TAKES = frozenset({"array", "frame"})
    WANTS = (*ORDERS, *(f"call:{name}" for name in (*PLACES, "sum")))
    SCALARS = True

    def scalars(self, name: str, a: object, b: object, result: object, site: int) -> None:
        if a == a and b == b:
            return
        place = self.auditor.place(site)
        outer = next(iter(place.around), None)
        if (
            not isinstance(outer, (ast.If, ast.IfExp))
            or not outer.orelse
            or _asks(place)
            or self.auditor.has(self, site)
        ):
            return
        which = place.operand_texts()[0 if a != a else -1]
        self.auditor.report(
            self,
            site,
            f"{place.text} is False since {which} is nan: the else branch takes the missing value. Is that meant?",
            0.7,
            question=True,
            evidence={"operand": which},
        )

    def operator(self, name: str, a: object, b: object, result: object, site: int) -> None:
        count, of = _missing(a)
        if not count:
            count, of = _missing(b)
        if not count or self.auditor.has(self, site):
            return
        place = self.auditor.place(site)
        use = _use(place)
        if not use or _asks(place):
            return
        self.auditor.report(
            self,
            site,
            f"{place.text} is False for {many(count, 'missing cell')} of {of:,}, and {use}. Is that meant?",
            0.75,
            question=True,
            evidence={"missing": count, "of": of},
        )

    def call(
        self, function: object, args: tuple[object, ...], named: dict[str, object], result: object, site: int
    ) -> None:
        name = seen(function, "__name__", "")
        owner = seen(function, "__self__", None)
        given = owner if _missing(owner)[1] else args[0] if args else None
        if name == "sum":
            self._mean(given, site)
            return
        pd = nonfinite.module("pandas")
        if pd is not None and isinstance(given, (pd.Series, pd.DataFrame)):
            return  # these skip missing cells
        count, of = _missing(given)
        if name in ("argsort", "sort") and not is_one_of(type(given), list):
            return  # arrays have them at the end
        if name in ("max", "min") and not is_one_of(type(given), list, tuple, set):
            return  # the result of an array's is nan itself
        if not count or self.auditor.has(self, site):
            return
        place = self.auditor.place(site)
        ordered = name in ("sorted", "sort")
        what = (
            "is in no order: nan compares as neither less nor greater"
            if ordered
            else "depends on the order of the elements: nan compares as neither less nor greater"
            if name in ("max", "min")
            else "gives the place of the first missing cell, not of the largest"
            if name == "argmax"
            else "gives the place of the first missing cell, not of the smallest"
        )
        right = "nan" + name if name.startswith("arg") else "the elements without nan"
        self.auditor.report(
            self,
            site,
            f"{place.text} {what} ({many(count, 'missing cell')} of {of:,}). What is right: {right}.",
            0.85,
            evidence={"missing": count, "of": of},
            fix=place.with_term(place.text.replace(name, right, 1))
            if name.startswith("arg") and owner is None
            else None,
        )

    def _mean(self, given: object, site: int) -> None:
        """`s.sum() / len(s)`: the sum skips missing cells, the length counts them."""
        pd = nonfinite.module("pandas")
        if pd is None or not isinstance(given, (pd.Series, pd.DataFrame)):
            return
        count, of = _missing(given)
        place = self.auditor.place(site)
        outer = next(iter(place.around), None)
        if (
            not count
            or not isinstance(outer, ast.BinOp)
            or not isinstance(outer.op, ast.Div)
            or outer.left is not place.node
        ):
            return
        divisor = place.text_of(outer.right)
        if not (divisor.startswith("len(") or ".shape" in divisor or ".size" in divisor) or self.auditor.has(
            self, site
        ):
            return
        self.auditor.report(
            self,
            site,
            f"{place.text} skips {many(count, 'missing cell')} of {of:,}, and {divisor} counts "
            f"{'it' if count == 1 else 'them'}: "
            f"the mean is too small. mean() divides by {of - count:,}.",
            0.85,
            evidence={"missing": count, "of": of},
            right=f"divided by {of - count:,}",
        )


def _missing(value: Any) -> tuple[int, int]:
    """How many cells are missing, of how many; (0, 0) for what has no cells."""
    np, pd = nonfinite.module("numpy"), nonfinite.module("pandas")
    if is_one_of(type(value), list, tuple, set):
        cells = [v for v in list(value)[:100_000] if is_one_of(type(v), float)]
        return sum(v != v for v in cells), len(value)
    if pd is not None and isinstance(value, (pd.Series, pd.DataFrame)):
        numbers = value if isinstance(value, pd.Series) else value.select_dtypes("number")
        return int(np.asarray(numbers.isna()).sum()), int(numbers.size)
    if np is not None and isinstance(value, np.ndarray) and value.dtype.kind in "fM":
        return int(np.isnan(value).sum() if value.dtype.kind == "f" else np.isnat(value).sum()), int(value.size)
    return 0, 0


def _use(place: Place) -> str:
    """What is made of the cells that are False; empty where they are only left out."""
    outer = place.around
    first = outer[0] if outer else None
    if isinstance(first, ast.Call) and first.args and first.args[0] is place.node:
        name = getattr(first.func, "attr", getattr(first.func, "id", ""))
        if name == "where" and len(first.args) > 2:
            return f"where takes {place.text_of(first.args[2])} for these"
        if name in ("mean", "average"):
            return "mean counts these as False"
    if isinstance(first, ast.Attribute) and first.attr == "mean":
        return "mean counts these as False"
    if isinstance(first, ast.UnaryOp) and isinstance(first.op, ast.Invert):
        return "~ makes these True"
    if isinstance(first, ast.Assign) and isinstance(first.targets[0], ast.Name):
        name = first.targets[0].id
        for node in ast.walk(place.scope):
            if (
                isinstance(node, ast.UnaryOp)
                and isinstance(node.op, ast.Invert)
                and getattr(node.operand, "id", "") == name
            ):
                return f"~{name} makes these True"
            if isinstance(node, ast.Call) and getattr(node.func, "attr", "") == "mean":
                inner = node.args[0] if node.args else getattr(node.func, "value", None)
                if getattr(inner, "id", "") == name:
                    return f"the mean of {name} counts these as False"
            if isinstance(node, ast.Call) and getattr(node.func, "attr", "") == "where" and len(node.args) > 2:
                if getattr(node.args[0], "id", "") == name:
                    return f"where takes {place.text_of(node.args[2])} for these"
    return ""


def _asks(place: Place) -> bool:
    """Whether the function around asks for missing cells, and so knows of them."""
    text = ast.unparse(place.scope)
    return any(
        word in text for word in ("isnan", "isna", "notna", "isnull", "notnull", "nanmean", "dropna", "isfinite")
    )
