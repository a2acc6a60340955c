"""Versions of a line for what an audit has found: an integer that wraps, floats compared, unsorted x, cancellation."""

from __future__ import annotations

import ast
import re
import textwrap
from dataclasses import dataclass

from ..protocol import Finding
from .error_repairs import texts_converted
from .fault import Fault, Repair, beside, find_term, numpy_in, runnable


def finding_repairs(finding: Finding, source: str) -> list[Repair]:
    """Versions of the line of a finding; empty where none is known.  `source`: the text of its file."""
    statement = textwrap.dedent(finding.statement)
    term = str(finding.evidence.get("expression") or finding.term)
    node = find_term(statement, term) or find_term(statement, finding.term)
    make = KINDS.get(finding.rule)
    if node is None or make is None:
        return []
    fault = Fault(statement, node, finding.rule, numpy_in(source), finding.cell is not None, False)
    return runnable(make(fault, _math_in(source), statement))


def _math_in(source: str) -> str:
    return "math" if re.search(r"^\s*import math\s*$|^\s*import .*\bmath\b", source, re.M) else ""


def _wrap(fault: Fault, math: str, statement: str) -> list[Repair]:
    """An integer that leaves its width."""
    node = fault.node
    if isinstance(node, ast.BinOp):
        first = node.left
    elif isinstance(node, ast.Call) and node.args:
        first = node.args[0]
    elif isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute):
        first = node.func.value
    else:
        return []
    text = beside(first)
    return [
        Repair("widen to int64", fault.with_term(f'{text}.astype("int64")', first), "int64 holds each result."),
        Repair("compute as float", fault.with_term(f"{text}.astype(float)", first), "Up to 2**53 floats are exact."),
    ]


def _equality(fault: Fault, math: str, statement: str) -> list[Repair]:
    """Floats that are compared for equality."""
    node = fault.node
    if not isinstance(node, ast.Compare) or len(node.ops) != 1:
        return []
    a, b = ast.unparse(node.left), ast.unparse(node.comparators[0])
    op = node.ops[0]
    if not isinstance(op, (ast.Eq, ast.NotEq)):
        return []
    no = "not " if isinstance(op, ast.NotEq) else ""
    said = "Relative differences up to 1e-9 do not count."
    near = f"{no}math.isclose({a}, {b})"
    found = []
    if fault.cells and fault.numpy:
        near = f"{'~' if no else ''}{fault.numpy}.isclose({a}, {b})"
        found.append(
            Repair("compare within 1e-5", fault.with_term(near), "Relative differences up to 1e-5 do not count.")
        )
    elif math:
        found.append(Repair("use isclose", fault.with_term(near), said))
    elif fault.numpy:
        near = f"{no}{fault.numpy}.isclose({a}, {b}, rtol=1e-9, atol=0.0)"
        found.append(Repair("use isclose", fault.with_term(near), said))
    if not fault.cells:
        sign = ">" if no else "<="
        apart = f"abs({a} - {b}) {sign} 1e-9 * max(abs({a}), abs({b}))"
        found.append(Repair("set a tolerance", fault.with_term(apart), said))
        rounded = f"round({a}, 9) {'!=' if no else '=='} round({b}, 9)"
        found.append(Repair("compare rounded", fault.with_term(rounded), "Nine decimals are meant."))
    return found


def _unsorted(fault: Fault, math: str, statement: str) -> list[Repair]:
    """`interp` or `searchsorted` with x out of order."""
    node, np = fault.node, fault.numpy
    if not isinstance(node, ast.Call) or not np:
        return []
    name = ast.unparse(node.func).rpartition(".")[2]
    if name == "interp" and len(node.args) >= 3:
        x, y = (beside(one) for one in node.args[1:3])
        by_size = f"{np}.argsort({ast.unparse(node.args[1])})"
        ordered = with_arguments(node, {1: f"{np}.asarray({x})[{by_size}]", 2: f"{np}.asarray({y})[{by_size}]"})
        turned = with_arguments(node, {1: f"{x}[::-1]", 2: f"{y}[::-1]"})
        return [
            Repair("sort first", fault.with_term(ordered), "The order of the points has no meaning."),
            Repair("turn round", fault.with_term(turned), f"{x} falls all along."),
        ]
    if name == "searchsorted" and node.args:
        a = ast.unparse(node.args[0])
        return [
            Repair(
                "sort first", fault.with_term(f"{np}.sort({a})", node.args[0]), "Places in the sorted values are meant."
            )
        ]
    return []


def with_arguments(node: ast.Call, texts: dict[int, str]) -> str:
    """A call with other texts of some positional arguments."""
    given = [texts.get(number, ast.unparse(one)) for number, one in enumerate(node.args)]
    return f"{ast.unparse(node.func)}({', '.join([*given, *(ast.unparse(one) for one in node.keywords)])})"


def _cancellation(fault: Fault, math: str, statement: str) -> list[Repair]:
    """A difference of nearly equal numbers, where a stable form is known."""
    node = fault.node
    roots = _quadratic(node)
    if roots:
        said = "The same root, without the difference."
        return [
            Repair("take the stable root", fault.with_term(roots[0]), said),
            Repair("divide by the other", fault.with_term(roots[1]), said),
        ]
    for part in ast.walk(node):
        if not isinstance(part, ast.expr):
            continue
        forms = _stable(part)
        if forms is not None:
            whole = ast.unparse(part)
            if forms.x and fault.cells and fault.numpy:
                near = f"{fault.numpy}.where({fault.numpy}.abs({forms.x}) < {SMALL}, {forms.series}, {whole})"
            elif forms.x:
                near = f"({forms.series} if abs({forms.x}) < {SMALL} else {whole})"
            else:
                near = forms.series
            return [
                Repair(forms.name, fault.with_term(forms.text, part), "The same value, without the difference."),
                Repair("use a series", fault.with_term(near, part), forms.assumes),
            ]
    return []


SMALL = "1e-5"


@dataclass(frozen=True)
class Forms:
    """`text`: a form that does not cancel, `name`: what that does; `series`: a near one for small `x` (empty: it holds
    everywhere), with what that assumes."""

    name: str
    text: str
    series: str
    x: str
    assumes: str = f"Below {SMALL} the next term is too small to count."


def _stable(node: ast.expr) -> Forms | None:
    """Forms of one term that do not cancel; None where none is known."""
    if isinstance(node, ast.Call) and len(node.args) == 1:
        owner, _, name = ast.unparse(node.func).rpartition(".")
        argument = node.args[0]
        if name == "log" and owner and isinstance(argument, ast.BinOp) and isinstance(argument.op, ast.Add):
            for one, rest in ((argument.left, argument.right), (argument.right, argument.left)):
                if _is(one, 1):
                    x = ast.unparse(rest)
                    y = _in_brackets(x)
                    return Forms("use log1p", f"{owner}.log1p({x})", f"{y} - {y}**2 / 2", x)
        return None
    if not (isinstance(node, ast.BinOp) and isinstance(node.op, ast.Sub)):
        return None
    a, b = node.left, node.right
    owner, name, x = _called(a)
    if name == "exp" and owner and _is(b, 1):
        y = _in_brackets(x)
        return Forms("use expm1", f"{owner}.expm1({x})", f"{y} + {y}**2 / 2", x)
    owner, name, x = _called(b)
    if name == "cos" and owner and _is(a, 1):
        y = _in_brackets(x)
        return Forms("use the half angle", f"2.0 * {owner}.sin({y} / 2.0)**2", f"{y}**2 / 2", x)
    (mine, first, p), (other, second, q) = _called(a), _called(b)
    if first == second == "sqrt" and mine == other:
        apart = f"(({p}) - ({q}))"
        stable = f"{apart} / ({ast.unparse(a)} + {ast.unparse(b)})"
        near = f"{apart} / (2.0 * {ast.unparse(a)})"
        return Forms("multiply by the sum", stable, near, "", "The two are nearly equal always.")
    return None


def _in_brackets(text: str) -> str:
    """A term that may stand beside any operator."""
    return beside(ast.parse(text, mode="eval").body)


def _called(node: ast.expr) -> tuple[str, str, str]:
    """Owner, name and argument of a call with one argument."""
    if not (isinstance(node, ast.Call) and len(node.args) == 1 and not node.keywords):
        return "", "", ""
    owner, _, name = ast.unparse(node.func).rpartition(".")
    return owner, name, ast.unparse(node.args[0])


def _is(node: ast.expr, number: float) -> bool:
    return isinstance(node, ast.Constant) and node.value == number


def _quadratic(node: ast.expr) -> list[str]:
    """`(-b + sqrt(b*b - 4*a*c)) / (2*a)` by the root that does not cancel: `2*c / (-b - sqrt(…))`, and by that root as
    it is."""
    if not (isinstance(node, ast.BinOp) and isinstance(node.op, ast.Div) and isinstance(node.left, ast.BinOp)):
        return []
    over, under = node.left, node.right
    if not isinstance(over.op, (ast.Add, ast.Sub)) or not isinstance(over.left, ast.UnaryOp):
        return []
    root = over.right
    if not (isinstance(root, ast.Call) and ast.unparse(root.func).endswith("sqrt") and root.args):
        return []
    inner = root.args[0]
    factors = _factors(inner.right) if isinstance(inner, ast.BinOp) and isinstance(inner.op, ast.Sub) else []
    below = _factors(under)
    a = [f for f in below if not _is(f, 2)]
    c = [f for f in factors if not _is(f, 4) and ast.dump(f) not in {ast.dump(one) for one in a}]
    if len(a) != 1 or len(below) != 2 or len(factors) != 3 or len(c) != 1:
        return []
    sign = "-" if isinstance(over.op, ast.Add) else "+"
    stable = f"({ast.unparse(over.left)} {sign} {ast.unparse(root)})"
    texts = [beside(c[0]), beside(a[0])]
    return [f"2.0 * {texts[0]} / {stable}", f"{texts[0]} / ({texts[1]} * ({stable} / ({ast.unparse(under)})))"]


def _factors(node: ast.expr) -> list[ast.expr]:
    if isinstance(node, ast.BinOp) and isinstance(node.op, ast.Mult):
        return [*_factors(node.left), *_factors(node.right)]
    return [node]


def _texts(fault: Fault, math: str, statement: str) -> list[Repair]:
    """Texts that are numbers."""
    node = fault.node
    if not isinstance(node, ast.BinOp):
        return []
    texts = [ast.unparse(node.left)]
    if isinstance(node.op, ast.Add):
        texts.append(ast.unparse(node.right))
    return [one for one in texts_converted(fault, texts) if one.name != "join as texts"]


KINDS = {
    "cancellation": _cancellation,
    "float-equality": _equality,
    "text-arithmetic": _texts,
    "unsorted": _unsorted,
    "wrap": _wrap,
}
