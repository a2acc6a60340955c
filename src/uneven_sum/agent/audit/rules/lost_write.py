"""`lost-write`: a store into a temporary copy, or the result of a method that is thrown away."""

from __future__ import annotations

from typing import Any

from ...values import nonfinite
from ..figures import seen
from .base import Rule

METHODS = (
    *("sort_values", "sort_index", "replace", "fillna", "dropna", "drop", "drop_duplicates", "rename", "reset_index"),
    *("set_index", "astype", "assign", "clip", "round", "interpolate", "shift", "strip", "upper", "lower", "title"),
)


class LostWrite(Rule):
    NAME = "lost-write"
    WANTS = ("store", *(f"unused:{name}" for name in METHODS))

    def unused(self, value: object, site: int) -> None:
        pd = nonfinite.module("pandas")
        is_frame = pd is not None and isinstance(value, (pd.DataFrame, pd.Series))
        if value is None or not (is_frame or isinstance(value, str) or seen(value, "dtype") is not None):
            return
        if self.auditor.has(self, site):
            return
        place = self.auditor.place(site)
        owner = place.text.partition("(")[0].rpartition(".")[0]
        self.auditor.report(
            self,
            site,
            f"The result of {place.text} is thrown away: `{owner}` stays as it was. `{owner} = …` keeps it.",
            0.9,
            evidence={"type": type(value).__name__},
        )

    def before_store(self, target: object, index: object, value: object, site: int) -> Any:
        import ast

        pd, np = nonfinite.module("pandas"), nonfinite.module("numpy")
        node = self.auditor.place(site).node
        inner = getattr(node, "value", None)
        if not isinstance(inner, ast.Subscript) or self.auditor.has(self, site):
            return
        chained = pd is not None and isinstance(target, (pd.Series, pd.DataFrame))
        advanced = False
        if np is not None and isinstance(target, np.ndarray) and target.base is None:
            advanced = not isinstance(inner.slice, (ast.Constant, ast.Slice)) and target.flags.owndata
        if chained or advanced:
            place = self.auditor.place(site)
            owner = place.text_of(inner.value)
            what = "a copy that is thrown away"
            self.auditor.report(
                self,
                site,
                f"{place.text} = … writes into {what}: `{owner}` stays as it was. One index, such as .loc[rows, "
                "column], "
                "writes into it.",
                0.85,
                evidence={"target": place.text_of(inner)},
            )
