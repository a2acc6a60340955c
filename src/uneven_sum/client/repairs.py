"""Versions of a line that practitioners write where a known reason stopped it.  None is called right: each says what it
assumes."""

from __future__ import annotations

import ast
from collections.abc import Callable

from ..protocol import Facts
from . import error_repairs, usage_repairs
from .fault import Fault, Repair, fault_of, left_out, missing, parsed, runnable, with_part

LARGEST = "700.0"  # exp of more overflows


def repairs(facts: Facts, source: str) -> list[Repair]:
    """Versions of the paused statement for its reason; empty where none is known.  `source`: the text of its file."""
    fault = fault_of(facts, source)
    if fault is None:
        return []
    make = KINDS.get(fault.reason)
    found = make(fault) if make is not None else []
    if fault.reason == "overflow":
        found = [*stable_forms(fault), *found]
    return runnable(found)


def stable_forms(fault: Fault) -> list[Repair]:
    """Other forms of the expression around a term that overflows."""
    tree = parsed(fault.statement)
    for node in ast.walk(tree or fault.node):
        if not isinstance(node, ast.Call) or not node.args or node is fault.node:
            continue
        inner, name = node.args[0], ast.unparse(node.func)
        if ast.dump(fault.node) not in {ast.dump(n) for n in ast.walk(inner)}:
            continue
        owner = name.rpartition(".")[0]
        if name.endswith("log") and isinstance(fault.node, ast.Call) and _is_sum_of_exp(inner, fault.node):
            x = ast.unparse(fault.node.args[0])
            top = f"{fault.numpy}.max({x})" if fault.cells and fault.numpy else f"max({x})"
            text = ast.unparse(with_part(inner, fault.node.args[0], f"{x} - {top}"))
            form = fault.with_term(f"({top} + {name}({text}))", node)
            return [Repair("take the largest out", form, "The same value: log-sum-exp without overflow.")]
        squares = _squares(inner)
        if name.endswith("sqrt") and squares and owner:
            form = fault.with_term(f"{owner}.hypot({', '.join(squares)})", node)
            a, b = squares
            top = f"{fault.numpy}.maximum(abs({a}), abs({b}))" if fault.cells else f"max(abs({a}), abs({b}))"
            scaled = f"({top} * {name}((({a}) / {top}) ** 2 + (({b}) / {top}) ** 2))"
            return [
                Repair("use hypot", form, "The same value, without the squares."),
                Repair("scale by the larger", fault.with_term(scaled, node), "The two are never both 0."),
            ]
    return []


def _is_sum_of_exp(node: ast.expr, exp: ast.expr) -> bool:
    return isinstance(node, ast.Call) and ast.unparse(node.func).endswith("sum") and ast.unparse(exp).count("exp(") == 1


def _squares(node: ast.expr) -> list[str]:
    """The bases of `a**2 + b**2` or `a*a + b*b`; empty for all else."""
    if not (isinstance(node, ast.BinOp) and isinstance(node.op, ast.Add)):
        return []
    found = [_base_of_square(part) for part in (node.left, node.right)]
    return [one for one in found if one] if all(found) else []


def _base_of_square(node: ast.expr) -> str:
    if not isinstance(node, ast.BinOp):
        return ""
    if isinstance(node.op, ast.Pow) and isinstance(node.right, ast.Constant) and node.right.value in (2, 2.0):
        return ast.unparse(node.left)
    same = isinstance(node.op, ast.Mult) and ast.dump(node.left) == ast.dump(node.right)
    return ast.unparse(node.left) if same else ""


def _negative(fault: Fault) -> list[Repair]:
    """A root or a fractional power of a negative number."""
    base = _base(fault.node)
    if base is None:
        return []
    x, np = ast.unparse(base), fault.numpy
    low = f"{np}.maximum({x}, 0.0)" if fault.cells and np else f"max({x}, 0.0)"
    size = ast.unparse(with_part(fault.node, base, f"abs({x})"))
    sign = f"{np}.sign({x}) * {size}" if np else f"(1 if {x} >= 0 else -1) * {size}"
    return [
        Repair("clamp to zero", fault.with_term(low, base), f"Where {x} is negative it counts as 0."),
        missing(fault, f"{x} >= 0", ast.unparse(with_part(fault.node, base, low))),
        *left_out(fault, f"{x} < 0", "A pass with a negative value has no result."),
        Repair("keep the sign", fault.with_term(f"({sign})"), "The law is the same in both directions."),
    ]


def _base(node: ast.expr) -> ast.expr | None:
    if isinstance(node, ast.BinOp) and isinstance(node.op, ast.Pow):
        return node.left
    return node.args[0] if isinstance(node, ast.Call) and node.args else None


def _logarithm(fault: Fault) -> list[Repair]:
    base = _base(fault.node)
    if base is None or not isinstance(fault.node, ast.Call):
        return []
    x, np = ast.unparse(base), fault.numpy
    low = f"{np}.maximum({x}, 1e-12)" if fault.cells and np else f"max({x}, 1e-12)"
    found = [
        Repair("set a lower limit", fault.with_term(low, base), f"{x} below 1e-12 counts as 1e-12: choose the limit.")
    ]
    function = ast.unparse(fault.node.func)
    if function.endswith("log") and fault.reason == "log-of-zero":
        text = fault.with_term(f"{function}1p({x})")
        found.append(Repair("add one", text, "log(1 + x) is meant; all results change."))
    safe = ast.unparse(with_part(fault.node, base, f"{np}.where({x} > 0, {x}, 1.0)")) if np else ""
    found.append(missing(fault, f"{x} > 0", safe))
    return [*found, *left_out(fault, f"{x} <= 0", "A pass without a logarithm has no result.")]


def _division(fault: Fault) -> list[Repair]:
    node, np = fault.node, fault.numpy
    if not (isinstance(node, ast.BinOp) and isinstance(node.op, (ast.Div, ast.FloorDiv, ast.Mod))):
        return []
    b = ast.unparse(node.right)
    condition = ast.unparse(ast.Compare(node.right, [ast.NotEq()], [ast.Constant(0)]))
    safe = ""
    if fault.cells and np:
        divisor = ast.parse(f"{np}.where({b} == 0, 1.0, {b})", mode="eval").body
        safe = ast.unparse(ast.BinOp(node.left, node.op, divisor))
    low = f"{np}.maximum({b}, 1e-12)" if fault.cells and np else f"max({b}, 1e-12)"
    zero = fault.with_term(fault.where(condition, safe, "0.0"))
    return [
        Repair("count as zero", zero, f"Where {b} is 0 the result is 0."),
        missing(fault, condition, safe),
        *left_out(fault, f"{b} == 0", f"A pass in which {b} is 0 has no result."),
        Repair("set a lower limit", fault.with_term(low, node.right), f"{b} is never negative; choose the limit."),
    ]


def _too_large(fault: Fault) -> list[Repair]:
    node, np = fault.node, fault.numpy
    if not (isinstance(node, ast.Call) and node.args):
        return []
    x = ast.unparse(node.args[0])
    high = f"{np}.minimum({x}, {LARGEST})" if np else f"min({x}, {LARGEST})"
    found = [Repair("set an upper limit", fault.with_term(high, node.args[0]), "What is larger is as good as that.")]
    found.append(missing(fault, f"{x} < {LARGEST}", ast.unparse(with_part(node, node.args[0], high))))
    return [*found, *left_out(fault, f"{x} >= {LARGEST}", "A pass that is too large has no result.")]


def _angle(fault: Fault) -> list[Repair]:
    node, np = fault.node, fault.numpy
    if not (isinstance(node, ast.Call) and node.args):
        return []
    x = ast.unparse(node.args[0])
    inside = f"{np}.clip({x}, -1.0, 1.0)" if np else f"max(-1.0, min(1.0, {x}))"
    clamped = Repair("clamp to -1 … 1", fault.with_term(inside, node.args[0]), "What lies outside is rounding.")
    return [clamped, missing(fault, f"abs({x}) <= 1", ast.unparse(with_part(node, node.args[0], inside)))]


LEAVE_OUT = {  # by NumPy's function or the method: the one that leaves nan out
    **{name: f"nan{name}" for name in ("sum", "mean", "max", "min", "std", "var", "median", "prod")},
    **{"amax": "nanmax", "amin": "nanmin", "percentile": "nanpercentile", "quantile": "nanquantile", "fsum": "nansum"},
}
OF_PAIRS = {"polyfit", "linregress", "pearsonr", "spearmanr", "kendalltau", "theilslopes"}


def _total(fault: Fault) -> list[Repair]:
    """A total that is nan by a few values."""
    node, np = fault.node, fault.numpy
    if not isinstance(node, ast.Call) or not np:
        return []
    is_method = isinstance(node.func, ast.Attribute) and ast.unparse(node.func.value) not in (np, "math", "stats")
    name = ast.unparse(node.func).rpartition(".")[2]
    data = node.func.value if is_method and isinstance(node.func, ast.Attribute) else (node.args or [node])[0]
    others = [*(node.args if is_method else node.args[1:]), *node.keywords]
    found = []
    if name in LEAVE_OUT:
        given = ", ".join([ast.unparse(data), *map(ast.unparse, others)])
        text = fault.with_term(f"{np}.{LEAVE_OUT[name]}({given})")
        found.append(Repair("leave nan out", text, "The values that are there stand for all."))
    if name in OF_PAIRS and len(node.args) > 1 and not is_method and fault.operand:
        a, b, rest = ast.unparse(node.args[0]), ast.unparse(node.args[1]), [ast.unparse(n) for n in node.args[2:]]
        there = f"{np}.isfinite({fault.operand})"
        given = ", ".join([f"{a}[{there}]", f"{b}[{there}]", *rest, *map(ast.unparse, node.keywords)])
        text = fault.with_term(f"{ast.unparse(node.func)}({given})")
        found.append(Repair("leave pairs out", text, f"A pair without {fault.operand} says nothing."))
    if name in ("sum", "fsum", "dot"):
        text = fault.with_term(f"{np}.nan_to_num({ast.unparse(data)})", data)
        found.append(Repair("count as zero", text, "What is missing is 0."))
    return found


def _state(fault: Fault) -> list[Repair]:
    """A number that a step adds to what was there, and that is nan."""
    x, np = ast.unparse(fault.node), fault.numpy
    zero = fault.with_term(f"({x} if {x} == {x} else 0.0)")
    if np:
        zero = fault.with_term(f"{np}.nan_to_num({x})")
    found = left_out(
        fault, f"{np}.isnan({x})" if np else f"{x} != {x}", f"A pass in which {x} is missing changes nothing."
    )
    return [*found, Repair("count as zero", zero, f"Where {x} is missing it is 0.")]


Make = Callable[[Fault], list[Repair]]
KINDS: dict[str, Make] = {  # by the kind of the reason
    **dict.fromkeys(("negative-power", "root-of-negative"), _negative),
    **dict.fromkeys(("log-of-zero", "log-of-negative", "log-of-zero-or-less"), _logarithm),
    **dict.fromkeys(("division-by-zero", "zero-by-zero"), _division),
    "overflow": _too_large,
    "lost-total": _total,
    "lost-state": _state,
    "outside-unit": _angle,
    **error_repairs.KINDS,
    **usage_repairs.KINDS,
}
