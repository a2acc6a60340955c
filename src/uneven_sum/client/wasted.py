"""Slips of a text that an audit finds too, and what is slow rather than wrong.

result     a result that is thrown away: `df.fillna(0)`, `sorted(x)`, `a == b` as a statement
shared     `[[0] * 3] * 4`, whose rows are one list; a default argument that is a list or dict
growing    an array or frame that a loop makes longer by `append` or `concat`: each pass copies all of it
"""

from __future__ import annotations

import ast
from collections.abc import Iterator

GIVES_NEW = {  # methods of frames, series and texts that leave their object as it was
    *(
        "sort_values",
        "sort_index",
        "fillna",
        "dropna",
        "drop_duplicates",
        "rename",
        "reset_index",
        "set_index",
        "astype",
    ),
    *("assign", "interpolate", "strip", "upper", "lower", "title", "rstrip", "lstrip"),
}
FUNCTIONS = {"sorted", "np.append", "np.sort", "np.concatenate", "np.delete", "np.insert", "pd.concat", "np.unique"}
GROWS = {"np.append", "np.concatenate", "np.vstack", "np.hstack", "np.insert", "pd.concat", "numpy.append"}
MUTABLE = (ast.List, ast.Dict, ast.Set, ast.ListComp, ast.DictComp, ast.SetComp)
Found = tuple[str, ast.stmt | ast.expr, str]  # kind, place, text


def wasted(tree: ast.Module) -> Iterator[Found]:
    """All of a module: the kind, the place, and a sentence."""
    for node in ast.walk(tree):
        if isinstance(node, ast.Expr):
            yield from _thrown_away(node)
        elif isinstance(node, ast.BinOp) and isinstance(node.op, ast.Mult):
            yield from _shared(node)
        elif isinstance(node, (ast.FunctionDef, ast.AsyncFunctionDef)):
            yield from _defaults(node)
        elif isinstance(node, (ast.For, ast.While)):
            yield from _growing(node)


def _thrown_away(statement: ast.Expr) -> Iterator[Found]:
    value = statement.value
    if isinstance(value, ast.Compare) and isinstance(value.ops[0], ast.Eq):
        yield "result", value, "the result of == is thrown away: is = meant?"
    if not isinstance(value, ast.Call) or any(k.arg == "inplace" for k in value.keywords):
        return
    called = ast.unparse(value.func)
    if called in FUNCTIONS and value.args:
        given = ast.unparse(value.args[0])
        yield "result", value, f"the result of {called} is thrown away: {given} stays as it was"
    elif isinstance(value.func, ast.Attribute) and value.func.attr in GIVES_NEW:
        owner = ast.unparse(value.func.value)
        yield "result", value, f"the result of {value.func.attr} is thrown away: {owner} stays as it was"


def _shared(node: ast.BinOp) -> Iterator[Found]:
    for side in (node.left, node.right):
        if isinstance(side, ast.List) and any(isinstance(e, MUTABLE) or _repeats(e) for e in side.elts):
            text = "all elements are the same list: [… for _ in range(n)] makes one each"
            yield "shared", node, text


def _repeats(node: ast.AST) -> bool:
    return isinstance(node, ast.BinOp) and isinstance(node.op, ast.Mult) and isinstance(node.left, ast.List)


def _defaults(function: ast.FunctionDef | ast.AsyncFunctionDef) -> Iterator[Found]:
    arguments = [*function.args.posonlyargs, *function.args.args]
    pairs = list(zip(arguments[::-1], function.args.defaults[::-1]))
    pairs += [(a, d) for a, d in zip(function.args.kwonlyargs, function.args.kw_defaults) if d is not None]
    for argument, default in pairs:
        if isinstance(default, MUTABLE) and _is_changed(function, argument.arg):
            yield "shared", default, f"all calls share the default of {argument.arg}, and {function.name} changes it"


def _is_changed(function: ast.AST, name: str) -> bool:
    """Whether a function calls a method of a name that changes it, or stores into it."""
    for node in ast.walk(function):
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute) and ast.unparse(node.func.value) == name:
            if node.func.attr in (
                "append",
                "extend",
                "add",
                "update",
                "insert",
                "setdefault",
                "pop",
                "remove",
                "clear",
            ):
                return True
        if isinstance(node, ast.Subscript) and isinstance(node.ctx, ast.Store) and ast.unparse(node.value) == name:
            return True
        if isinstance(node, ast.AugAssign) and ast.unparse(node.target) == name:
            return True
    return False


def _growing(loop: ast.For | ast.While) -> Iterator[Found]:
    for node in (n for s in loop.body for n in ast.walk(s)):
        if not isinstance(node, ast.Assign) or not isinstance(node.value, ast.Call):
            continue
        target, called = ast.unparse(node.targets[0]), ast.unparse(node.value.func)
        given = {
            ast.unparse(n) for a in node.value.args for n in ast.walk(a) if isinstance(n, (ast.Name, ast.Attribute))
        }
        if called in GROWS and target in given:
            text = f"slow: {called} copies all of {target} in each pass; a list, joined once after the loop, does not"
            yield "growing", node, text
