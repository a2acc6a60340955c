"""Versions of a line in which a function, a list or an operator is used for what another one does."""

from __future__ import annotations

import ast

from .fault import Fault, Repair, beside, parsed


def _call(fault: Fault) -> list[Repair]:
    """A call of the same function, or of NumPy's, with its arguments as they are meant."""
    node, np = fault.node, fault.numpy
    if not isinstance(node, ast.Call):
        return []
    function = ast.unparse(node.func)
    arguments = [ast.unparse(arg) for arg in node.args]
    named = [f"{k.arg}={ast.unparse(k.value)}" for k in node.keywords if k.arg]
    name = node.func.attr if isinstance(node.func, ast.Attribute) else function
    listed = ", ".join(arguments)
    if fault.reason == "shape-in-tuple":
        shape = f"({listed})" if name != "full" else f"({', '.join(arguments[:-1])}), {arguments[-1]}"
        text, assumes = f"{function}({', '.join([shape, *named])})", "All of them are lengths."
        return [Repair("make it a shape", fault.with_term(text), assumes)]
    if fault.reason == "arrays-in-list":
        text = f"{function}({', '.join([f'[{listed}]', *named])})"
        return [Repair("put them in a list", fault.with_term(text), "All of them are to be joined.")]
    if fault.reason == "math-of-array" and np:
        text = f"{np}.{name}({', '.join([*arguments, *named])})"
        return [Repair(f"use {np}.{name}", fault.with_term(text), "The result is an array, too.")]
    if fault.reason == "max-of-arrays" and np:
        text = f"{np}.{name}imum({', '.join(arguments)})"
        return [Repair(f"use {np}.{name}imum", fault.with_term(text), "Each cell is meant.")]
    if fault.reason == "float-step" and np:
        text = f"{np}.arange({', '.join(arguments)})"
        return [Repair(f"use {np}.arange", fault.with_term(text), "The end is left out, as in range.")]
    if fault.reason == "no-call":
        return [Repair("leave () out", fault.with_term(function), "The value is meant.")]
    if fault.reason == "index-it":
        return [Repair("take by index", fault.with_term(f"{function}[{listed}]"), "One of its values is meant.")]
    if fault.reason == "numeric-only":
        text = f"{function}({', '.join([*arguments, *named, 'numeric_only=True'])})"
        return [Repair("leave texts out", fault.with_term(text), "Only columns of numbers are meant.")]
    return []


def _whole_number(fault: Fault) -> list[Repair]:
    """A count that is a float, such as the half of a length."""
    node = fault.node
    found = []
    for part in node.args if isinstance(node, ast.Call) else ():
        if isinstance(part, ast.BinOp) and isinstance(part.op, ast.Div):
            text = f"{ast.unparse(part.left)} // {ast.unparse(part.right)}"
            found.append(Repair("divide to integers", fault.with_term(text, part), "A rest is left out."))
    if not found and isinstance(node, ast.Call):
        place = node.args[-1] if len(node.args) in (1, 3) else None
        if place is not None:
            text = fault.with_term(f"int({ast.unparse(place)})", place)
            found.append(Repair("make it an integer", text, "A fraction is cut off."))
    return found


def _list_of(fault: Fault) -> list[Repair]:
    """What gives its elements in turn, made a list."""
    node = fault.node
    part = node.value if isinstance(node, ast.Subscript) else node.args[0] if isinstance(node, ast.Call) else None
    if part is None:
        return []
    if fault.reason == "no-order":
        return [Repair("sort it", fault.with_term(f"sorted({ast.unparse(part)})", part), "The smallest comes first.")]
    text = fault.with_term(f"list({ast.unparse(part)})", part)
    return [Repair("make it a list", text, "All its elements fit into memory.")]


def _numbers(fault: Fault) -> list[Repair]:
    """Cells that are objects or texts, made floats."""
    parts = [n for n in ast.walk(fault.node) if isinstance(n, ast.expr) and ast.unparse(n) == "".join(fault.near[:1])]
    found = []
    for part in parts[:1]:
        text = fault.with_term(f"{beside(part)}.astype(float)", part)
        found.append(Repair("make them floats", text, "Each is a number, or None for a missing one."))
    return found


def _count_up(fault: Fault) -> list[Repair]:
    text = fault.with_term(f"range({ast.unparse(fault.node)})")
    return [Repair("count up to it", text, "The numbers below it are meant, from 0 on.")]


def _index(fault: Fault) -> list[Repair]:
    node, np = fault.node, fault.numpy
    if not isinstance(node, ast.Subscript):
        return []
    owner, index = ast.unparse(node.value), ast.unparse(node.slice)
    if fault.reason == "call-it":
        return [Repair("call it", fault.with_term(f"{owner}({index})"), "The index is an argument.")]
    if fault.reason == "call-method":
        return [Repair("call it", fault.with_term(f"{owner}()[{index}]"), "Its result is to be indexed.")]
    if fault.reason == "nested-index" and isinstance(node.slice, ast.Tuple):
        text = owner + "".join(f"[{ast.unparse(part)}]" for part in node.slice.elts)
        return [Repair("index twice", fault.with_term(text), "Each of its elements is a list.")]
    if fault.reason == "list-by-list" and np:
        return [Repair("make it an array", fault.with_term(f"{np}.array({owner})[{index}]"), "All have one type.")]
    return []


def _operator(fault: Fault) -> list[Repair]:
    node, np = fault.node, fault.numpy
    if not isinstance(node, ast.BinOp):
        return []
    if fault.reason == "xor":
        return _power(fault, node)
    text = fault.with_term(f"{np}.array({ast.unparse(node.left)})", node.left)
    return [Repair("make it an array", text, "Each element is meant.")] if np else []


def _power(fault: Fault, node: ast.BinOp) -> list[Repair]:
    """The sign alone is another one: ** binds closer than ^, which comes after + and *."""
    lines = [line.encode() for line in fault.statement.split("\n")]
    left, right = node.left, node.right
    if left.end_lineno != right.lineno or left.end_col_offset is None:
        return []
    line = lines[right.lineno - 1]
    between = line[left.end_col_offset : right.col_offset].replace(b"^", b"**")
    lines[right.lineno - 1] = line[: left.end_col_offset] + between + line[right.col_offset :]
    text = fault.before + b"\n".join(lines).decode()
    return [Repair("take the power", text, "A power is meant.")]


def _truth(fault: Fault) -> list[Repair]:
    """A comparison of arrays as a condition."""
    node, np = fault.node, fault.numpy
    if fault.reason == "truth-of-frame":
        text = fault.with_term(f"len({ast.unparse(node)}) > 0")
        return [Repair("ask for rows", text, "The condition holds for a frame that has some.")]
    tree = parsed(fault.statement)
    for around in ast.walk(tree) if tree is not None else ():
        if isinstance(around, ast.IfExp) and ast.dump(around.test) == ast.dump(node) and np:
            parts = ", ".join(ast.unparse(part) for part in (around.test, around.body, around.orelse))
            return [Repair("choose by cell", fault.with_term(f"{np}.where({parts})", around), "Each cell has its own.")]
    text = ast.unparse(node)
    return [
        Repair("ask for all", fault.with_term(f"({text}).all()"), "The condition holds where it holds in each cell."),
        Repair("ask for any", fault.with_term(f"({text}).any()"), "The condition holds where it holds in one cell."),
    ]


KINDS = {  # by the kind of the reason
    **dict.fromkeys(("shape-in-tuple", "arrays-in-list", "math-of-array", "max-of-arrays"), _call),
    **dict.fromkeys(("no-call", "index-it", "numeric-only", "float-step"), _call),
    "whole-number": _whole_number,
    "count-up": _count_up,
    **dict.fromkeys(("no-list", "no-order"), _list_of),
    "object-cells": _numbers,
    **dict.fromkeys(("call-it", "call-method", "nested-index", "list-by-list"), _index),
    **dict.fromkeys(("xor", "list-arithmetic"), _operator),
    **dict.fromkeys(("truth-of-cells", "truth-of-frame"), _truth),
}
