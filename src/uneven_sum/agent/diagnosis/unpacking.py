"""What could not be unpacked: which element of a loop's values, which part of a tuple, and what it is instead."""

from __future__ import annotations

import ast
import itertools

from ..core.text import plural
from ..core.type_identity import is_one_of
from ..values import nonfinite
from ..values.safe_read import read_attribute
from .reasons import NONE, Reason

# Kinds whose elements can be looked at without running code of the script's.
SEQUENCES = (list, tuple)
VIEWS: tuple[type, ...] = (dict, type({}.keys()), type({}.values()), type({}.items()), set, frozenset)

Part = tuple[str, object]  # how it is written, and the value


def element(text: str, value: object, number: int) -> Part | None:
    """The element of a loop's values in pass `number`, counted from 1; None where it cannot be read again."""
    place = number - 1
    if place < 0:
        return None
    np = nonfinite.module("numpy")
    if is_one_of(type(value), *SEQUENCES) or (np is not None and type(value) is np.ndarray):
        known = value[place : place + 1]  # type: ignore[index]  # of these types
        return (f"{text}[{place}]", known[0]) if len(known) else None
    if nonfinite.is_frame(value) and place < len(names := list(getattr(value, "columns", ()))):
        return f"column name {place} of {text}", names[place]
    if is_one_of(type(value), *VIEWS):
        for one in itertools.islice(value, place, number):  # type: ignore[call-overload]  # of these types
            return f"{'key' if type(value) is dict else 'element'} {place} of {text}", one
    return None


def part(text: str, node: ast.AST | None, value: object, target: ast.AST, failed: ast.AST) -> Part:
    """The part of a value that `failed`, a part of the target, was to take.  `node`: the value's expression."""
    for number, inner in enumerate(target.elts) if isinstance(target, (ast.Tuple, ast.List)) else ():
        if not any(one is failed for one in ast.walk(inner)) or isinstance(inner, ast.Starred):
            continue
        if not is_one_of(type(value), *SEQUENCES) or number >= len(value):  # type: ignore[arg-type]
            break
        elements = node.elts if isinstance(node, (ast.Tuple, ast.List)) else []
        known = number < len(elements) and not any(isinstance(e, ast.Starred) for e in elements)
        of = f"part {number} of {text}" if " of " in text else f"{text}[{number}]"
        inside = elements[number] if known else None
        return part(ast.unparse(inside) if inside else of, inside, value[number], inner, failed)  # type: ignore[index]
    return text, value


def reason(exc: BaseException, looped: Part | None, failed: Part) -> Reason:
    """Why a value cannot be unpacked.  `looped`: the values of the loop whose element it is."""
    value = failed[1]
    if looped is not None and type(looped[1]) is dict and type(value) is not tuple:
        return Reason("keys-alone", f"since a loop over a dictionary gives its keys; {looped[0]}.items() gives both")
    if looped is not None and nonfinite.is_frame(looped[1]) and type(value) is not tuple:
        found = f"since a loop over a frame gives its column names; {looped[0]}.iterrows() gives labels and rows"
        return Reason("columns-alone", found)
    if not isinstance(exc, (ValueError, TypeError)):
        return NONE
    if type(value) is str:
        return Reason("text", f"a text of {plural(len(value), 'character')}")
    shape = read_attribute(value, "shape")
    if isinstance(shape, tuple) and shape:
        return Reason("unpacked", f"which has {plural(shape[0], 'element')}")
    if is_one_of(type(value), *SEQUENCES, *VIEWS):
        return Reason("unpacked", f"which has {plural(len(value), 'element')}")  # type: ignore[arg-type]
    return NONE
