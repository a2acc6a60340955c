"""`alignment`: series or frames whose labels differ are combined, and what has no partner becomes missing."""

from __future__ import annotations

import ast
from typing import Any

from ...core.data_types import Column
from ...values import nonfinite
from ..figures import listed
from .base import Rule


class Alignment(Rule):
    NAME = "alignment"
    TAKES = frozenset({"frame"})
    WANTS = ("add", "sub", "mul", "truediv", "store")

    def operator(self, name: str, a: object, b: object, result: object, site: int) -> None:
        pd = nonfinite.module("pandas")
        if pd is None:
            return
        if isinstance(a, pd.DataFrame) and isinstance(b, pd.DataFrame):
            self._frames(a, b, site)
            return
        if not isinstance(a, pd.Series) or not isinstance(b, pd.Series) or a.index.equals(b.index):
            return
        only_left, only_right = a.index.difference(b.index), b.index.difference(a.index)
        if not len(only_left) + len(only_right) or self.auditor.has(self, site):
            return
        place = self.auditor.place(site)
        lost = len(only_left) + len(only_right)
        texts = place.operand_texts()
        parts = [
            f"{len(one):,} of `{text}` only ({listed([str(k) for k in one[:4]])})"
            for one, text in ((only_left, texts[0]), (only_right, texts[-1]))
            if len(one)
        ]
        self.auditor.report(
            self,
            site,
            f"{place.text} combines by label, and {lost:,} labels have no partner: {'; '.join(parts)}. They "
            "become missing.",
            0.75 if lost > 0.05 * max(len(a), len(b)) else 0.55,
            question=lost < 0.5 * max(len(a), len(b)),
            evidence={"left only": len(only_left), "right only": len(only_right), "of": max(len(a), len(b))},
        )

    def _shorter(self, target: Any, value: Column, site: int) -> None:
        """A series of another length, whose labels count from 0 again."""
        without = target.index.difference(value.index)
        counts = value.index.equals(target.index[: len(value)]) and len(value) < len(target)
        if not counts or not len(without) or self.auditor.has(self, site):
            return
        place = self.auditor.place(site)
        self.auditor.report(
            self,
            site,
            f"{place.text} takes {len(value):,} values for {len(target):,} rows by label: they go to the first "
            f"rows, and "
            f"{len(without):,} become missing. Are these their rows?",
            0.5,
            question=True,
            evidence={"values": len(value), "rows": len(target)},
        )

    def _frames(self, a: Any, b: Any, site: int) -> None:
        """Frames whose columns or rows differ."""
        for what, left, right in (("columns", a.columns, b.columns), ("rows", a.index, b.index)):
            only = [str(k) for k in left.difference(right)], [str(k) for k in right.difference(left)]
            if (only[0] or only[1]) and not self.auditor.has(self, site):
                place = self.auditor.place(site)
                lost = len(only[0]) + len(only[1])
                self.auditor.report(
                    self,
                    site,
                    f"{place.text} combines by label, and {lost:,} {what} have no partner: "
                    f"{listed([*only[0][:2], *only[1][:2]], 4)}. They become missing.",
                    0.75,
                    question=lost < 0.5 * max(len(left), len(right)),
                    evidence={"left only": only[0][:20], "right only": only[1][:20]},
                )
                return

    def _reordered(self, target: Column, value: Column, site: int) -> None:
        """The same labels in another order: the frame's order is kept, so a sort before has no effect."""
        node = self.auditor.place(site).scope
        if not target.index.is_unique or "sort_values" not in ast.unparse(node):
            return
        place = self.auditor.place(site)
        first = value.iloc[0]
        self.auditor.report(
            self,
            site,
            f"{place.text} takes the series by label, not in its order: its first value, {first!r}, goes to row "
            f"{value.index[0]!r}. The sort has no effect here. Is the order meant? Then .to_numpy() keeps it.",
            0.7,
            question=True,
            evidence={"first label": str(value.index[0]), "rows": len(target)},
            right="the values in their order: .to_numpy()",
        )

    def store(self, target: object, index: object, value: object, site: int) -> None:
        pd = nonfinite.module("pandas")
        if pd is None or not isinstance(target, pd.DataFrame) or not isinstance(value, pd.Series):
            return
        if value.index.equals(target.index) or not len(target):
            return
        if len(value) != len(target):
            self._shorter(target, value, site)
            return
        missing = target.index.difference(value.index)
        if self.auditor.has(self, site):
            return
        if not len(missing):
            self._reordered(target, value, site)
            return
        place = self.auditor.place(site)
        self.auditor.report(
            self,
            site,
            f"{place.text} takes the series by label, and {len(missing):,} of {len(target):,} rows have none in it "
            f"({listed([str(k) for k in missing[:4]])}): they become missing. Its length is the same: "
            ".to_numpy() takes its values in their order.",
            0.8,
            evidence={"rows": len(missing), "of": len(target)},
            right="the values in their order: .to_numpy()",
        )
