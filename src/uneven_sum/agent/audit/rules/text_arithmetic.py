"""`text-arithmetic`: texts that look like numbers are added, sorted or compared as texts."""

from __future__ import annotations

import ast
from typing import Any

from ...core.type_identity import is_one_of
from ...values import nonfinite
from ..figures import seen
from .base import Rule


def _number(text: object) -> float | None:
    if not isinstance(text, str) or not text.strip():
        return None
    try:
        return float(text)
    except ValueError:
        return None


def _is_text_on_purpose(node: ast.AST | None) -> bool:
    """`f"{n}"`, `str(n)`, `f"{n}" * 3`: whoever writes so wants a text."""
    called = getattr(getattr(node, "func", None), "id", getattr(getattr(node, "func", None), "attr", ""))
    return isinstance(node, ast.JoinedStr) or called in (
        "str",
        "format",
        "zfill",
        "hex",
        "bin",
        "join",
        "rjust",
        "ljust",
    )


class TextArithmetic(Rule):
    NAME = "text-arithmetic"
    TAKES = frozenset({"text", "frame"})
    WANTS = (
        "add",
        "lt",
        "gt",
        "le",
        "ge",
        "mul",
        "eq",
        *(f"call:{n}" for n in ("max", "min", "sorted", "sum", "sort", "sort_values")),
    )

    def operator(self, name: str, a: object, b: Any, result: object, site: int) -> None:
        if name == "eq":
            self._beside_number(a, b, site)
            return
        x, y = _number(a), _number(b) if name != "mul" else 0.0
        if x is None or y is None or (name == "mul" and type(b) is not int):
            return
        if name == "add" or name == "mul":
            right = x + y if name == "add" else x * b
            node = self.auditor.place(site).node
            if any(_is_text_on_purpose(n) for n in (getattr(node, "left", None), getattr(node, "right", None))):
                return
            if any(t.startswith("0") for t in (a, b) if isinstance(t, str)):
                return  # digits that are put side by side: padding, a month
            what = f"{a!r} {'+' if name == 'add' else '*'} {b!r} is {result!r}; as numbers it is {right:g}"
        else:
            right = {"lt": x < y, "gt": x > y, "le": x <= y, "ge": x >= y}[name]
            if right == result:
                return
            what = f"{a!r} and {b!r} are compared as texts, which gives {result}; as numbers it is {right}"
        if self.auditor.has(self, site):
            return
        joined = name in ("add", "mul")
        place = self.auditor.place(site)
        self.auditor.report(
            self,
            site,
            f"{place.text} works on texts: {what}.{' Is that meant?' if joined else ''}",
            0.85,
            question=joined,
            evidence={"left": a, "right": str(b)},
            right=str(right),
        )

    def _chosen(self, result: str, site: int) -> None:
        """`max` of texts that a generator gives."""
        if _number(result) is None or self.auditor.has(self, site):
            return
        place = self.auditor.place(site)
        self.auditor.report(
            self,
            site,
            f"{place.text} compares texts, and gives {result!r}: '10' comes before '9' among texts. Are numbers meant? "
            "key=float compares them so.",
            0.7,
            question=True,
            evidence={"result": result},
        )

    def _beside_number(self, a: object, b: object, site: int) -> None:
        """A text that looks like a number is never equal to that number."""
        pd = nonfinite.module("pandas")
        if pd is not None and isinstance(a, pd.Series) and is_one_of(type(b), int, float):
            if a.dtype.kind in "ifbcmM" or isinstance(a.dtype, pd.CategoricalDtype):
                return
            equal = next((t for t in a.dropna().tolist()[:10_000] if _number(t) == b), None)
            if equal is None:
                return
            a = equal
        elif isinstance(b, str):
            a, b = b, a
        if not isinstance(a, str) or not is_one_of(type(b), int, float) or _number(a) != b:
            return
        if self.auditor.has(self, site):
            return
        place = self.auditor.place(site)
        self.auditor.report(
            self,
            site,
            f"{place.text} compares the text {a!r} with the number {b!r}: they are never equal. As numbers they are.",
            0.85,
            evidence={"text": a, "number": str(b)},
            right="True",
        )

    def call(
        self, function: object, args: tuple[object, ...], named: dict[str, Any], result: object, site: int
    ) -> None:
        pd = nonfinite.module("pandas")
        owner = seen(function, "__self__", None)
        given: object = args[0] if args else None
        if pd is not None and isinstance(owner, (pd.Series, pd.DataFrame)):
            column = owner if isinstance(owner, pd.Series) else owner[given] if isinstance(given, str) else None
            if column is None or column.dtype.kind in "ifbcmM":
                return
            values = column.dropna().tolist()
        elif isinstance(given, (list, tuple, set)) and not named.get("key"):
            values = list(given)
        elif seen(function, "__name__", "") == "sorted" and isinstance(result, list) and not named.get("key"):
            values = result
        elif seen(function, "__name__", "") == "sort" and isinstance(owner, list) and not named.get("key"):
            values = owner
        elif seen(function, "__name__", "") in ("max", "min") and isinstance(result, str) and not named.get("key"):
            self._chosen(result, site)
            return
        else:
            return
        numbers = [_number(v) for v in values[:10_000]]
        if len(values) < 2 or None in numbers or self.auditor.has(self, site):
            return
        # mypy: None was ruled out
        as_numbers = [v for _, v in sorted(zip(numbers, values), key=lambda p: p[0])]  # type: ignore[arg-type, return-value]
        if as_numbers == sorted(values) and seen(function, "__name__", "") != "sum":
            return
        ordered = seen(function, "__name__", "") in ("sorted", "sort", "sort_values")  # labels may be so
        place = self.auditor.place(site)
        self.auditor.report(
            self,
            site,
            f"{place.text} works on texts that all look like numbers ({values[0]!r}, {values[1]!r} …): '10' comes "
            f"before '9'.{' Is that meant?' if ordered else ''}",
            0.8,
            question=ordered,
            evidence={"texts": [str(v) for v in values[:10]]},
        )
