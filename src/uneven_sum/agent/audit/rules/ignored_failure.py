"""`ignored-failure`: a solver came back unsuccessful, and the script does not look at that."""

from __future__ import annotations

import ast

from ..figures import seen
from .base import Rule

ITERATIVE = ("cg", "cgs", "bicg", "bicgstab", "gmres", "lgmres", "minres", "qmr", "gcrotmk", "tfqmr")  # give (x, info)
CALLS = (
    *("minimize", "minimize_scalar", "root", "root_scalar", "least_squares", "linprog", "differential_evolution"),
    *ITERATIVE,
    *("solve_ivp", "basinhopping", "dual_annealing", "milp", "solve_bvp", "odeint", "quad", "curve_fit", "fsolve"),
)
LOOKS = (".success", ".status", ".message", "converged", "['success']", '["success"]', "full_output", "infodict", "ier")


class IgnoredFailure(Rule):
    NAME = "ignored-failure"
    WANTS = tuple(f"call:{name}" for name in CALLS)

    def call(
        self, function: object, args: tuple[object, ...], named: dict[str, object], result: object, site: int
    ) -> None:
        name = seen(function, "__name__", "")
        if type(result) is tuple and name in ITERATIVE and len(result) == 2 and type(result[1]) is int:
            if result[1]:
                self._unread(site, 1, f"info is {result[1]}, and 0 is success")
            return
        if type(result) is tuple and name == "fsolve" and len(result) == 4:
            if result[2] != 1:
                self._unread(site, 2, " ".join(str(result[3]).split()).rstrip("."))
            return
        success = seen(result, "success", seen(result, "converged", None))
        if success is None or bool(success):
            return
        place = self.auditor.place(site)
        text = place.site.file.scope_text(place.site.statement)
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

    def _unread(self, site: int, at: int, said: str) -> None:
        """A tuple's part that says how it went is thrown away, or stored under a name that is not read."""
        place = self.auditor.place(site)
        outer = next(iter(place.around), None)
        target = outer.targets[0] if isinstance(outer, ast.Assign) else None
        if isinstance(target, ast.Tuple) and len(target.elts) > at:
            name = getattr(target.elts[at], "id", "")
            reads = [n for n in ast.walk(place.scope) if isinstance(n, ast.Name) and isinstance(n.ctx, ast.Load)]
            if any(n.id == name for n in reads):
                return
        elif isinstance(target, ast.Name):
            return  # the whole result is kept: where its parts go is not known
        if self.auditor.has(self, site):
            return
        self.auditor.report(
            self,
            site,
            f"{place.text} was not successful, and the script uses its values without a look at that: {said}.",
            0.85,
            evidence={"message": said, "success": False},
        )
