"""How often something is measured: once in a quick round, which only shows that every benchmark still runs."""

from __future__ import annotations

import os

QUICK = bool(os.environ.get("UNEVEN_SUM_QUICK"))


def rounds(count: int) -> int:
    return 1 if QUICK else count


def passes(count: int) -> int:
    """How often a loop runs that is measured once."""
    return max(1, count // 50) if QUICK else count
