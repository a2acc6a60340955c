"""`alias`: one list, dict or array under two names, where each was meant to have its own."""

from __future__ import annotations

import ast
import gc
import types
from typing import Any

from ...core.type_identity import is_one_of
from ...source import registry
from ...source.source_file import position
from ...values import nonfinite
from .base import Rule

MUTABLE = (list, dict, set)


class Alias(Rule):
    """`[row] * n` whose rows are stored into, and a default argument that grew."""

    NAME = "alias"
    WANTS = ("mul", "store")

    def __init__(self, auditor: Any) -> None:
        super().__init__(auditor)
        self.shared: dict[int, tuple[Any, int, int]] = {}  # by id: the row, the place of the `*`, how often it is in

    def operator(self, name: str, a: Any, b: Any, result: Any, site: int) -> None:
        listed, times = (a, b) if type(a) is list else (b, a)
        if type(listed) is not list or type(times) is not int or times < 2 or len(listed) > 8:
            return
        np = nonfinite.module("numpy")
        for row in listed:
            if is_one_of(type(row), *MUTABLE) or (np is not None and type(row) is np.ndarray):
                self.shared[id(row)] = (row, site, times)

    def before_store(self, target: Any, index: Any, value: Any, site: int) -> Any:
        known = self.shared.get(id(target))
        if known is None or known[0] is not target or self.auditor.has(self, known[1]):
            return
        place = self.auditor.place(known[1])
        store = self.auditor.place(site)
        kind = type(target).__name__
        self.auditor.report(
            self,
            known[1],
            f"{place.text} has the same {kind} {known[2]:,} times: {store.text} = … at line {store.line} changes "
            "all of them. "
            "[… for _ in range(n)] makes one each.",
            0.9,
            evidence={"times": known[2], "stored at line": store.line},
        )

    def finish(self) -> None:
        """Default arguments that are empty in the source, and are not any longer."""
        files = {name: file for name, file in registry.files.items()}
        for function in [f for f in gc.get_objects() if type(f) is types.FunctionType]:
            file = files.get(function.__code__.co_filename)
            defaults = function.__defaults__
            if file is None or not defaults:
                continue
            for node in ast.walk(file.tree):
                if (
                    isinstance(node, (ast.FunctionDef, ast.AsyncFunctionDef))
                    and node.name == function.__code__.co_name
                    and min([node.lineno, *(d.lineno for d in node.decorator_list)]) == function.__code__.co_firstlineno
                ):
                    self._defaults(file, node, defaults)

    def _defaults(self, file: Any, node: ast.FunctionDef | ast.AsyncFunctionDef, defaults: tuple[Any, ...]) -> None:
        names = [a.arg for a in (*node.args.posonlyargs, *node.args.args)][-len(defaults) :]
        for name, written, value in zip(names, node.args.defaults, defaults):
            empty = (isinstance(written, ast.List) and not written.elts) or (
                isinstance(written, ast.Dict) and not written.keys
            )
            if not empty or not is_one_of(type(value), list, dict) or not len(value):
                continue
            cached = any(word in name.lower() for word in ("cache", "memo", "known", "seen"))
            self.auditor.report_at(
                self,
                file,
                position(written),
                f"The default of `{name}` in {node.name} has grown to {len(value):,} elements: all calls share it. "
                f"{'Is that meant?' if cached else 'None as default, and a new one inside, gives each call its own.'}",
                0.85 if not cached else 0.4,
                question=cached,
                evidence={"elements": len(value), "argument": name},
            )
