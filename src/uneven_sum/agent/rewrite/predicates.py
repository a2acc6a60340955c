"""What the rewriter asks about a statement or an expression."""

from __future__ import annotations

import ast
from collections.abc import Iterator

from ..core.trees import walk
from ..source.call_lists import CELLWISE_CALLS, NO_DATA_PASSED, REBINDS, SEES_FRAME
from ..source.sites import callee

# Names of built-in types, which stand in annotations.
PLAIN_TYPES = {"int", "float", "complex", "bool", "str", "bytes", "object", "list", "dict", "tuple", "set", "type"}


def repeatable(place: ast.expr) -> bool:
    """True when evaluating the place twice does nothing that evaluating it once does not."""
    allowed = (ast.Name, ast.Constant, ast.Attribute, ast.Subscript, ast.BinOp, ast.UnaryOp, ast.Tuple, ast.Slice)
    allowed += (ast.expr_context, ast.operator, ast.unaryop)  # type: ignore[assignment]  # a tuple of types
    return all(isinstance(n, allowed) for n in walk(place))


def sees_frame(function: ast.AST) -> bool:
    for node in walk(function):
        name = getattr(node, "attr", None) or getattr(node, "id", None)
        if name in SEES_FRAME:
            return True
    return False


def takes_all(case: ast.match_case) -> bool:
    return case.guard is None and isinstance(case.pattern, ast.MatchAs) and case.pattern.pattern is None


def is_docstring(s: ast.stmt) -> bool:
    return isinstance(s, ast.Expr) and isinstance(s.value, ast.Constant) and isinstance(s.value.value, str)


def is_future(s: ast.stmt) -> bool:
    return isinstance(s, ast.ImportFrom) and s.module == "__future__"


def cannot_fail(s: ast.stmt) -> bool:
    """Statements that need no guard: `x = 1.0`, annotations without value, future imports, constants."""
    if isinstance(s, ast.Assign):
        return isinstance(s.value, ast.Constant) and all(isinstance(t, ast.Name) for t in s.targets)
    if isinstance(s, ast.AnnAssign):
        return s.value is None and isinstance(s.target, ast.Name) and _is_plain(s.annotation)
    if isinstance(s, ast.Expr):
        return isinstance(s.value, ast.Constant)
    if isinstance(s, ast.Return):
        return s.value is None or isinstance(s.value, ast.Constant)
    return is_future(s)


def head_may_fail(s: ast.stmt) -> bool:
    """Whether a `def` or `class` statement computes something before its body: decorators, bases, defaults."""
    parts = [*getattr(s, "decorator_list", ()), *getattr(s, "bases", ()), *getattr(s, "keywords", ())]
    if isinstance(s, (ast.FunctionDef, ast.AsyncFunctionDef)):
        a = s.args
        named = [*a.posonlyargs, *a.args, *a.kwonlyargs, *[one for one in (a.vararg, a.kwarg) if one is not None]]
        parts += [*a.defaults, *a.kw_defaults, *(one.annotation for one in named), s.returns]
    return not all(part is None or _is_plain(part) for part in parts)


def _is_plain(node: ast.AST) -> bool:
    return isinstance(node, ast.Constant) or (isinstance(node, ast.Name) and node.id in PLAIN_TYPES)


def leaves_early(loop: ast.For) -> bool:
    """Whether a `break` of its own ends a loop."""
    todo: list[ast.AST] = [*loop.body]
    while todo:
        one = todo.pop()
        if isinstance(one, ast.Break):
            return True
        if isinstance(one, (ast.For, ast.AsyncFor, ast.While)):
            todo += one.orelse
        elif not isinstance(one, (ast.FunctionDef, ast.AsyncFunctionDef, ast.ClassDef, ast.expr)):
            todo += ast.iter_child_nodes(one)
    return False


def names_bound(node: ast.AST) -> Iterator[str]:
    """Names that a node binds or deletes itself, whatever is in it."""
    if isinstance(node, ast.Name):
        if not isinstance(node.ctx, ast.Load):
            yield node.id
    elif isinstance(node, ast.arg):
        yield node.arg
    elif isinstance(node, ast.alias):
        yield (node.asname or node.name).partition(".")[0]
    else:
        for name in ("name", "rest"):  # of handlers, functions, classes, patterns
            value = getattr(node, name, None)
            if isinstance(value, str):
                yield value


def rebinds(node: ast.AST) -> bool:
    """True for what can bind a module's names from elsewhere."""
    name = getattr(node, "id", None) or getattr(node, "attr", None)
    return name in REBINDS or (isinstance(node, ast.alias) and node.name == "*")


def is_arithmetic(node: ast.expr) -> bool:
    """An operator, or a call that is arithmetic on each cell."""
    if isinstance(node, ast.Call):
        return callee(node) in CELLWISE_CALLS
    return isinstance(node, (ast.BinOp, ast.UnaryOp))


def counts_from_zero(node: ast.expr) -> bool:
    """`enumerate(x)`, from 0"""
    return (
        isinstance(node, ast.Call)
        and getattr(node.func, "id", "") == "enumerate"
        and len(node.args) == 1
        and not node.keywords
    )


def is_iterator(node: ast.expr) -> bool:
    """Surely no list and no tuple."""
    names = ("enumerate", "zip", "map", "filter", "reversed", "open", "iter")
    return isinstance(node, ast.GeneratorExp) or (isinstance(node, ast.Call) and getattr(node.func, "id", "") in names)


def is_text(node: ast.AST) -> bool:
    return isinstance(node, ast.JoinedStr) or isinstance(getattr(node, "value", None), (str, bytes))


def may_be_bad(index: ast.expr) -> bool:
    """A subscript whose arithmetic can give nan or inf: sums of integers cannot."""
    for node in walk(index):
        if isinstance(node, ast.BinOp) and isinstance(node.op, (ast.Div, ast.Pow)):
            return True
        if isinstance(node, ast.Call) and callee(node) not in {*NO_DATA_PASSED, "int", "round", "min", "max"}:
            return True
    return False
