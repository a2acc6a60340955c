"""`reseeded`: one place seeds the random numbers alike again and again, so the draws repeat."""

from __future__ import annotations

from ...core.type_identity import is_one_of
from .base import Rule

TIMES = 3


class Reseeded(Rule):
    NAME = "reseeded"
    WANTS = ("call:seed", "call:default_rng", "call:RandomState", "call:Random")

    def call(
        self, function: object, args: tuple[object, ...], named: dict[str, object], result: object, site: int
    ) -> None:
        given = args[0] if args else named.get("seed", named.get("a"))
        if not is_one_of(type(given), int, float, str):
            return
        place = self.auditor.place(site)
        counts = place.kept.setdefault("reseeded", {})
        counts[given] = counts.get(given, 0) + 1
        if counts[given] >= TIMES:
            if self.auditor.has(self, site):
                place.times[self.NAME] = counts[given]
                return
            self.auditor.report(
                self,
                site,
                f"{place.text} seeds with {given!r} again and again: the same random numbers are drawn each time. "
                "Seed once, before the loop.",
                0.8,
                evidence={"seed": given},
            )
            place.times[self.NAME] = counts[given]
