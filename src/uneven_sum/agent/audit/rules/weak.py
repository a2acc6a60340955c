"""Weak rules: off unless they are named, since they are right too seldom."""

from __future__ import annotations

import math
from typing import Any

from ...core.type_identity import is_one_of
from .base import Rule


class IntegerDivision(Rule):
    """`integer-division`: a quotient of integers that is 0 in most passes."""

    NAME = "integer-division"
    AT_ONCE = False
    WANTS = ("floordiv",)
    SCALARS = True
    SCREEN = "every"
    OTHERS = False
    WEAK = True

    def scalars(self, name: str, a: object, b: object, result: object, site: int) -> None:
        kept = self.auditor.place(site).kept.setdefault(self.NAME, [0, 0, None])
        kept[0] += 1
        if result == 0 and a:
            kept[1] += 1
            kept[2] = (a, b)

    def forked(self) -> None:
        for place in self.auditor.places.values():
            place.kept.pop(self.NAME, None)

    def finish(self) -> None:
        for site, place in self.auditor.places.items():
            passes, zero, shown = place.kept.get(self.NAME, (0, 0, None))
            if passes > 3 and zero > 0.8 * passes:
                self.auditor.report(
                    self,
                    site,
                    f"{place.text} is 0 in {zero:,} of {passes:,} passes: {shown[0]} // {shown[1]} drops the fraction. "
                    "Is / meant?",
                    0.5,
                    question=True,
                    evidence={"zero": zero, "passes": passes},
                )


class Degrees(Rule):
    """`degrees`: a trigonometric function of a round number beyond a full turn in radians."""

    NAME = "degrees"
    AT_ONCE = False
    WANTS = ("call:sin", "call:cos", "call:tan")
    WEAK = True

    def call(self, function: Any, args: tuple[Any, ...], named: dict[str, object], result: object, site: int) -> None:
        if args and is_one_of(type(args[0]), int, float) and abs(args[0]) > 2 * math.pi and float(args[0]).is_integer():
            if not self.auditor.has(self, site):
                place = self.auditor.place(site)
                self.auditor.report(
                    self,
                    site,
                    f"{place.text} takes {args[0]:g} as radians. Are degrees meant? Then it is "
                    f"{getattr(math, function.__name__)(math.radians(args[0])):.6g}.",
                    0.5,
                    question=True,
                    evidence={"argument": args[0]},
                )


class Rounding(Rule):
    """`rounding`: ties, which round() takes to the even neighbour."""

    NAME = "rounding"
    AT_ONCE = False
    WANTS = ("call:round", "call:rint", "call:around")
    WEAK = True

    def call(self, function: object, args: tuple[Any, ...], named: dict[str, Any], result: object, site: int) -> None:
        digits = args[1] if len(args) > 1 else named.get("ndigits", 0)
        if not args or not is_one_of(type(args[0]), float) or not is_one_of(type(digits), int) or not 0 <= digits <= 15:
            return
        scaled = args[0] * 10.0**digits
        if abs(abs(scaled - math.trunc(scaled)) - 0.5) > 1e-9 or self.auditor.has(self, site):
            return
        place = self.auditor.place(site)
        away = math.copysign(math.floor(abs(scaled) + 0.5 + 1e-9), scaled) / 10.0**digits
        if away == result:
            return
        self.auditor.report(
            self,
            site,
            f"{place.text} rounds {args[0]!r} to {result!r}: a tie goes to the even neighbour, or the stored "
            f"value lies below it. Is {away:g} meant?",
            0.4,
            question=True,
            evidence={"value": repr(args[0]), "rounded": repr(result)},
            right=f"{away:g}",
        )
