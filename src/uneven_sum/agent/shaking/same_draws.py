"""Makes unseeded random numbers the same in each of several runs: they come from a generator of ours."""

from __future__ import annotations

import os
import random
from typing import Any

SEED = 20_011


def arrange() -> None:
    """For the generators of `random`, `secrets`, `uuid` and NumPy, where the script gives no seed."""
    ours = random.Random(SEED)
    seed = random.Random.seed

    def seeded(self: random.Random, a: Any = None, version: int = 2) -> None:
        seed(self, ours.getrandbits(64) if a is None else a, version)

    def urandom(size: int, /) -> bytes:
        return ours.randbytes(size)

    os.urandom = urandom
    random.__dict__["_urandom"] = urandom
    random.seed(SEED)
    random.Random.seed = seeded  # type: ignore[method-assign]  # for generators that the script makes
