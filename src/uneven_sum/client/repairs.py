"""Versions of a line that practitioners write where a known reason stopped it.  None is called right: each says what it
assumes."""

from __future__ import annotations

import ast
import re
import textwrap
from collections.abc import Callable
from dataclasses import dataclass, field

from ..protocol import Culprit, Facts

NUMBER = re.compile(r"'[-+ ]?\d+(\.\d*)?([eE][-+]?\d+)?'")  # a text that is one, as it is shown
MOST = 5  # versions of a line
LARGEST = "700.0"  # exp of more overflows


@dataclass(frozen=True)
class Repair:
    """`name`: what it does, verb first; `text`: the statement as it would be, with no name that the file does not
    import; `assumes`: a sentence."""

    name: str
    text: str
    assumes: str


@dataclass
class Fault:
    """A statement with the term at fault in it.

    `reason`: the kind of the reason; `numpy`: the name by which the file knows NumPy, empty where it does not; `cells`:
    the term has many; `passes`: the statement is in a `for` loop of its function, where `continue` begins the next
    pass; `operand`: the first one; `texts`: the operands that are numbers as texts; `near`, `shapes`: see `Culprit`.
    """

    statement: str
    node: ast.expr
    reason: str
    numpy: str
    cells: bool
    passes: bool
    operand: str = ""
    texts: list[str] = field(default_factory=list)
    near: list[str] = field(default_factory=list)
    shapes: list[list[int]] = field(default_factory=list)

    def with_term(self, term: str, node: ast.expr | None = None) -> str:
        """The statement with another term in the place of the one at fault, all else as it is written."""
        lines = self.statement.split("\n")
        node = node or self.node
        first, last = lines[node.lineno - 1].encode(), lines[(node.end_lineno or node.lineno) - 1].encode()
        head, tail = first[: node.col_offset].decode(), last[node.end_col_offset :].decode()
        before, after = lines[: node.lineno - 1], lines[node.end_lineno or node.lineno :]
        return "\n".join([*before, head + term + tail, *after])

    def where(self, condition: str, safe: str, other: str) -> str:
        """The term where a condition holds, else another value.  `safe`: the term for arrays, fine in each cell."""
        if self.cells and self.numpy:
            return f"{self.numpy}.where({condition}, {safe}, {other})"
        return f"({ast.unparse(self.node)} if {condition} else {other})"


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


def runnable(found: list[Repair]) -> list[Repair]:
    """Those that are Python; five at most."""
    return [one for one in found if _is_python(one.text)][:MOST]


def stable_forms(fault: Fault) -> list[Repair]:
    """Other forms of the expression around a term that overflows."""
    tree = ast.parse(fault.statement)
    for node in ast.walk(tree):
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


def fault_of(facts: Facts, source: str) -> Fault | None:
    """The statement of a pause with its term at fault; None where they cannot be found."""
    culprit = facts.culprit
    if culprit is None or facts.state == "ran" or culprit.element:
        return None
    texts = _of_texts(facts, culprit)
    reason = "texts" if texts else culprit.reason_kind
    if not reason:
        return None
    statement = textwrap.dedent(facts.statement)
    node = term_in(statement, culprit.text)
    if node is None:
        return None
    own = [k for k in facts.loops if k.function == facts.function and k.number]
    in_for = bool(own) and own[0].kind == "for"  # in a `while` the step to the next pass may come after the line
    fault = Fault(statement, node, reason, numpy_in(source), culprit.cell is not None, in_for)
    fault.operand = culprit.operands[0].text if culprit.operands else ""
    fault.texts, fault.near, fault.shapes = texts, culprit.near, culprit.shapes
    return fault


def _of_texts(facts: Facts, culprit: Culprit) -> list[str]:
    """Which operands are texts that are numbers, where an operator refuses them."""
    if facts.exception is None or facts.exception.type != "TypeError":
        return []
    return [one.text for one in culprit.operands if NUMBER.fullmatch(one.value)]


def term_in(statement: str, term: str) -> ast.expr | None:
    """A term of a simple statement; None where it is not there."""
    found = find_term(statement, term)
    return found if found is not None and not hasattr(ast.parse(statement).body[0], "body") else None


def find_term(text: str, term: str) -> ast.expr | None:
    """A term in the text of one statement; None where it is not there."""
    try:
        tree = ast.parse(text)
        wanted = ast.dump(ast.parse(term, mode="eval").body)
    except (SyntaxError, ValueError):
        return None
    if len(tree.body) != 1:
        return None
    return next((n for n in ast.walk(tree) if isinstance(n, ast.expr) and ast.dump(n) == wanted), None)


def numpy_in(source: str) -> str:
    found = re.search(r"^\s*import numpy(?: as (\w+))?\s*$", source, re.M)
    return (found[1] or "numpy") if found else ""


def _is_python(text: str) -> bool:
    try:
        compile(f"def f():\n while True:\n  pass\n{textwrap.indent(text, '  ')}", "<repair>", "exec")
        return True
    except (SyntaxError, ValueError):
        return False


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
        _missing(fault, f"{x} >= 0", ast.unparse(with_part(fault.node, base, low))),
        *_left_out(fault, f"{x} < 0", "A pass with a negative value has no result."),
        Repair("keep the sign", fault.with_term(f"({sign})"), "The law is the same in both directions."),
    ]


def _base(node: ast.expr) -> ast.expr | None:
    if isinstance(node, ast.BinOp) and isinstance(node.op, ast.Pow):
        return node.left
    return node.args[0] if isinstance(node, ast.Call) and node.args else None


def with_part(node: ast.expr, part: ast.expr, text: str) -> ast.expr:
    """A copy of a term with another text in the place of one of its parts."""

    class Put(ast.NodeTransformer):
        def visit(self, one: ast.AST) -> ast.AST:
            if isinstance(one, ast.expr) and ast.dump(one) == ast.dump(part):
                return ast.parse(text, mode="eval").body
            return super().generic_visit(one)

    made = Put().visit(ast.parse(ast.unparse(node), mode="eval").body)
    assert isinstance(made, ast.expr)
    return made


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
    found.append(_missing(fault, f"{x} > 0", safe))
    return [*found, *_left_out(fault, f"{x} <= 0", "A pass without a logarithm has no result.")]


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
        _missing(fault, condition, safe),
        *_left_out(fault, f"{b} == 0", f"A pass in which {b} is 0 has no result."),
        Repair("set a lower limit", fault.with_term(low, node.right), f"{b} is never negative; choose the limit."),
    ]


def _too_large(fault: Fault) -> list[Repair]:
    node, np = fault.node, fault.numpy
    if not (isinstance(node, ast.Call) and node.args):
        return []
    x = ast.unparse(node.args[0])
    high = f"{np}.minimum({x}, {LARGEST})" if np else f"min({x}, {LARGEST})"
    found = [Repair("set an upper limit", fault.with_term(high, node.args[0]), "What is larger is as good as that.")]
    found.append(_missing(fault, f"{x} < {LARGEST}", ast.unparse(with_part(node, node.args[0], high))))
    return [*found, *_left_out(fault, f"{x} >= {LARGEST}", "A pass that is too large has no result.")]


def _missing(fault: Fault, condition: str, safe: str) -> Repair:
    """The term where a condition holds, else nan.  `safe`: see `Fault.where`."""
    nothing = f"{fault.numpy}.nan" if fault.numpy else 'float("nan")'
    return Repair("leave missing", fault.with_term(fault.where(condition, safe, nothing)), "Later steps skip nan.")


def _left_out(fault: Fault, condition: str, says: str) -> list[Repair]:
    """The pass left out where a condition holds; nothing for arrays, and outside of `for` loops."""
    if fault.cells or not fault.passes:
        return []
    return [Repair("leave the pass out", f"if {condition}:\n    continue\n{fault.statement}", says)]


def _angle(fault: Fault) -> list[Repair]:
    node, np = fault.node, fault.numpy
    if not (isinstance(node, ast.Call) and node.args):
        return []
    x = ast.unparse(node.args[0])
    inside = f"{np}.clip({x}, -1.0, 1.0)" if np else f"max(-1.0, min(1.0, {x}))"
    clamped = Repair("clamp to -1 … 1", fault.with_term(inside, node.args[0]), "What lies outside is rounding.")
    return [clamped, _missing(fault, f"abs({x}) <= 1", ast.unparse(with_part(node, node.args[0], inside)))]


def _index(fault: Fault) -> list[Repair]:
    node = fault.node
    if not isinstance(node, ast.Subscript) or isinstance(node.slice, (ast.Slice, ast.Tuple)):
        return []
    owner, index = ast.unparse(node.value), ast.unparse(node.slice)
    clamped = fault.with_term(f"{owner}[min({index}, len({owner}) - 1)]")
    found = [Repair("take the last", clamped, "Past the end the last element holds.")]
    round_ = fault.with_term(f"{owner}[({index}) % len({owner})]")
    found.append(Repair("begin again", round_, "The record is a cycle."))
    return [*_left_out(fault, f"{index} >= len({owner})", "A pass past the end has no result."), *found]


def _key(fault: Fault) -> list[Repair]:
    node = fault.node
    if not isinstance(node, ast.Subscript):
        return []
    owner, key = ast.unparse(node.value), ast.unparse(node.slice)
    found = [
        Repair(
            f"take {ast.literal_eval(word)}",
            fault.with_term(f"{owner}[{word}]"),
            "The key is misspelt.",
        )
        for word in fault.near[:2]
    ]
    return [*found, *_left_out(fault, f"{key} not in {owner}", "A pass without the key has no result.")]


def _number(fault: Fault) -> list[Repair]:
    node = fault.node
    if not (isinstance(node, ast.Call) and node.args and isinstance(node.func, ast.Name)):
        return []
    x = ast.unparse(node.args[0])
    if not isinstance(node.args[0], (ast.Name, ast.Attribute, ast.Subscript, ast.Call)):
        x = f"({x})"
    found = []
    if fault.reason == "decimal-comma":
        text = fault.with_term(f'{node.func.id}({x}.replace(",", "."))')
        found.append(Repair("read the comma as a point", text, "No comma groups thousands."))
    is_number = f'{x}.strip().replace(".", "", 1).lstrip("+-").isdigit()'
    if node.func.id == "float":
        found.append(_missing(fault, is_number, ""))
    return [*found, *_left_out(fault, f"not {is_number}", "A pass without a number has no result.")]


def texts_converted(fault: Fault, texts: list[str]) -> list[Repair]:
    """Operands that are texts made numbers, or the other one a text."""
    node = fault.node
    if not isinstance(node, ast.BinOp):
        return []
    sides = [ast.unparse(node.left), ast.unparse(node.right)]
    signs = {ast.Add: "+", ast.Sub: "-", ast.Mult: "*", ast.Div: "/", ast.FloorDiv: "//", ast.Mod: "%", ast.Pow: "**"}
    sign = signs.get(type(node.op))
    if sign is None or not any(side in texts for side in sides):
        return []

    whole = ast.unparse(getattr(ast.parse(fault.statement).body[0], "value", None) or node) == ast.unparse(node)

    def with_function(name: str, chosen: list[str]) -> str:
        left, right = (f"{name}({side})" if side in chosen else side for side in sides)
        text = f"{left} {sign} {right}"
        return fault.with_term(text if whole else f"({text})")

    found = [
        Repair("convert to float", with_function("float", texts), "Each text is a number, with a point."),
        Repair("convert to int", with_function("int", texts), "Each text is a whole number."),
    ]
    others = [side for side in sides if side not in texts]
    if sign == "+" and others:
        found.append(Repair("join as texts", with_function("str", others), "Texts are meant, not a sum."))
    return found


def _texts(fault: Fault) -> list[Repair]:
    return texts_converted(fault, fault.texts)


def beside(node: ast.expr) -> str:
    """A term that a dot may follow."""
    text = ast.unparse(node)
    return text if isinstance(node, (ast.Name, ast.Attribute, ast.Subscript, ast.Call)) else f"({text})"


def _shapes(fault: Fault) -> list[Repair]:
    """Two arrays that would fit with a new axis, or one of them turned."""
    node, np, shapes = fault.node, fault.numpy, fault.shapes
    if len(shapes) != 2 or not isinstance(node, ast.BinOp) or not np:
        return []
    made = []
    sides = [(node.left, shapes[0], shapes[1]), (node.right, shapes[1], shapes[0])]
    for part, own, other in sides:
        name = ast.unparse(part)
        text = beside(part)
        column = fault.with_term(f"{text}[:, {np}.newaxis]", part)
        if len(own) == 1 and len(other) == 2 and own[0] == other[0]:
            made.append(Repair(f"make {name[:10]} a column", column, f"{name} goes along the rows."))
            opposite = node.right if part is node.left else node.left
            turned = fault.with_term(f"{beside(opposite)}.T", opposite)
            made.append(Repair(f"turn {ast.unparse(opposite)[:12]}", turned, "The result has its axes turned, too."))
        if len(own) == len(other) == 1 and part is node.left:
            made.append(Repair(f"make {name[:10]} a column", column, "Each with each is meant: a table."))
        if len(own) == 2 and own[::-1] == other:
            made.append(Repair(f"turn {name[:12]}", fault.with_term(f"{text}.T", part), "Its axes are swapped."))
    short = min((s[0] for s in shapes if len(s) == 1), default=0)
    if len(shapes[0]) == len(shapes[1]) == 1 and short:
        a, b = (ast.unparse(part) for part in (node.left, node.right))
        longer, text = (node.left, a) if shapes[0][0] > short else (node.right, b)
        cut = f"{text}[:{short}]" if isinstance(longer, (ast.Name, ast.Attribute)) else f"({text})[:{short}]"
        made.append(Repair("cut to one length", fault.with_term(cut, longer), f"Both begin alike; {text} is too long."))
    return made


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
    found = _left_out(
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
    "index": _index,
    "key": _key,
    "texts": _texts,
    "shapes": _shapes,
    **dict.fromkeys(("unread-number", "decimal-comma"), _number),
}
