"""Versions of a line that raised: an index, a key, a text that is no number, a file that is not there, shapes."""

from __future__ import annotations

import ast
import difflib
import os
import re

from ..safe_text import cut
from .fault import Fault, Repair, beside, left_out, missing, parsed

READS = re.compile(r"(^|\.)(open|read_\w+|loadtxt|genfromtxt)$")


def _index(fault: Fault) -> list[Repair]:
    node = fault.node
    if not isinstance(node, ast.Subscript) or isinstance(node.slice, (ast.Slice, ast.Tuple)):
        return []
    owner, index = ast.unparse(node.value), ast.unparse(node.slice)
    clamped = fault.with_term(f"{owner}[min({index}, len({owner}) - 1)]")
    found = [Repair("take the last", clamped, "Past the end the last element holds.")]
    round_ = fault.with_term(f"{owner}[({index}) % len({owner})]")
    found.append(Repair("begin again", round_, "The record is a cycle."))
    return [*left_out(fault, f"{index} >= len({owner})", "A pass past the end has no result."), *found]


def _index_type(fault: Fault) -> list[Repair]:
    """An index that is a float, an array of floats, or a list of slices."""
    node = fault.node
    if not isinstance(node, ast.Subscript) or isinstance(node.slice, (ast.Slice, ast.Tuple)):
        return []
    owner, index = ast.unparse(node.value), ast.unparse(node.slice)
    if fault.reason == "list-of-slices":
        return [Repair("make it a tuple", fault.with_term(f"{owner}[tuple({index})]"), "One slice for each axis.")]
    if fault.reason == "float-indices":
        whole = f"{beside(node.slice)}.astype(int)"
        return [Repair("make them integers", fault.with_term(f"{owner}[{whole}]"), "Fractions are cut off.")]
    return [
        Repair("make it an integer", fault.with_term(f"{owner}[int({index})]"), "A fraction is cut off."),
        Repair("round it", fault.with_term(f"{owner}[round({index})]"), "The nearest integer; halves to the even one."),
    ]


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
    return [*found, *left_out(fault, f"{key} not in {owner}", "A pass without the key has no result.")]


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
        found.append(missing(fault, is_number, ""))
    return [*found, *left_out(fault, f"not {is_number}", "A pass without a number has no result.")]


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

    tree = parsed(fault.statement)
    whole = tree is None or ast.unparse(getattr(tree.body[0], "value", None) or node) == ast.unparse(node)

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
            made.append(Repair(f"make {cut(name, 10)} a column", column, f"{name} goes along the rows."))
            opposite = node.right if part is node.left else node.left
            turned = fault.with_term(f"{beside(opposite)}.T", opposite)
            made.append(
                Repair(f"turn {cut(ast.unparse(opposite), 12)}", turned, "The result has its axes turned, too.")
            )
        if len(own) == len(other) == 1 and part is node.left:
            made.append(Repair(f"make {cut(name, 10)} a column", column, "Each with each is meant: a table."))
        if len(own) == 2 and (own[::-1] == other or (own == other and isinstance(node.op, ast.MatMult))):
            made.append(Repair(f"turn {cut(name, 12)}", fault.with_term(f"{text}.T", part), "Its axes are swapped."))
    short = min((s[0] for s in shapes if len(s) == 1), default=0)
    if len(shapes[0]) == len(shapes[1]) == 1 and short:
        a, b = (ast.unparse(part) for part in (node.left, node.right))
        longer, text = (node.left, a) if shapes[0][0] > short else (node.right, b)
        cut_off = f"{text}[:{short}]" if isinstance(longer, (ast.Name, ast.Attribute)) else f"({text})[:{short}]"
        made.append(
            Repair("cut to one length", fault.with_term(cut_off, longer), f"Both begin alike; {text} is longer.")
        )
    return made


def _file(fault: Fault) -> list[Repair]:
    """A file that is not there, where its folder has one of nearly the same name."""
    paths = [n for n in ast.walk(fault.node) if isinstance(n, ast.Constant) and isinstance(n.value, str)]
    if len(paths) != 1:
        return []
    folder = os.path.dirname(str(paths[0].value))
    found = []
    for word in fault.near[:2]:
        name = str(ast.literal_eval(word))
        text = fault.with_term(repr(os.path.join(folder, name)), paths[0])
        found.append(Repair(f"read {name}", text, "The name is misspelt."))
    return found


def _name(fault: Fault) -> list[Repair]:
    """A name, or an attribute, that is misspelt, renamed, or replaced by a built-in one."""
    node = fault.node.func if isinstance(fault.node, ast.Call) else fault.node
    if not isinstance(node, (ast.Name, ast.Attribute)):
        return []
    owner = f"{ast.unparse(node.value)}." if isinstance(node, ast.Attribute) else ""
    assumes = "The name is misspelt." if fault.reason == "name" else "Only the name has changed."
    if fault.reason == "replaced":
        owner, assumes = "", "The built-in one takes its place."
    return [Repair(f"take {near}", fault.with_term(owner + near, node), assumes) for near in fault.near]


def _encoding(fault: Fault) -> list[Repair]:
    """A file that is read in another encoding."""
    calls = [
        n for n in ast.walk(fault.node) if isinstance(n, ast.Call) and not any(k.arg == "encoding" for k in n.keywords)
    ]
    readers = [n for n in calls if READS.search(ast.unparse(n.func))]
    if len(readers) != 1 or not fault.near:
        return []
    call = ast.unparse(readers[0])
    text = fault.with_term(f"{call[:-1]}, encoding={fault.near[0]!r})", readers[0])
    return [Repair(f"read {fault.near[0]}", text, "The file has this encoding.")]


def _frame_index(fault: Fault) -> list[Repair]:
    """Several columns of a frame, or rows and columns at once."""
    node = fault.node
    if not isinstance(node, ast.Subscript) or not isinstance(node.slice, ast.Tuple):
        return []
    owner, index = ast.unparse(node.value), ", ".join(map(ast.unparse, node.slice.elts))
    if fault.reason == "columns":
        return [Repair("take the columns", fault.with_term(f"{owner}[[{index}]]"), "All of these columns are meant.")]
    text = fault.with_term(f"{owner}.iloc[{index}]")
    return [Repair("take by place", text, "Numbers of rows and columns are meant.")]


def _item(fault: Fault) -> list[Repair]:
    """A key of a dictionary, asked for as an attribute."""
    node = fault.node
    if not isinstance(node, ast.Attribute):
        return []
    text = fault.with_term(f"{ast.unparse(node.value)}[{fault.near[0]}]")
    return [Repair("read the key", text, "The dictionary's value is meant.")]


def _cell_by_cell(fault: Fault) -> list[Repair]:
    """Comparisons of arrays that are joined by `and`, by a chain, or without parentheses."""
    tree = parsed(fault.statement)
    found = [n for n in ast.walk(tree or fault.node) if isinstance(n, (ast.Compare, ast.BoolOp, ast.UnaryOp))]
    wanted = ast.dump(fault.node)
    outer = [n for n in found if any(ast.dump(part) == wanted for part in ast.walk(n))]
    for node in reversed(outer):
        text = _joined(node, fault.reason)
        if text:
            return [Repair("compare by cell", fault.with_term(text, node), "Each cell is meant, not the whole.")]
    return []


def _joined(node: ast.Compare | ast.BoolOp | ast.UnaryOp, reason: str) -> str:
    if reason == "truth" and isinstance(node, ast.UnaryOp):
        return f"~({ast.unparse(node.operand)})"
    if reason == "truth" and isinstance(node, ast.BoolOp):
        sign = " & " if isinstance(node.op, ast.And) else " | "
        return sign.join(f"({ast.unparse(part)})" for part in node.values)
    if not isinstance(node, ast.Compare) or reason == "truth":
        return ""
    sides = [node.left, *node.comparators]
    if reason == "chain":
        pairs = [ast.Compare(a, [op], [b]) for a, op, b in zip(sides, node.ops, sides[1:])]
        return " & ".join(f"({ast.unparse(pair)})" for pair in pairs)
    if len(sides) != 3 or not isinstance(sides[1], ast.BinOp):
        return ""
    first, last = (
        ast.Compare(sides[0], node.ops[:1], [sides[1].left]),
        ast.Compare(sides[1].right, node.ops[1:], sides[2:]),
    )
    return f"({ast.unparse(first)}) {'&' if isinstance(sides[1].op, ast.BitAnd) else '|'} ({ast.unparse(last)})"


def _keyword(fault: Fault) -> list[Repair]:
    """An argument whose name is misspelt, or has changed."""
    node = fault.node
    if not isinstance(node, ast.Call):
        return []
    if fault.reason == "renamed-keyword":
        old, new = fault.near
        pairs = [(new, argument) for argument in node.keywords if argument.arg == old]
        assumes = "Only the name has changed."
    else:
        pairs = [(near, k) for near in fault.near for k in node.keywords if _is_like(near, k.arg or "")]
        assumes = "The name is misspelt."
    found = []
    for name, argument in pairs:
        text = fault.with_term(f"{name}={ast.unparse(argument.value)}", argument)
        found.append(Repair(f"take {name}", text, assumes))
    return found


def _is_like(name: str, other: str) -> bool:
    return name != other and bool(difflib.get_close_matches(name, [other]))


def _float_power(fault: Fault) -> list[Repair]:
    node = fault.node
    if not isinstance(node, ast.BinOp):
        return []
    text = fault.with_term(f"{beside(node.left)}.astype(float)", node.left)
    return [Repair("use floats", text, "Fractions are meant.")]


KINDS = {  # by the kind of the reason
    "index": _index,
    **dict.fromkeys(("float-index", "float-indices", "list-of-slices"), _index_type),
    "key": _key,
    **dict.fromkeys(("name", "renamed", "replaced"), _name),
    **dict.fromkeys(("keyword", "renamed-keyword"), _keyword),
    "item": _item,
    **dict.fromkeys(("by-place", "columns"), _frame_index),
    "encoding": _encoding,
    "integer-power": _float_power,
    **dict.fromkeys(("precedence", "chain", "truth"), _cell_by_cell),
    "near-file": _file,
    "texts": _texts,
    "shapes": _shapes,
    **dict.fromkeys(("unread-number", "decimal-comma"), _number),
}
