"""`absorption`: a running sum does not take what is added, since it is too large for it."""

from __future__ import annotations

import math
import types
from typing import TYPE_CHECKING, Any

from ...core.data_types import Array
from ...source.sites import sites
from ...values import nonfinite
from .. import pictures
from ..figures import full, seen, short
from ..running_sums import Running
from .base import Rule

if TYPE_CHECKING:
    from ..auditor import Auditor

PASSES = 50  # of one place, at least
SHARE = 0.01  # of what was added that was lost
NARROW_SHARE = 0.001  # the same in 16 or 32 bits


class Absorption(Rule):
    """By the rounding errors of the additions, see `running_sums`.

    Exempt where what was lost is formed again in the same function, as compensated sums do.
    """

    NAME = "absorption"
    AT_ONCE = False
    TAKES = frozenset({"float"})
    WANTS = ("add", "sub", "call:float32", "call:float16", "call:cumsum", "call:sum")

    def __init__(self, auditor: Auditor) -> None:
        super().__init__(auditor)
        self.running: dict[int, Running] = auditor.sums
        self.casts: dict[int, Running] = {}

    def operator(self, name: str, a: Any, b: Any, result: object, site: int) -> None:
        np = nonfinite.module("numpy")
        if np is not None and isinstance(result, np.floating) and not isinstance(b, np.ndarray):
            if sites[site].role == "running":
                known = self.running.setdefault(site, Running())
                known.take(float(a), float(b) if name == "add" else -float(b), float(result))
                known.narrow = result.dtype.itemsize < 8

    def call(self, function: object, args: tuple[Any, ...], named: dict[str, object], result: Any, site: int) -> None:
        np = nonfinite.module("numpy")
        if np is None:
            return
        if seen(function, "__name__", "") == "cumsum":
            self._cumulative(np, function, args, result, site)
            return
        if function is sum:
            self._one_by_one(np, args, result, site)
            return
        if not args or seen(args[0], "shape", None) or seen(function, "__name__", "") == "sum":
            return
        known = self.casts.get(site)
        if known is None:
            known = self.casts[site] = Running()
        given, stored = float(args[0]), float(result)
        if not math.isfinite(given):
            return
        known.passes += 1
        if known.last is not None:
            step = given - known.last
            known.added += abs(step)
            known.lost += given - stored
            if step and stored == known.last:
                known.without += 1
                if not known.first:
                    known.first, known.shown = known.passes, (known.last, step)
        known.last = stored

    def _one_by_one(self, np: types.ModuleType, args: tuple[Any, ...], result: Array, site: int) -> None:
        """`sum(x)` of an array of 16 or 32 bits adds its cells one by one, in their precision."""
        cells = args[0] if args else None
        if (
            cells is None
            or type(cells) is not np.ndarray
            or cells.dtype not in (np.float32, np.float16)
            or cells.ndim != 1
        ):
            return
        right = float(np.sum(cells, dtype=np.float64))
        if (
            not right
            or not math.isfinite(right)
            or abs(float(result) - right) / abs(right) < NARROW_SHARE / 10
            or self.auditor.has(self, site)
        ):
            return
        place = self.auditor.place(site)
        self.auditor.report(
            self,
            site,
            f"{place.text} adds {cells.size:,} numbers one by one in {cells.dtype}: it is "
            f"{short(float(result))}, in float64 "
            f"{short(right)}. np.sum with dtype=float keeps it.",
            0.8,
            evidence={"sum": full(float(result)), "float64": full(right), "numbers": int(cells.size)},
            right=full(right),
        )

    def _cumulative(
        self, np: types.ModuleType, function: object, args: tuple[object, ...], result: object, site: int
    ) -> None:
        given = seen(function, "__self__", None)
        given = args[0] if args and not isinstance(given, np.ndarray) else given
        cells = np.asarray(given)
        if cells.dtype not in (np.float32, np.float16) or cells.ndim != 1 or cells.size < PASSES:
            return
        right = np.cumsum(cells, dtype=np.float64)
        last, true = float(np.asarray(result)[-1]), float(right[-1])
        if true and abs(last - true) / abs(true) > SHARE / 10 and not self.auditor.has(self, site):
            place = self.auditor.place(site)
            self.auditor.report(
                self,
                site,
                f"{place.text} sums {cells.size:,} numbers in {cells.dtype}: the last is {short(last)}, in float64 "
                f"{short(true)}.",
                0.8,
                evidence={"last": full(last), "float64": full(true), "numbers": int(cells.size)},
                right=full(true),
            )

    def forked(self) -> None:
        self.casts.clear()

    def finish(self) -> None:
        for site, known in [*self.running.items(), *self.casts.items()]:
            if known.passes < PASSES or not known.added:
                continue
            share = abs(known.lost) / known.added
            if known.narrow and share >= NARROW_SHARE:
                self._tell(site, known, share)
                continue
            if share < SHARE and known.without < max(PASSES, known.passes // 20):
                continue
            if share < SHARE / 100 or self._is_compensated(site):
                continue
            self._tell(site, known, share)

    def _is_compensated(self, site: int) -> bool:
        """A compensated sum forms again what was lost: `(t - s) - y` is in the same function."""
        place = self.auditor.place(site)
        names = {n for n in place.operand_texts() if n.isidentifier()}
        text = place.site.file.scope_text(place.site.statement)
        return any(f"- {name}) -" in text or f"-{name})-" in text for name in names) or "fsum" in text

    def _tell(self, site: int, known: Running, share: float) -> None:
        place = self.auditor.place(site)
        since = ""
        shown: list[tuple[str, str]] = []
        if known.shown is not None:
            total, step = known.shown
            since = f" since pass {known.first:,}, when {short(total)} + {short(step)} stayed {short(total)}"
            shown = list(zip(place.operand_texts(), (full(total), full(step))))
        kind = "float32" if site in self.casts or known.narrow else "float64"
        told = self.auditor.report(
            self,
            site,
            f"{place.text} loses what is added: {100 * share:.3g} % of {short(known.added)} in {known.passes:,} passes"
            f"{since}. {'float64' if kind == 'float32' else 'math.fsum or a compensated sum'} keeps it.",
            min(0.95, 0.75 + share),
            evidence={
                "passes": known.passes,
                "without effect": known.without,
                "added": full(known.added),
                "lost": full(known.lost),
                "first pass": known.first,
            },
            right=full((known.last or 0.0) + known.lost) if known.last is not None else None,
            operands=shown,
            pictures=pictures.by_pass("lost by pass", known.course, "lost"),
        )
        if told is not None:
            told.at_pass = known.first
            place.times[self.NAME] = max(1, known.without)
