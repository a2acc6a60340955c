"""What shaken runs have shown, as findings of an audit."""

from __future__ import annotations

import ast
import re
from collections.abc import Callable

from ...protocol import Finding
from ...protocol.messages import FindingLoop, Picture, PictureLine
from ..differing.places import Text
from ..sources import place_words
from .held import ALL, Held
from .judging import RESIDUAL, Blamed, Branch, Judge, Judged, Result

ELEMENTARY = {
    "log",
    "log10",
    "log2",
    "acos",
    "asin",
    "arccos",
    "arcsin",
    "acosh",
    "arccosh",
    "sqrt",
    "tan",
    "sin",
    "cos",
}
SUMS = {"sum", "nansum", "dot", "vdot", "inner", "trapezoid", "trapz", "mean", "average"}
ZERO = 1e-12  # a sum below may be zero but for rounding
BY_DESIGN = re.compile(r"two_?sum|compensat|kahan|neumaier|machine_?eps", re.IGNORECASE)  # names of functions
Path = Callable[[str], str]  # the user's file for one of the copy


def findings(judge: Judge, judged: Judged, path: Path) -> list[Finding]:
    """The blame and the branches.  `path`: gives the user's file for one of the copy."""
    found = [_of_blame(judge, one, path) for one in judged.blame]
    lost = [r for r in judged.unexplained if not r.held.whole]
    for one in judged.branches:
        if not _is_probe(judge, one) and (lost or not _ends_a_loop(judge, one)):
            found.append(_of_branch(judge, one, path, lost[0] if lost else None))
    return sorted(found, key=lambda f: (-f.weight, f.file, f.line))


def rule_of(blamed: Blamed) -> str:
    if blamed.gradual:
        return "instability"
    called = _called(blamed.node)
    return "cancellation" if not called or called in ELEMENTARY else "ill-conditioned"


def number(digits: float) -> str:
    return "all" if digits >= ALL else f"{digits:.1f}"


def _of_blame(judge: Judge, blamed: Blamed, path: Path) -> Finding:
    place, drop, result = blamed.held.place, blamed.held.drop, blamed.result
    term = judge.text(place)
    if blamed.gradual:
        since = f" From pass {blamed.at_pass:,} on fewer than 7 digits hold." if blamed.held.first_few else ""
        head = f"The digits of {term} are lost pass by pass: {number(blamed.digits)} hold in the worst pass.{since}"
    else:
        least = min(drop.operand_digits, default=ALL)
        into = "is exact" if least >= ALL else f"has {number(least)}"
        head = f"{term} has {number(drop.digits)} digits that hold; what goes into it {into}."
    if blamed.hidden:
        head += f" All runs end with the same {result.text}, but they differ on the way: it need not be right."
    elif result.held.place is not place:
        at = place_words(path(result.place.file), result.place.line)
        head += f" So {result.text} in {at} holds {number(result.digits)} digits."
    texts = judge.operand_texts(blamed.node)
    values = [repr(v) for v in drop.operands if v is not None]
    evidence: dict[str, object] = {"digits that hold": round(blamed.digits, 1)}
    if not blamed.gradual:
        evidence |= {f"digits of {t}": round(d, 1) for t, d in zip(texts, drop.operand_digits)}
    evidence |= {"result": result.text, "digits of the result": round(result.digits, 1)}
    residual = bool(RESIDUAL.search(result.text)) or _is_distance(judge, blamed)
    return placed(
        judge.matching.text(0, place.file),
        Finding(
            rule=rule_of(blamed),
            weight=0.4 if residual else 0.9 if result.digits < 3 else 0.75,
            question=residual,
            headline=head,
            file=path(place.file),
            line=place.line,
            function="",
            term=term,
            statement="",
            times=blamed.held.passes,
            at_pass=blamed.at_pass if blamed.held.passes > 1 else None,
            evidence=evidence,
            operands=list(zip(texts, values)) if not blamed.gradual else [],
            pictures=course(blamed.held),
        ),
    )


def course(held: Held) -> list[Picture]:
    """The digits by pass, as a curve; none of a single pass."""
    if len(held.course.values) < 2:
        return []
    line = PictureLine("digits", list(held.course.values), list(held.course.values))
    return [Picture("digits that hold, by pass", lines=[line], size=held.passes, first=1)]


def _of_branch(judge: Judge, branch: Branch, path: Path, lost: Result | None) -> Finding:
    term = judge.text(branch.place)
    head = f"Rounding decides {term} in pass {branch.at_pass:,}: runs with other last digits take the other branch."
    if lost is not None:
        at = place_words(path(lost.place.file), lost.place.line)
        head += f" So {lost.text} in {at} holds {number(lost.digits)} digits."
    return placed(
        judge.matching.text(0, branch.place.file),
        Finding(
            rule="float-equality",
            weight=0.7 if lost is not None else 0.5,
            question=lost is None,
            headline=head,
            file=path(branch.place.file),
            line=branch.place.line,
            function="",
            term=term,
            statement="",
            times=1,
            at_pass=branch.at_pass,
            evidence={"pass": branch.at_pass},
        ),
    )


def placed(text: Text, made: Finding) -> Finding:
    """With its function, its statement and its loop."""
    made.function = text.function_at(made.line) or "<module>"
    statement, loops = _around(text, made.line)
    lines = text.lines[statement[0] - 1 : min(statement[1], statement[0] + 3)]
    made.statement = "\n".join(lines).strip()
    if made.at_pass and len(loops) == 1 and made.function == "<module>":
        made.loops = [FindingLoop(made.file, loops[0], made.at_pass)]
    return made


def _around(text: Text, line: int) -> tuple[tuple[int, int], list[int]]:
    """First and last line of the statement at a line, and the heads of the loops around it, innermost first."""
    best, loops = (line, line), []
    for node in ast.walk(text.tree) if text.tree is not None else ():
        if isinstance(node, ast.stmt) and node.lineno <= line <= (node.end_lineno or 0):
            if isinstance(node, (ast.For, ast.While)) and node.lineno < line:
                loops.append(node.lineno)
            if not hasattr(node, "body") and node.lineno >= best[0] - 50:
                best = (node.lineno, node.end_lineno or node.lineno)
    return best, loops[::-1]


def _is_distance(judge: Judge, blamed: Blamed) -> bool:
    """Whether the result is a distance, such as `abs(new - old)`: a small one has no digits, and needs none."""
    ways = judge.ways(blamed.result.place.file)
    node = ways.node_at(blamed.result.place)
    if BY_DESIGN.search(judge.matching.text(0, blamed.held.place.file).function_at(blamed.held.place.line)):
        return True
    if _called(node) in ("abs", "fabs", "norm", "allclose", "isclose"):
        return True
    value = blamed.held.drop.value
    if _called(blamed.node) in SUMS and value is not None and abs(value) < ZERO:
        return True  # such as the integral of a sine over its period
    # The mean or sum of a difference is how far two things are from each other.
    args = blamed.node.args if isinstance(blamed.node, ast.Call) and _called(blamed.node) in SUMS else []
    return any(isinstance(n, ast.BinOp) and isinstance(n.op, ast.Sub) for a in args for n in ast.walk(a))


def _called(node: ast.AST | None) -> str:
    """The last name of what a call calls; empty for other nodes."""
    func = node.func if isinstance(node, ast.Call) else None
    return func.attr if isinstance(func, ast.Attribute) else getattr(func, "id", "")


def _is_probe(judge: Judge, branch: Branch) -> bool:
    """`1.0 + eps > 1.0`: a look for the last digit itself."""
    node = judge.ways(branch.place.file).node_at(branch.place)
    if not isinstance(node, ast.Compare) or len(node.ops) != 1:
        return False
    sides = [node.left, node.comparators[0]]
    texts = [ast.unparse(s) for s in sides]
    return any(
        isinstance(s, ast.BinOp) and other in (ast.unparse(s.left), ast.unparse(s.right))
        for s, other in zip(sides, texts[::-1])
    )


def _ends_a_loop(judge: Judge, branch: Branch) -> bool:
    """The test of a `while`, or of an `if` that leaves a loop: iterations end a pass sooner or later."""
    ways = judge.ways(branch.place.file)
    node = ways.node_at(branch.place)
    for other in ast.walk(ways.text.tree) if ways.text.tree is not None else ():
        if isinstance(other, (ast.While, ast.If)) and any(n is node for n in ast.walk(other.test)):
            leaves = any(isinstance(n, (ast.Break, ast.Return)) for s in other.body for n in ast.walk(s))
            return isinstance(other, ast.While) or leaves
    return False
