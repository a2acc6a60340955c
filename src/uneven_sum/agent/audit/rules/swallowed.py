"""`swallowed`: a handler ran and left no trace; conversions that made missing cells."""

from __future__ import annotations

from typing import Any

from ...source.cells import place_words
from ...values import nonfinite
from .base import Rule


class Swallowed(Rule):
    NAME = "swallowed"
    AT_ONCE = False
    WANTS = ("handled", "call:to_numeric", "call:to_datetime", "call:to_timedelta")

    def handled(self, error: BaseException | None, site: int) -> None:
        if error is None or isinstance(error, (StopIteration, KeyboardInterrupt, ImportError)):
            return
        place = self.auditor.place(site)
        said = f"{type(error).__name__}: {str(error)[:120]}".rstrip(": ")
        kinds = place.kept.setdefault("swallowed", {})
        kinds[said] = kinds.get(said, 0) + 1
        if self.auditor.has(self, site):
            return
        at = place_words(place.file, place.line)
        self.auditor.report(
            self,
            site,
            f"The handler at {at} hides an error: {said}. Are the values after it right?",
            0.6,
            question=True,
            evidence={"error": said},
        )

    def call(self, function: object, args: tuple[Any, ...], named: dict[str, object], result: Any, site: int) -> None:
        pd = nonfinite.module("pandas")
        if pd is None or named.get("errors") != "coerce" or not args or not isinstance(args[0], pd.Series):
            return
        made = result.isna() & args[0].notna()
        if not made.any() or self.auditor.has(self, site):
            return
        place = self.auditor.place(site)
        texts = [str(t) for t in args[0][made].unique()[:3]]
        self.auditor.report(
            self,
            site,
            f"{place.text} turns {int(made.sum()):,} of {len(result):,} values into missing ones, such as "
            f"{', '.join(map(repr, texts))}.",
            0.7 if made.mean() > 0.01 else 0.5,
            question=True,
            evidence={"cells": int(made.sum()), "of": len(result), "texts": texts},
        )

    def finish(self) -> None:
        for (_, name), finding in list(self.auditor.found.items()):
            kinds = finding.place.kept.get("swallowed") if name == self.NAME else None
            if kinds:
                times = sum(kinds.values())
                finding.place.times[self.NAME] = times
                if times > 1:
                    finding.headline = finding.headline.replace("hides an error", f"hides an error {times:,} times", 1)
