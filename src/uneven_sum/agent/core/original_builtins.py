"""Built-ins as they were before the script ran.

The agent's own modules hold a copy (see `boot`).  The standard library that it uses looks them up in `builtins`: where
the script has replaced some there, they are put back while the agent works.
"""

from __future__ import annotations

import builtins
import functools
from collections.abc import Callable
from operator import is_
from typing import ParamSpec, TypeVar

P = ParamSpec("P")
R = TypeVar("R")
PRESENT = vars(builtins)
ORIGINAL: dict[str, object] = {n: v for n, v in PRESENT.items() if not n.startswith("__") or n == "__import__"}
_AS_THEY_WERE = list(PRESENT.values())


def are_replaced() -> bool:
    """True when the script has put something else in the place of a built-in."""
    if all(map(is_, PRESENT.values(), _AS_THEY_WERE)) and len(PRESENT) >= len(_AS_THEY_WERE):
        return False
    return not all(map(is_, ORIGINAL.values(), map(PRESENT.get, ORIGINAL)))


def with_originals(function: Callable[P, R]) -> Callable[P, R]:
    """A function that runs with the original built-ins; the script's are put back at its end."""

    @functools.wraps(function)
    def call(*args: P.args, **named: P.kwargs) -> R:
        if not are_replaced():
            return function(*args, **named)
        theirs = {n: PRESENT.get(n, PRESENT) for n, v in ORIGINAL.items() if PRESENT.get(n, PRESENT) is not v}
        PRESENT.update(ORIGINAL)
        try:
            return function(*args, **named)
        finally:
            for name, value in theirs.items():
                if value is PRESENT:
                    PRESENT.pop(name, None)
                else:
                    PRESENT[name] = value

    return call
