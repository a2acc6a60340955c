"""`broadcast`: a row with a column gave a whole table, and the text shows no sign that this is meant."""

from __future__ import annotations

import ast
from typing import Any

from ...values import nonfinite
from .base import Rule

MEANT = (
    "None",
    "newaxis",
    "reshape",
    "outer",
    "meshgrid",
    "expand_dims",
    "[:, ",
    "ix_",
    "ogrid",
    "mgrid",
    ".T",
    "keepdims",
)


class Broadcast(Rule):
    NAME = "broadcast"
    WANTS = (
        *("add", "sub", "mul", "truediv", "pow", "lt", "le", "gt", "ge", "eq", "ne"),
        *(f"call:{name}" for name in ("add", "subtract", "multiply", "divide", "hypot", "maximum", "minimum")),
    )

    def call(self, function: object, args: Any, named: object, result: object, site: int) -> None:
        if len(args) == 2:
            self.operator("call", args[0], args[1], result, site)

    def operator(self, name: str, a: Any, b: Any, result: object, site: int) -> None:
        np = nonfinite.module("numpy")
        if np is None or type(a) is not np.ndarray or type(b) is not np.ndarray or a.ndim + b.ndim != 3:
            return
        row, column = (a, b) if a.ndim == 1 else (b, a)
        n = row.shape[0]
        if n < 2 or column.shape != (n, 1) or self.auditor.has(self, site):
            return
        place = self.auditor.place(site)
        function = place.site.file.statement(place.site.statement)
        scope = function.scope if function is not None else place.site.file.tree
        text = ast.unparse(scope) if not isinstance(scope, ast.Module) else place.site.file.text
        names = {x.id for x in ast.walk(place.node) if isinstance(x, ast.Name)}
        lines = [line for line in text.splitlines() if any(name in line for name in names)]
        if any(sign in line for line in lines for sign in MEANT):
            return
        texts = place.operand_texts()
        self.auditor.report(
            self,
            site,
            f"{place.text} combines shapes {a.shape} and {b.shape} to {np.shape(result)}: each element with each "
            "other. "
            f"Is element by element meant? Then {texts[0] if column is a else texts[-1]} needs shape ({n},).",
            0.75,
            question=True,
            evidence={"left": list(a.shape), "right": list(b.shape), "result": list(np.shape(result))},
            operands=list(zip(texts, (f"shape {a.shape}", f"shape {b.shape}"))),
        )
