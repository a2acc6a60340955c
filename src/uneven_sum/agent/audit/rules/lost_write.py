"""`lost-write`: a store into a temporary copy, or the result of a method that is thrown away."""

from __future__ import annotations

import ast
from typing import Any

from ...values import nonfinite
from ..figures import seen
from ..finding import Place
from .base import Rule

FUNCTIONS = ("sorted", "append", "sort", "concatenate", "delete", "insert", "unique", "where", "concat", "flip", "roll")
METHODS = (
    *("sort_values", "sort_index", "replace", "fillna", "dropna", "drop", "drop_duplicates", "rename", "reset_index"),
    *("set_index", "astype", "assign", "clip", "round", "interpolate", "shift", "strip", "upper", "lower", "title"),
)


class LostWrite(Rule):
    NAME = "lost-write"
    TAKES = frozenset({"array", "frame", "container", "other"})
    WANTS = ("store", *(f"unused:{name}" for name in (*METHODS, *FUNCTIONS)))

    def unused(self, value: object, site: int) -> None:
        pd = nonfinite.module("pandas")
        is_frame = pd is not None and isinstance(value, (pd.DataFrame, pd.Series))
        if value is None or not (is_frame or isinstance(value, (str, list)) or seen(value, "dtype") is not None):
            return
        if self.auditor.has(self, site):
            return
        place = self.auditor.place(site)
        owner = _given(place)
        self.auditor.report(
            self,
            site,
            f"The result of {place.text} is thrown away: `{owner}` stays as it was. `{owner} = …` keeps it.",
            0.9,
            evidence={"type": type(value).__name__},
            fix=f"{owner} = {place.statement}" if owner.isidentifier() and "\n" not in place.statement else None,
        )

    def before_store(self, target: object, index: object, value: object, site: int) -> Any:
        pd, np = nonfinite.module("pandas"), nonfinite.module("numpy")
        node = self.auditor.place(site).node
        if pd is not None and isinstance(target, pd.Series) and self._is_row(site):
            self._row(site)
            return
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

    def _is_row(self, site: int) -> bool:
        """Whether the target is the row that a loop over `iterrows` gives."""
        place = self.auditor.place(site)
        target = getattr(place.node, "value", None)
        statement = place.site.file.innermost(place.line, place.position[1])
        for loop in statement.loops if statement is not None else ():
            names = (
                {n.id for n in ast.walk(loop.target) if isinstance(n, ast.Name)} if isinstance(loop, ast.For) else set()
            )
            over = loop.iter if isinstance(loop, ast.For) else None
            called = over.func.attr if isinstance(over, ast.Call) and isinstance(over.func, ast.Attribute) else ""
            if called == "iterrows" and isinstance(target, ast.Name) and target.id in names:
                return True
        return False

    def _row(self, site: int) -> None:
        if self.auditor.has(self, site):
            return
        place = self.auditor.place(site)
        row = place.text.partition("[")[0]
        self.auditor.report(
            self,
            site,
            f"{place.text} = … writes into a copy of a row: the frame stays as it was. frame.loc[label, column] writes "
            "into it.",
            0.85,
            evidence={"target": row},
        )


def _given(place: Place) -> str:
    """What a call has left as it was: the owner of a method, or a function's first argument."""
    call = place.node
    if isinstance(call, ast.Call):
        named = call.func.attr if isinstance(call.func, ast.Attribute) else getattr(call.func, "id", "")
        if named in FUNCTIONS and call.args:
            return place.text_of(call.args[0])
    return place.text.partition("(")[0].rpartition(".")[0]
