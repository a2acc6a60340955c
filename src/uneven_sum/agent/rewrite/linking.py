"""Puts the probes into compiled code."""

from __future__ import annotations

import types

from ..core.markers import MARK


def put_in(code: types.CodeType, probes: dict[str, object]) -> types.CodeType:
    """The compiled code with the probes in the place of their marks."""
    consts = tuple(
        put_in(c, probes)
        if isinstance(c, types.CodeType)
        else probes[c[len(MARK) :]]
        if isinstance(c, str) and c.startswith(MARK)
        else c
        for c in code.co_consts
    )
    return code.replace(co_consts=consts)
