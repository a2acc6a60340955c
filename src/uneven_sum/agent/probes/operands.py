"""The operands of an expression, from what its probe is given."""

from __future__ import annotations

import ast
import operator
from collections.abc import Sequence
from typing import Any

from ..source.sites import Index, Parts
from ..values import quick_look
from ..values.safe_read import read_attribute

OPERATORS: dict[object, Any] = {
    **{ast.Add: operator.add, ast.Sub: operator.sub, ast.Mult: operator.mul},
    **{ast.FloorDiv: operator.floordiv, ast.Mod: operator.mod},
}


def operands_in(given: Sequence[Any], parts: Parts | None) -> Sequence[object]:
    """The operands of an expression, from the values of the names in it; reading them runs no code of the script's."""
    if parts is None or not (parts.elements or parts.keys or parts.attributes or parts.items):
        return given
    found = [given[place] for place in parts.whole]
    found += [read_attribute(given[place], name) for place, name in parts.attributes]
    found += [owner.get(key) for place, key in parts.keys if type(owner := given[place]) is dict]
    for place, index, added in parts.elements:
        owner, at = given[place], 0 if index is None else given[index]
        if (type(owner) is quick_look.ndarray or type(owner) is list or type(owner) is tuple) and type(at) is int:
            try:
                found.append(owner[at + added])
            except IndexError:
                pass  # another thread has changed it
    for place, path in parts.items:
        found += _item(given[place], path, given)
    return found


def _item(owner: Any, path: tuple[Index, ...], given: Sequence[object]) -> list[object]:
    """What the indices lead to, if each owner is a list, a tuple or an array, and each name a whole number."""
    try:
        for index in path:
            if not (type(owner) is quick_look.ndarray or type(owner) is list or type(owner) is tuple):
                return []
            owner = owner[_index(index, given)]
    except (IndexError, TypeError, ArithmeticError, ValueError):
        return []
    return [owner]


def _index(index: object, given: Sequence[object]) -> object:
    if type(index) is not tuple:
        return index
    word, *parts = index
    if word == "name":
        found = given[parts[0]]
        if type(found) is not int:
            raise TypeError
        return found
    made = [_index(one, given) for one in parts]
    return slice(*made) if word == "slice" else tuple(made) if word == "tuple" else OPERATORS[word](*made)
