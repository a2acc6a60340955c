"""`text-arithmetic`: texts that look like numbers are added, sorted or compared as texts."""

from __future__ import annotations

from typing import Any

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


class TextArithmetic(Rule):
    NAME = "text-arithmetic"
    WANTS = (
        "add",
        "lt",
        "gt",
        "le",
        "ge",
        "mul",
        *(f"call:{n}" for n in ("max", "min", "sorted", "sum", "sort", "sort_values")),
    )

    def operator(self, name: str, a: Any, b: Any, result: Any, site: int) -> None:
        x, y = _number(a), _number(b) if name != "mul" else 0.0
        if x is None or y is None or (name == "mul" and type(b) is not int):
            return
        if name == "add" or name == "mul":
            right = x + y if name == "add" else x * b
            what = f"{a!r} {'+' if name == 'add' else '*'} {b!r} is {result!r}; as numbers it is {right:g}"
        else:
            right = {"lt": x < y, "gt": x > y, "le": x <= y, "ge": x >= y}[name]
            if right == result:
                return
            what = f"{a!r} and {b!r} are compared as texts, which gives {result}; as numbers it is {right}"
        if self.auditor.has(self, site):
            return
        place = self.auditor.place(site)
        self.auditor.report(
            self,
            site,
            f"{place.text} works on texts: {what}.",
            0.85,
            evidence={"left": a, "right": str(b)},
            right=str(right),
        )

    def call(
        self, function: object, args: tuple[Any, ...], named: dict[str, Any], result: object, site: int, kept: object
    ) -> None:
        pd = nonfinite.module("pandas")
        owner = seen(function, "__self__", None)
        given: Any = args[0] if args else None
        if pd is not None and isinstance(owner, (pd.Series, pd.DataFrame)):
            column = owner if isinstance(owner, pd.Series) else owner[given] if isinstance(given, str) else None
            if column is None or column.dtype.kind in "ifbcmM":
                return
            values = column.dropna().tolist()
        elif isinstance(given, (list, tuple, set)) and not named.get("key"):
            values = list(given)
        else:
            return
        numbers = [_number(v) for v in values[:10_000]]
        if len(values) < 2 or None in numbers or self.auditor.has(self, site):
            return
        # mypy: None was ruled out
        as_numbers = [v for _, v in sorted(zip(numbers, values), key=lambda p: p[0])]  # type: ignore[arg-type, return-value]
        if as_numbers == sorted(values) and seen(function, "__name__", "") != "sum":
            return
        place = self.auditor.place(site)
        self.auditor.report(
            self,
            site,
            f"{place.text} works on texts that all look like numbers ({values[0]!r}, {values[1]!r} …): '10' comes "
            "before '9'.",
            0.8,
            evidence={"texts": [str(v) for v in values[:10]]},
        )
