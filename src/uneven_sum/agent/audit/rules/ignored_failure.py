"""`ignored-failure`: a solver came back unsuccessful, and the script does not look at that."""

from __future__ import annotations

from typing import Any

from ..figures import seen
from .base import Rule

CALLS = (
    *("minimize", "minimize_scalar", "root", "root_scalar", "least_squares", "linprog", "differential_evolution"),
    *("solve_ivp", "basinhopping", "dual_annealing", "milp", "solve_bvp", "odeint", "quad", "curve_fit", "fsolve"),
)
LOOKS = (".success", ".status", ".message", "converged", "['success']", '["success"]', "full_output", "infodict", "ier")


class IgnoredFailure(Rule):
    NAME = "ignored-failure"
    WANTS = tuple(f"call:{name}" for name in CALLS)

    def call(
        self, function: object, args: tuple[Any, ...], named: dict[str, Any], result: object, site: int, kept: object
    ) -> None:
        success = seen(result, "success", seen(result, "converged", None))
        if success is None or bool(success):
            return
        place = self.auditor.place(site)
        found = place.site.file.statement(place.site.statement)
        scope: Any = found.scope if found is not None else None
        lines = place.site.file.lines
        text = "\n".join(lines[scope.lineno - 1 : scope.end_lineno] if hasattr(scope, "lineno") else lines)
        if any(sign in text for sign in LOOKS) or self.auditor.has(self, site):
            return
        said = str(seen(result, "message", seen(result, "flag", "")))[:160].strip()
        self.auditor.report(
            self,
            site,
            f"{place.text} was not successful, and the script uses its values without a look at that: "
            f"{said.rstrip('.') or 'no message'}.",
            0.85,
            evidence={"message": said, "success": False},
        )
