"""`cancellation`: a difference of nearly equal numbers, whose rounding errors are all that is left."""

from __future__ import annotations

import ast
import math
import types
from dataclasses import field
from typing import Any

from ...core.records import record
from ...frames.namespace import locals_of
from ...values import nonfinite
from ..decimals import Unknown
from ..figures import full
from ..finding import Place, loops_of
from ..precise import Outcome, compare
from . import one_pass_variance
from .base import Rule

LIMIT = 1e-6  # relative error of the whole expression
NEARLY = 1e-6  # a difference that is smaller than this beside its operands
BEYOND = 30  # times what half a unit in the last place of the operands would change
TRIES = 12  # evaluations of a place
SAMPLE = 4096  # cells of an array
BY_DESIGN = ("err", "resid", "tol", "discrep", "accura", "misfit", "defect", "drift")
ROOTS = ("log", "log2", "log10", "acos", "asin", "arccos", "arcsin")


@record
class Losses:
    """What is known of a place: how often it ran and lost digits, and the worst that was confirmed."""

    runs: int = 0
    lost: int = 0
    tries: int = 0
    worst: Outcome | None = None
    operands: tuple[object, object, object] | None = None
    at_pass: int = 0
    loops: list[dict[str, object]] = field(default_factory=list)
    root: str = ""


class Cancellation(Rule):
    """Confirmed by the whole expression evaluated again in higher precision (as with shadow values: Benz et al. 2012).

    Exempt: results that the last digits of the operands decide anyway (the residual near a root, the width of an
    interval), since no other formula is better; what is compared with a tolerance, or is called an error or a residual;
    places that lose digits in less than half of their passes; compensated sums.

    The mean of squares less the square of the mean needs no second evaluation: its operands have lost what it needs
    (Chan, Golub & LeVeque 1983).
    """

    NAME = "cancellation"
    AT_ONCE = False
    WANTS = ("sub", "add", *(f"call:{name}" for name in ROOTS))
    SCALARS = True
    SCREEN = "cancels"
    TAKES = frozenset({"array", "frame"})

    def scalars(self, name: str, a: object, b: object, result: object, site: int) -> None:
        self._lost(a, b, result, site)

    def operator(self, name: str, a: object, b: object, result: Any, site: int) -> None:
        np = nonfinite.module("numpy")
        if np is None or not (type(result) in (np.float64, np.ndarray, np.ma.MaskedArray) or _is_column(result)):
            return
        if result.dtype != np.float64 or not result.size:
            return
        losses = self._losses(site)
        losses.runs += 1
        if losses.tries >= TRIES:
            return
        largest = max(_largest(np, a), _largest(np, b))
        if _largest(np, result) < NEARLY * largest:
            self._lost(a, b, result, site)

    def call(self, function: object, args: tuple[Any, ...], named: object, result: object, site: int) -> None:
        if len(args) != 1:
            return
        np, x = nonfinite.module("numpy"), args[0]
        if type(x) is not float and (
            np is None or not (isinstance(x, (np.float64, np.ndarray)) or _is_column(x)) or x.dtype != np.float64
        ):
            return
        losses = self._losses(site)
        losses.runs += 1
        if losses.tries >= TRIES or not getattr(x, "size", 1):
            return
        if type(x) is float:
            off = abs(abs(x) - 1.0)
        else:
            off = float(np.max(np.abs(np.abs(np.ravel(x)[:SAMPLE]) - 1.0)))
        if off < NEARLY:
            self._lost(x, None, result, site)

    def _losses(self, site: int) -> Losses:
        place = self.auditor.place(site)
        found = place.kept.get(self.NAME)
        if found is None:
            found = place.kept[self.NAME] = Losses()
        return found

    def _lost(self, a: object, b: object, result: object, site: int) -> None:
        losses = self._losses(site)
        losses.lost += 1
        if losses.tries >= TRIES or (losses.lost > 4 and losses.lost & (losses.lost - 1)):
            return
        losses.tries += 1
        place = self.auditor.place(site)
        frame = self.auditor.user_frame()
        if "root" not in place.kept:
            place.kept["root"] = None if _is_by_design(place) else _root(place)
            place.kept["one pass"] = one_pass_variance.is_one(place)
        root, one_pass = place.kept["root"], place.kept["one pass"]
        if frame is None or (root is None and not one_pass):
            losses.tries = TRIES
            return
        outcome = self._confirmed(root, place, frame) if root is not None else None
        if outcome is not None and (losses.worst is None or outcome.error > losses.worst.error):
            losses.worst, losses.root = outcome, place.text_of(root)
        elif outcome is not None or not (one_pass and self._little_is_left(a, result)):
            return
        losses.operands, losses.at_pass, losses.loops = (a, b, result), self.auditor.present_pass(), loops_of(frame)

    @staticmethod
    def _confirmed(root: ast.expr, place: Place, frame: types.FrameType) -> Outcome | None:
        try:
            outcome = compare(root, place.scope, {**frame.f_globals, **locals_of(frame)})
        except Unknown:
            return None
        return outcome if outcome.error >= max(LIMIT, BEYOND * outcome.inherent) and outcome.exact else None

    @staticmethod
    def _little_is_left(a: object, result: object) -> bool:
        """Of a variance by one pass; 0 is right where all values are the same."""
        np = nonfinite.module("numpy")
        if np is not None:
            size, left = _largest(np, a), _largest(np, result)
        elif isinstance(a, (int, float)) and isinstance(result, (int, float)):
            size, left = abs(a), abs(result)
        else:
            return False
        return 0 < left < one_pass_variance.LITTLE * size

    def forked(self) -> None:
        for place in self.auditor.places.values():
            place.kept.pop(self.NAME, None)

    def finish(self) -> None:
        for site, place in list(self.auditor.places.items()):
            losses: Losses | None = place.kept.get(self.NAME)
            if losses is None or losses.operands is None:
                continue
            runs = losses.runs or self.auditor.passes[site] or losses.lost
            if 2 * losses.lost >= runs:
                self._tell(site, place, losses)

    def _tell(self, site: int, place: Place, losses: Losses) -> None:
        a, b, result = losses.operands or (None, None, None)
        scalars = not any(getattr(v, "ndim", 0) for v in (a, b, result))
        shown = "its operands are nearly equal"
        if scalars and b is not None:
            shown = f"{full(a)} and {full(b)} differ by {full(result)} only"
        elif scalars:
            shown = f"the argument {full(a)} is all that is left of what was added to 1"
        said, weight, right, evidence = self._of_one_pass(result) if losses.worst is None else self._of(place, losses)
        told = self.auditor.report(
            self,
            site,
            f"{place.text} cancels: {shown}. {said}",
            weight,
            evidence=evidence,
            right=right,
            operands=list(zip(place.operand_texts(), (full(v) for v in (a, b) if v is not None))) if scalars else [],
        )
        if told is not None:
            told.at_pass, told.loops = losses.at_pass, losses.loops
            place.times[self.NAME] = losses.lost

    @staticmethod
    def _of_one_pass(result: object) -> tuple[str, float, str | None, dict[str, object]]:
        said = (
            "The mean of squares less the square of the mean has lost the digits of a variance this small: `np.var`, "
            "or the squares of the differences from the mean, keep them."
        )
        return said, 0.9, None, {"stored": repr(result)}

    @staticmethod
    def _of(place: Place, losses: Losses) -> tuple[str, float, str | None, dict[str, object]]:
        worst, root = losses.worst, losses.root
        assert worst is not None
        digits = max(0, int(-math.log10(worst.error))) if worst.error < 1 else 0
        left = f"{digits} of 16 digits hold" if digits else "no digit holds"
        left = f"{root}: {left}" if root != place.text else left.capitalize()
        said = f"{left}: it is {worst.stored:.6g}, and {worst.exact:.6g} in higher precision."
        evidence = {"stored": repr(worst.stored), "exact": repr(worst.exact), "digits": digits, "expression": root}
        return said, 0.9 if digits < 3 else 0.75, repr(worst.exact), evidence


def _is_column(value: object) -> bool:
    pd = nonfinite.module("pandas")
    return pd is not None and type(value) is pd.Series


def _largest(np: types.ModuleType, value: object) -> float:
    cells = np.ma.compressed(value) if isinstance(value, np.ma.MaskedArray) else np.ravel(value)
    step = max(1, cells.size // SAMPLE)
    cells = cells[::step]
    cells = cells[np.isfinite(cells)] if cells.dtype.kind == "f" else cells  # of a column some are missing
    return float(np.max(np.abs(cells))) if cells.size and cells.dtype.kind in "fi" else 0.0


def _root(place: Place) -> ast.expr | None:
    """The largest expression around the term that is arithmetic."""
    root = place.node
    for outer in place.around:
        if isinstance(outer, (ast.BinOp, ast.UnaryOp)) or (isinstance(outer, ast.Call) and _is_function(outer, root)):
            root = outer
        else:
            break
    return root if isinstance(root, ast.expr) else None


def _is_function(call: ast.Call, inner: ast.AST) -> bool:
    """Whether a call is one of a function of numbers, of the term."""
    owner = getattr(getattr(call.func, "value", None), "id", "")
    return inner in call.args and (owner in ("math", "np", "numpy") or getattr(call.func, "id", "") in ("abs", "float"))


def _is_by_design(place: Place) -> bool:
    """Whether the loss does no harm: the term is compared, or is meant to be the error of something."""
    statement: ast.AST = place.node
    for outer in place.around:
        if isinstance(outer, (ast.Compare, ast.Assert)):
            return True
        if isinstance(outer, ast.stmt):
            statement = outer
            break
    if _gives_back(place):
        return True
    targets = statement.targets if isinstance(statement, ast.Assign) else []
    names = {n.id for t in targets for n in ast.walk(t) if isinstance(n, ast.Name)}
    scope = place.scope
    words = " ".join([*names, getattr(scope, "name", ""), place.statement]).lower()
    if any(word in words for word in BY_DESIGN):
        return True
    for node in ast.walk(scope):
        if isinstance(node, ast.Compare) and any(isinstance(n, ast.Name) and n.id in names for n in ast.walk(node)):
            return True
    return False


def _gives_back(place: Place) -> bool:
    """`(a + b) - a`, where `s = a + b` may stand for the sum: compensated sums ask so what was rounded away."""
    term = place.node
    if not isinstance(term, ast.BinOp):
        return False
    sums = [term.left, term.right]
    for node in ast.walk(place.scope):
        if isinstance(node, ast.Assign) and len(node.targets) == 1 and isinstance(node.targets[0], ast.Name):
            if node.targets[0].id in {getattr(term.left, "id", ""), getattr(term.right, "id", "")}:
                sums.append(node.value)
    operands = {ast.unparse(term.left), ast.unparse(term.right)}
    for one in sums:
        if isinstance(one, ast.BinOp) and isinstance(one.op, (ast.Add, ast.Sub)):
            if isinstance(one.left, (ast.Name, ast.Attribute)) and isinstance(one.right, (ast.Name, ast.Attribute)):
                if operands & {ast.unparse(one.left), ast.unparse(one.right)}:
                    return True
    return False
