"""Functions that Numba compiles are left to it, and this is reported; all other functions are watched."""

from __future__ import annotations

import subprocess
import sys

import pytest
from driving import running

from uneven_sum.protocol import Lookout

pytest.importorskip("numba")

SCRIPT = """
import math
import numba
import numpy as np
from numba import njit as fast
@numba.njit
def ratio(a, b):
    total = 0.0
    for k in range(a.size):
        total += a[k] / b
    return total
@fast(cache=False)
def root(x):
    return math.sqrt(x)
@numba.vectorize(["float64(float64)"])
def rate(head):
    return 1.7 * head ** 1.5
@np.vectorize
def plain(head):
    return 1.0 / head
def later(x):
    return x * 2.0
doubled = numba.jit(nopython=True)(later)
print(ratio(np.ones(3), 2.0), root(4.0), rate(np.array([1.0, 4.0])), doubled(2.0))
print(plain(np.array([1.0, 0.0])))
"""


async def test_numba_functions_run_compiled_and_are_reported(script) -> None:
    path = script(SCRIPT)
    plain = subprocess.run([sys.executable, path], capture_output=True, text=True)
    lookouts = [Lookout(1, file=path, line=10), Lookout(2, file=path, line=20)]
    async with running(path, pause_on=set(), start={"lookouts": lookouts}) as run:
        facts = await run.pause()
        assert (facts.function, facts.line) == ("plain", 20)
        await run.client.run_out()
        assert await run.pause() is None
        assert run.out == plain.stdout and not run.trouble
        assert {one.function for one in run.unwatched} == {"ratio", "root", "rate", "later"}
        assert all("Numba" in one.why or "numba" in one.why for one in run.unwatched), run.unwatched


async def test_what_numba_calls_from_outside_still_pauses(script) -> None:
    async with running(script(SCRIPT)) as run:
        facts = await run.pause()
        assert (facts.function, facts.line, facts.culprit.text) == ("plain", 20, "1.0 / head")
