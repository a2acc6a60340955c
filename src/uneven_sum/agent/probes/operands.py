"""The operands of an expression, from what its probe is given."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from ..source.sites import Parts
from ..values import quick_look
from ..values.safe_read import read_attribute


def operands_in(given: Sequence[Any], parts: Parts | None) -> Sequence[object]:
    """The operands of an expression, from the values of the names in it; reading them runs no code of the script's."""
    if parts is None or not (parts.elements or parts.keys or parts.attributes):
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
    return found
