"""`unsorted`: a function that needs sorted data was given data that is not."""

from __future__ import annotations

from typing import Any

from ...values import nonfinite
from ..figures import full, seen
from .base import Rule

SORTED = {"interp": 1, "searchsorted": 0, "bisect": 0, "bisect_left": 0, "bisect_right": 0, "insort": 0}


class Unsorted(Rule):
    NAME = "unsorted"
    WANTS = tuple(f"call:{name}" for name in SORTED)

    def call(
        self, function: object, args: tuple[Any, ...], named: dict[str, Any], result: object, site: int, kept: object
    ) -> None:
        name = seen(function, "__name__", "")
        owner = seen(function, "__self__", None)
        np = nonfinite.module("numpy")
        at = SORTED.get(name, 0)
        if name == "interp":
            given = named.get("xp", args[1] if len(args) > 1 else None)
            if named.get("period") is not None:
                return
        elif np is not None and isinstance(owner, np.ndarray):
            given = owner
        else:
            given = args[at] if len(args) > at else None
        if given is None or named.get("sorter") is not None or named.get("key") is not None:
            return
        values = np.asarray(given).tolist() if np is not None else list(given)
        fall = next((n for n in range(1, len(values)) if values[n] < values[n - 1]), 0)
        if not fall or self.auditor.has(self, site):
            return
        place = self.auditor.place(site)
        texts = place.operand_texts()
        which = texts[at] if len(texts) > at and not (np is not None and isinstance(owner, np.ndarray)) else "the array"
        self.auditor.report(
            self,
            site,
            f"{place.text} needs {which} in ascending order: element {fall} is {full(values[fall])}, after "
            f"{full(values[fall - 1])}. The result has no meaning.",
            0.9,
            evidence={"element": fall, "value": full(values[fall]), "before": full(values[fall - 1])},
        )
