"""`unsorted`: a function that needs sorted data was given data that is not."""

from __future__ import annotations

import itertools
import operator
from typing import Any

from ...core.data_types import Array
from ...core.type_identity import is_one_of
from ...values import nonfinite
from .. import pictures
from ..figures import full, seen
from .base import Rule

SORTED = {
    "groupby": 0,
    "trapezoid": 1,
    "trapz": 1,
    "interp": 1,
    "searchsorted": 0,
    "bisect": 0,
    "bisect_left": 0,
    "bisect_right": 0,
    "insort": 0,
}


class Unsorted(Rule):
    NAME = "unsorted"
    WANTS = tuple(f"call:{name}" for name in SORTED)

    def call(
        self, function: object, args: tuple[object, ...], named: dict[str, Any], result: object, site: int
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
        if name == "groupby":
            self._groups(function, given, args, named, site)
            return
        if name in ("trapezoid", "trapz"):
            given = named.get("x", given)
        if given is None or named.get("sorter") is not None or named.get("key") is not None:
            return
        values = np.asarray(given).tolist() if np is not None else list(given)
        fall = next((n for n in range(1, len(values)) if values[n] < values[n - 1]), 0)
        if name in ("trapezoid", "trapz") and all(b <= a for a, b in itertools.pairwise(values)):
            return  # from the end to the start: the sign is meant
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
            pictures=pictures.course(np, f"{which}, by element", {which: np.asarray(values, float)})
            if np is not None and isinstance(values[0], (int, float))
            else [],
        )

    def _groups(
        self, function: object, given: Array, args: tuple[object, ...], named: dict[str, object], site: int
    ) -> None:
        """`itertools.groupby` makes a group of each run: a key that comes again makes another group."""
        if getattr(function, "__module__", "") != "itertools" or not is_one_of(type(given), list, tuple, str):
            return
        key = named.get("key", args[1] if len(args) > 1 else None)
        if key is not None and not isinstance(key, (operator.itemgetter, operator.attrgetter)):
            return  # a function of the script is not called twice
        if isinstance(key, operator.attrgetter):
            return
        keys = [k for k, _ in itertools.groupby(given, key)]
        again = next((k for n, k in enumerate(keys) if k in keys[:n]), None) if len(keys) < 5_000 else None
        if again is None or self.auditor.has(self, site):
            return
        place = self.auditor.place(site)
        self.auditor.report(
            self,
            site,
            f"{place.text} makes {len(keys):,} groups of {len(set(keys)):,} keys, since equal keys are not side by "
            f"side: {full(again)} comes again. sorted() first gives one group each.",
            0.8,
            evidence={"groups": len(keys), "keys": len(set(keys)), "again": full(again)},
            right=f"{len(set(keys)):,} groups",
        )
