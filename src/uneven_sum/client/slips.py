"""Numerical slips that are visible in a script's text, before it runs.

nan        a comparison with nan: `x == nan` is never true, `x != nan` always
equality   `==` or `!=` where one side is surely a float that was computed: rounding decides
range      a subscript `a[i + k]` or `a[i - k]` that leaves the range of its loop at the end, or goes below 0 at its
           beginning, where it counts from the end without an error
swallow    an `except` that catches everything and does nothing about it
"""

from __future__ import annotations

import ast
from collections.abc import Iterator
from dataclasses import dataclass

from .wasted import wasted

NAN = {"np.nan", "numpy.nan", "math.nan", "cmath.nan", "nan", "np.NaN", "np.NAN", "pd.NA", "pandas.NA"}
FLOAT_FUNCTIONS = {
    *(
        "sqrt",
        "exp",
        "log",
        "log10",
        "log2",
        "log1p",
        "expm1",
        "sin",
        "cos",
        "tan",
        "arctan",
        "atan",
        "atan2",
        "arctan2",
    ),
    *(
        "hypot",
        "mean",
        "std",
        "var",
        "median",
        "average",
        "norm",
        "linspace",
        "float",
        "float32",
        "float64",
        "trapezoid",
    ),
}
SCOPES = (ast.FunctionDef, ast.AsyncFunctionDef, ast.Lambda, ast.ClassDef, ast.Module)


@dataclass
class Slip:
    """`line` and `column` from 1; `sure`: it is wrong whatever the values are."""

    kind: str
    line: int
    column: int
    text: str
    sure: bool = False


def slips(tree: ast.Module) -> list[Slip]:
    """All slips of a module, in the order of the lines."""
    found = [*_comparisons(tree), *_swallowed(tree), *_ranges(tree)]
    found += [_at(kind, node, text) for kind, node, text in wasted(tree)]
    return sorted(found, key=lambda s: (s.line, s.column))


def _at(kind: str, node: ast.stmt | ast.expr | ast.ExceptHandler, text: str, sure: bool = False) -> Slip:
    return Slip(kind, node.lineno, node.col_offset + 1, text, sure)


# -- comparisons -------------------------------------------------------------------------------------


def _comparisons(tree: ast.Module) -> Iterator[Slip]:
    for scope, nodes in _by_scope(tree):
        floats = _float_names(scope, nodes)
        for node in nodes:
            if not isinstance(node, ast.Compare):
                continue
            sides = [node.left, *node.comparators]
            for op, left, right in zip(node.ops, sides, sides[1:]):
                if not isinstance(op, (ast.Eq, ast.NotEq, ast.Is, ast.IsNot)):
                    if isinstance(op, (ast.Lt, ast.LtE, ast.Gt, ast.GtE)) and (_is_nan(left) or _is_nan(right)):
                        yield _at("nan", node, "a comparison with nan is never true", sure=True)
                    continue
                never = isinstance(op, ast.Eq)
                if _is_nan(left) or _is_nan(right):
                    other = ast.unparse(right if _is_nan(left) else left)
                    if isinstance(op, (ast.Is, ast.IsNot)):
                        said = f"`{ast.unparse(node)}` knows one nan of many: ask isnan({other})"
                        yield _at("nan", node, said)
                        continue
                    answer = "never" if never else "always"
                    yield _at("nan", node, f"`{ast.unparse(node)}` is {answer} true: ask isnan({other})", sure=True)
                elif isinstance(op, (ast.Eq, ast.NotEq)) and not (_exact(left) or _exact(right)):
                    computed = next((s for s in (left, right) if _is_float(s, floats)), None)
                    if computed is not None:
                        said = f"`{ast.unparse(computed)}` is a float: rounding decides whether it is equal"
                        yield _at("equality", node, f"{said}; compare with a tolerance (isclose)")


def _is_nan(node: ast.expr) -> bool:
    if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id == "float" and node.args:
        value = getattr(node.args[0], "value", None)
        return isinstance(value, str) and value.strip().lower().lstrip("+-") == "nan"
    return isinstance(node, (ast.Name, ast.Attribute)) and ast.unparse(node) in NAN


def _exact(node: ast.expr) -> bool:
    """What a float is compared with on purpose: 0, integers, infinities, texts, None."""
    if isinstance(node, ast.UnaryOp):
        return _exact(node.operand)
    if isinstance(node, ast.Constant):
        # Halves, quarters and the like are exact, and are often set and asked for on purpose.
        return (
            not isinstance(node.value, (float, complex)) or (256 * float(getattr(node.value, "real", 1))).is_integer()
        )
    return ast.unparse(node) in ("np.inf", "math.inf", "numpy.inf", "inf")


def _is_float(node: ast.expr, floats: set[str]) -> bool:
    """True for what is surely a float: a fraction, a quotient, a root, a name that is given such a value."""
    if isinstance(node, ast.Constant):
        return isinstance(node.value, float)
    if isinstance(node, ast.Name):
        return node.id in floats
    if isinstance(node, ast.UnaryOp):
        return _is_float(node.operand, floats)
    if isinstance(node, ast.BinOp):
        if isinstance(node.op, ast.Div):
            return not any(isinstance(_value(n), str) or isinstance(n, ast.JoinedStr) for n in ast.walk(node))  # a path
        if isinstance(node.op, (ast.Add, ast.Sub, ast.Mult, ast.Pow)):
            return _is_float(node.left, floats) or _is_float(node.right, floats)
    if isinstance(node, ast.Call):
        name = node.func.attr if isinstance(node.func, ast.Attribute) else getattr(node.func, "id", "")
        return name in FLOAT_FUNCTIONS
    return False


def _value(node: ast.AST) -> object:
    return getattr(node, "value", None)


def _float_names(scope: ast.AST, nodes: list[ast.AST]) -> set[str]:
    """Names of a scope that are only given floats."""
    given: dict[str, list[ast.expr | None]] = {}
    for node in nodes:
        if isinstance(node, ast.Assign):
            for target in node.targets:
                for name in ast.walk(target):
                    if isinstance(name, ast.Name):
                        given.setdefault(name.id, []).append(node.value if target is name else None)
        elif isinstance(node, (ast.AugAssign, ast.For, ast.NamedExpr, ast.With)):
            targets = [getattr(node, "target", None), *(i.optional_vars for i in getattr(node, "items", []))]
            for target in targets:
                for name in ast.walk(target) if target is not None else ():
                    if isinstance(name, ast.Name) and not isinstance(node, ast.AugAssign):
                        given.setdefault(name.id, []).append(None)
    floats: set[str] = set()
    for _ in range(3):  # a name may be given another one
        floats = {n for n, values in given.items() if all(v is not None and _is_float(v, floats) for v in values)}
    return floats


# -- swallowed errors --------------------------------------------------------------------------------


def _swallowed(tree: ast.Module) -> Iterator[Slip]:
    for node in ast.walk(tree):
        if not isinstance(node, ast.ExceptHandler):
            continue
        names = [ast.unparse(t) for t in (getattr(node.type, "elts", None) or [node.type]) if t is not None]
        everything = not names or {"Exception", "BaseException"} & set(names)
        if everything and all(_does_nothing(s) for s in node.body):
            what = "any error at all" if not names else "every error"
            yield _at("swallow", node, f"this `except` swallows {what}: name the one that is meant")


def _does_nothing(s: ast.stmt) -> bool:
    """True for what leaves no trace of the error: pass, continue, a constant given or returned."""
    if isinstance(s, (ast.Pass, ast.Continue, ast.Break)):
        return True
    if isinstance(s, (ast.Return, ast.Assign, ast.Expr)):
        value = s.value
        inner = value.operand if isinstance(value, ast.UnaryOp) else value
        plain = (
            isinstance(inner, (ast.Constant, ast.Name, ast.Attribute)) or _is_nan(inner) if inner is not None else True
        )
        empty = isinstance(inner, (ast.List, ast.Dict, ast.Tuple)) and not list(ast.iter_child_nodes(inner))[:-1]
        return plain or empty
    return False


# -- subscripts that leave their loop's range --------------------------------------------------------


@dataclass
class _Range:
    """`for i in range(start, stop)`: `stop` is the length of `of` (or what is bound to it) plus `more`."""

    variable: str
    start: int | None
    of: str
    more: int
    told: str


def _ranges(tree: ast.Module) -> Iterator[Slip]:
    constants = _constants(tree)
    for _, nodes in _by_scope(tree):
        lengths = _lengths(nodes)
        for node in nodes:
            if isinstance(node, ast.For):
                found = _range(node, lengths, constants)
                if found is not None:
                    yield from _leaving(node, found, constants)


def _constants(tree: ast.Module) -> dict[str, int]:
    """Whole numbers that the module gives to a name, once."""
    found: dict[str, int] = {}
    for s in tree.body:
        if isinstance(s, ast.Assign) and len(s.targets) == 1 and isinstance(s.targets[0], ast.Name):
            name, value = s.targets[0].id, _value(s.value)
            if name in found or type(value) is not int:
                found.pop(name, None)
            else:
                found[name] = value
    return found


def _lengths(nodes: list[ast.AST]) -> dict[str, str]:
    """Names that are given a length: `n = len(stage)`."""
    found = {}
    for node in nodes:
        if isinstance(node, ast.Assign) and len(node.targets) == 1 and isinstance(node.targets[0], ast.Name):
            of = _length_of(node.value)
            if of:
                found[node.targets[0].id] = of
    return found


def _length_of(node: ast.expr) -> str:
    """What `len(a)`, `a.size` or `a.shape[0]` is the length of."""
    if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id == "len" and len(node.args) == 1:
        return ast.unparse(node.args[0])
    if isinstance(node, ast.Attribute) and node.attr == "size":
        return ast.unparse(node.value)
    if isinstance(node, ast.Subscript) and _value(node.slice) == 0 and getattr(node.value, "attr", "") == "shape":
        return ast.unparse(node.value.value)  # type: ignore[attr-defined]  # it is `.shape`
    return ""


def _range(loop: ast.For, lengths: dict[str, str], constants: dict[str, int]) -> _Range | None:
    call = loop.iter
    if not (
        isinstance(call, ast.Call) and getattr(call.func, "id", "") == "range" and isinstance(loop.target, ast.Name)
    ):
        return None
    if len(call.args) not in (1, 2) or call.keywords:
        return None
    stop = call.args[-1]
    start = _number(call.args[0], constants) if len(call.args) == 2 else 0
    base, more = stop, 0
    if isinstance(stop, ast.BinOp) and isinstance(stop.op, (ast.Add, ast.Sub)):
        by = _number(stop.right, constants)
        if by is None:
            return None
        base, more = stop.left, by if isinstance(stop.op, ast.Add) else -by
    of = _length_of(base) or lengths.get(getattr(base, "id", ""), "")
    return _Range(loop.target.id, start, of, more, ast.unparse(stop)) if of else None


def _number(node: ast.expr, constants: dict[str, int]) -> int | None:
    if isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.USub):
        inner = _number(node.operand, constants)
        return -inner if inner is not None else None
    if isinstance(node, ast.Name):
        return constants.get(node.id)
    value = _value(node)
    return value if type(value) is int else None


def _leaving(loop: ast.For, over: _Range, constants: dict[str, int]) -> Iterator[Slip]:
    for node in _unguarded(loop.body, over.variable):
        for sub in ast.walk(node):
            if not isinstance(sub, ast.Subscript):
                continue
            index = sub.slice
            parts = index.elts[:1] if isinstance(index, ast.Tuple) else [index]
            for part in parts:
                by = _offset(part, over.variable, constants)
                if by is None or by == 0:
                    continue
                array, text = ast.unparse(sub.value), ast.unparse(sub)
                last = by + over.more  # beyond the end by so much
                if last > 0:
                    if_so = "" if array == over.of else f", if {array} is as long as {over.of}"
                    said = (
                        f"`{text}` leaves the range of its loop at the end: {over.variable} goes up to {over.told} - 1"
                    )
                    yield _at("range", sub, f"{said}{if_so}", sure=array == over.of)
                if over.start is not None and over.start + by < 0:
                    first = over.start + by
                    yield _at(
                        "range",
                        sub,
                        f"`{text}` begins with the index {first}, which counts from the end without an error",
                    )


def _offset(index: ast.expr, variable: str, constants: dict[str, int]) -> int | None:
    """k of `i + k`, `i - k` or `k + i`."""
    if not isinstance(index, ast.BinOp) or not isinstance(index.op, (ast.Add, ast.Sub)):
        return None
    left, right = index.left, index.right
    if isinstance(left, ast.Name) and left.id == variable:
        by = _number(right, constants)
        return None if by is None else by if isinstance(index.op, ast.Add) else -by
    if isinstance(index.op, ast.Add) and isinstance(right, ast.Name) and right.id == variable:
        return _number(left, constants)
    return None


def _unguarded(body: list[ast.stmt], variable: str) -> Iterator[ast.AST]:
    """The parts of a loop's body that no test of the loop variable keeps from running."""
    for s in body:
        if isinstance(s, (ast.FunctionDef, ast.AsyncFunctionDef, ast.ClassDef)):
            continue
        if isinstance(s, ast.Try):
            yield from _unguarded([*s.orelse, *s.finalbody], variable)
            continue
        if isinstance(s, ast.If):
            if _tests(s.test, variable):
                if any(isinstance(inner, (ast.Continue, ast.Break, ast.Return, ast.Raise)) for inner in s.body):
                    return  # what follows runs only where the test allows it
                continue
            yield s.test
            yield from _unguarded([*s.body, *s.orelse], variable)
        elif isinstance(s, (ast.For, ast.While, ast.With)):
            if isinstance(s, ast.While) and _tests(s.test, variable):
                continue
            yield from _unguarded(s.body, variable)
        elif any(isinstance(n, ast.IfExp) and _tests(n.test, variable) for n in ast.walk(s)):
            continue
        else:
            yield s


def _tests(test: ast.expr, variable: str) -> bool:
    """Whether the loop variable itself is compared, or its truth asked for."""
    for node in ast.walk(test):
        if isinstance(node, ast.Compare):
            for side in (node.left, *node.comparators):
                plain = side.left if isinstance(side, ast.BinOp) else side
                if isinstance(plain, ast.Name) and plain.id == variable:
                    return True
    names = [test, *getattr(test, "values", []), getattr(test, "operand", None)]
    return any(isinstance(n, ast.Name) and n.id == variable for n in names)


def _by_scope(tree: ast.Module) -> Iterator[tuple[ast.AST, list[ast.AST]]]:
    """Each function, class body and the module, with the nodes that belong to it."""
    waiting: list[ast.AST] = [tree]
    while waiting:
        scope = waiting.pop()
        nodes: list[ast.AST] = []
        inner = list(ast.iter_child_nodes(scope))
        while inner:
            node = inner.pop()
            nodes.append(node)
            if isinstance(node, SCOPES):
                waiting.append(node)
            else:
                inner += ast.iter_child_nodes(node)
        nodes.sort(key=lambda n: (getattr(n, "lineno", 0), getattr(n, "col_offset", 0)))
        yield scope, nodes
