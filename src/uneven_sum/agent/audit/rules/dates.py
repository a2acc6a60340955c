"""`dates`: texts that can be read day first or month first, without a format."""

from __future__ import annotations

import re
from typing import Any

from ...values import nonfinite
from .base import Rule

PATTERN = re.compile(r"^\s*(\d{1,2})[./-](\d{1,2})[./-]\d{2,4}")


class Dates(Rule):
    NAME = "dates"
    WANTS = ("call:to_datetime", "call:parse")

    def call(
        self, function: object, args: tuple[Any, ...], named: dict[str, object], result: object, site: int
    ) -> None:
        pd = nonfinite.module("pandas")
        if (
            pd is None
            or not args
            or {"format", "dayfirst", "yearfirst"} & set(named)
            or isinstance(args[0], (int, float))
        ):
            return
        given = [args[0]] if isinstance(args[0], str) else list(args[0])[:20_000]
        found = [m for t in given if isinstance(t, str) and (m := PATTERN.match(t))]
        pairs = [(int(m[1]), int(m[2])) for m in found]
        if len(found) < max(1, len(given) // 2) or any(max(p) > 12 for p in pairs) or all(a == b for a, b in pairs):
            return
        if self.auditor.has(self, site):
            return
        texts = [t for t in given if isinstance(t, str)]
        as_days = pd.to_datetime(pd.Series(texts), dayfirst=True, errors="coerce")
        as_months = pd.to_datetime(pd.Series(texts), dayfirst=False, errors="coerce")
        spread = [float(s.diff().dt.total_seconds().abs().std() or 0.0) for s in (as_months, as_days)]
        better = " Day first gives the more regular series." if len(texts) > 2 and spread[1] < 0.5 * spread[0] else ""
        place = self.auditor.place(site)
        text = texts[0]
        self.auditor.report(
            self,
            site,
            f"{place.text} reads {text!r} as {as_months.iloc[0]:%d %B %Y}; day first it is "
            f"{as_days.iloc[0]:%d %B %Y}.{better} "
            "A format says which is meant.",
            0.8 if better else 0.55,
            question=not better,
            evidence={"text": text, "month first": str(as_months.iloc[0]), "day first": str(as_days.iloc[0])},
            right=str(as_days.iloc[0]) if better else None,
        )
