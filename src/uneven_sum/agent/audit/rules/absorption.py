"""`absorption`: a running sum does not take what is added, since it is too large for it."""

from __future__ import annotations

from typing import Any

from ...source.sites import sites
from ...values import nonfinite
from ..figures import full, seen, short
from .base import Rule

PASSES = 50  # of one place, at least
SHARE = 0.01  # of what was added that was lost


class Running:
    """What is known of a running sum: additions, what was added and lost, the first pass without effect."""

    __slots__ = ("added", "first", "last", "lost", "passes", "shown", "start", "taken", "without")

    def __init__(self) -> None:
        self.passes = self.without = self.first = 0
        self.added = self.lost = 0.0
        self.shown: Any = None  # operands at the first pass without effect
        self.last: Any = None
        self.start: Any = None
        self.taken: Any = None


class Absorption(Rule):
    """Errors of additions by Fast2Sum (Dekker 1971): `lost = b - ((a + b) - a)` for |a| ≥ |b|.

    Exempt where what was lost is formed again in the same function, as compensated sums do.
    """

    NAME = "absorption"
    WANTS = ("add", "sub", "call:float32", "call:float16", "call:cumsum")
    SCALARS = True
    SCREEN = "running"

    def __init__(self, auditor: Any) -> None:
        super().__init__(auditor)
        self.running: dict[int, Running] = {}
        self.casts: dict[int, Running] = {}
        self.is_running: dict[int, bool] = {}

    def scalars(self, name: str, a: Any, b: Any, result: Any, site: int) -> None:
        known = self.running.get(site)
        if known is None:
            if not self._runs(site):
                return
            known = self.running[site] = Running()
        known.passes += 1
        if type(result) is not float:
            return
        small = b if name == "add" else -b
        if (a if a >= 0 else -a) < (b if b >= 0 else -b):
            a, small = small, a
        lost = small - (result - a)
        known.added += small if small >= 0 else -small
        if lost:
            known.lost += lost
            if result == a:
                known.without += 1
                if not known.first:
                    known.first, known.shown = known.passes, (a, small)
        known.last = result

    def _runs(self, site: int) -> bool:
        found = self.is_running.get(site)
        if found is None:
            found = self.is_running[site] = sites[site].role == "running"
        return found

    def operator(self, name: str, a: Any, b: Any, result: Any, site: int) -> None:
        np = nonfinite.module("numpy")
        if np is not None and isinstance(result, np.floating) and not isinstance(b, np.ndarray) and self._runs(site):
            known = self.running.setdefault(site, Running())
            known.passes += 1
            x, y, r = float(a), float(b) if name == "add" else -float(b), float(result)
            if abs(x) < abs(y):
                x, y = y, x
            lost = y - (r - x)
            known.added += abs(y)
            known.lost += lost
            if lost and r == x:
                known.without += 1
                if not known.first:
                    known.first, known.shown = known.passes, (x, y)
            known.last = r

    def call(
        self, function: Any, args: tuple[Any, ...], named: dict[str, Any], result: Any, site: int, kept: Any
    ) -> None:
        np = nonfinite.module("numpy")
        if np is None:
            return
        if seen(function, "__name__", "") == "cumsum":
            self._cumulative(np, function, args, result, site)
            return
        if not args or seen(args[0], "shape", None):
            return
        known = self.casts.get(site)
        if known is None:
            known = self.casts[site] = Running()
        known.passes += 1
        given, stored = float(args[0]), float(result)
        if known.last is not None:
            step = given - known.last
            known.added += abs(step)
            known.lost += given - stored
            if step and stored == known.last:
                known.without += 1
                if not known.first:
                    known.first, known.shown = known.passes, (known.last, step)
        known.last = stored

    def _cumulative(self, np: Any, function: Any, args: tuple[Any, ...], result: Any, site: int) -> None:
        given = seen(function, "__self__", None)
        given = args[0] if args and not isinstance(given, np.ndarray) else given
        cells = np.asarray(given)
        if cells.dtype != np.float32 or cells.ndim != 1 or cells.size < PASSES:
            return
        right = np.cumsum(cells, dtype=np.float64)
        last, true = float(np.asarray(result)[-1]), float(right[-1])
        if true and abs(last - true) / abs(true) > SHARE / 10 and not self.auditor.has(self, site):
            place = self.auditor.place(site)
            self.auditor.report(
                self,
                site,
                f"{place.text} sums {cells.size:,} numbers in float32: the last is {short(last)}, in float64 "
                f"{short(true)}.",
                0.8,
                evidence={"last": full(last), "float64": full(true), "numbers": int(cells.size)},
                right=full(true),
            )

    def finish(self) -> None:
        for site, known in [*self.running.items(), *self.casts.items()]:
            if known.passes < PASSES or not known.added:
                continue
            share = abs(known.lost) / known.added
            if share < SHARE and known.without < max(PASSES, known.passes // 20):
                continue
            if share < SHARE / 100 or self._is_compensated(site):
                continue
            self._tell(site, known, share)

    def _is_compensated(self, site: int) -> bool:
        """A compensated sum forms again what was lost: `(t - s) - y` is in the same function."""
        place = self.auditor.place(site)
        names = {n for n in place.operand_texts() if n.isidentifier()}
        found = place.site.file.statement(place.site.statement)
        text = place.site.file.text
        if found is not None and hasattr(found.scope, "lineno"):
            scope: Any = found.scope
            text = "\n".join(place.site.file.lines[scope.lineno - 1 : scope.end_lineno])
        return any(f"- {name}) -" in text or f"-{name})-" in text for name in names) or "fsum" in text

    def _tell(self, site: int, known: Running, share: float) -> None:
        place = self.auditor.place(site)
        since = ""
        shown: list[tuple[str, str]] = []
        if known.first:
            total, step = known.shown
            since = f" since pass {known.first:,}, when {short(total)} + {short(step)} stayed {short(total)}"
            shown = list(zip(place.operand_texts(), (full(total), full(step))))
        kind = "float32" if site in self.casts else "float64"
        told = self.auditor.report(
            self,
            site,
            f"{place.text} loses what is added: {100 * share:.2g} % of {short(known.added)} in {known.passes:,} passes"
            f"{since}. {'float64' if kind == 'float32' else 'math.fsum or a compensated sum'} keeps it.",
            min(0.95, 0.6 + share),
            evidence={
                "passes": known.passes,
                "without effect": known.without,
                "added": full(known.added),
                "lost": full(known.lost),
                "first pass": known.first,
            },
            right=full((known.last or 0.0) + known.lost) if known.last is not None else None,
            operands=shown,
        )
        if told is not None:
            told.at_pass = known.first
            place.times[self.NAME] = max(1, known.without)
