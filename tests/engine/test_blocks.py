"""Blocks of arithmetic, in whole runs: what is told is the same with and without them."""

from __future__ import annotations

import subprocess
from pathlib import Path
from typing import Any

import msgspec
import pytest
from driving import running
from trips_cases import CASES

from uneven_sum.protocol import Lookout

RANDOM = Path(__file__).parent.parent / "support" / "blocks_run.py"


async def told(path: str, **launch: Any) -> tuple[list[Any], str, str]:
    """All that a run tells of its trips, with what it writes."""
    async with running(path, go_on=True, **launch) as run:
        await run.client.write_input(None)
        assert await run.pause() is None
    assert not run.trouble
    return [msgspec.to_builtins(facts) for facts in run.trips], run.out, run.err


CALLS = """import numpy as np
def double(a):
    return a * 2.0
def keep(a):
    return a
def outer():
    y = double(np.array([1 + 1j]).astype(float))
    z = double(keep(1e308))
    w = keep(double(np.array([2 + 1j]).astype(float)))
    return double(z)
print(outer())
"""
WARNS = """import warnings
def half(a):
    warnings.warn("odd gauge", stacklevel=2)
    return a * 0.5
def outer():
    y = half(3.0)
    return half(y)
print(outer())
"""
OBJECTS = """import math
class Reservoir:
    def __init__(self, level, area):
        self.level, self.area = level, area
def route(reservoir, inflows):
    spilled = 0.0
    for day, inflow in enumerate(inflows):
        head = reservoir.level - 1.2
        outflow = 0.6 * math.sqrt(abs(head)) + inflow * 0.2
        reservoir.level += (inflow - outflow) / reservoir.area
        reservoir.level *= 1.0 + 0.5 * inflow
        spilled += max(0.0, reservoir.level - 3.0) * reservoir.area
    return spilled
print(route(Reservoir(2.0, 1.5e6), [0.4 + 0.1 * (day % 7) for day in range(40)] + [1e300] * 3))
"""
ARRAYS = """import numpy as np
def route(level, inflow, passes):
    time = 0.0
    for k in range(passes):
        time += 0.5
        head = level - 0.25 * k
        outflow = 0.6 / head
        outflow *= 2.0
        change = inflow - np.exp(-outflow)
        level = level + change * 1e-9
    return level
print(route(np.array([1.5, 1.0, 4.0]), np.zeros(3), 9).round(2))
"""
MORE = {"arrays": ARRAYS, "objects": OBJECTS, "warnings in arguments": CALLS, "warnings of a caller's line": WARNS}


@pytest.mark.slow
@pytest.mark.parametrize("name", [*CASES, *MORE])
async def test_every_word_is_the_same(name: str, script) -> None:
    path = script(CASES[name][0] if name in CASES else MORE[name])
    assert await told(path) == await told(path, blocks=False)


async def test_a_result_that_an_attribute_would_get_pauses_before_it_is_set(script, interpreter: str) -> None:
    async with running(script(OBJECTS), python=interpreter) as run:
        facts = await run.pause()
        assert (facts.line, facts.loops[0].number, facts.loops[0].of) == (11, 41, 43)
        assert "reservoir.level would become inf" in facts.headline
        assert float(await run.ask("reservoir.level")) < 1e300 < float(await run.ask("reservoir.level * 1e10"))
        assert not run.trouble


async def test_an_array_that_divides_by_zero_pauses_at_its_statement(script, interpreter: str) -> None:
    text = ARRAYS.replace("1e-9", "0.0")
    async with running(script(text), python=interpreter) as run:
        facts = await run.pause()
        assert (facts.line, facts.loops[0].number, facts.loops[0].of) == (7, 5, 9)
        assert "outflow would hold 1 non-finite cell" in facts.headline and facts.warnings
        assert await run.ask("outflow[1] == 0.6 * 2 / 0.25 and head[1] == 0.0 and time == 2.5") == "True"
        facts = await run.step("on")
        assert (facts.line, facts.loops[0].number) == (7, 7), "the next cell"
        facts = await run.step("on")
        assert facts is None
        assert run.out == "[1.5 1.  4. ]\n" and run.err.count("divide by zero") == 1 and not run.trouble


@pytest.mark.interpreters
def test_random_arithmetic_comes_to_the_same(interpreter: str) -> None:
    """In each interpreter: plain, with each statement checked, and by blocks."""
    done = subprocess.run([interpreter, str(RANDOM), "7", "150"], capture_output=True, text=True)
    assert done.returncode == 0, done.stderr[-2000:]
    assert int(done.stdout) > 100


LOOP = """def work(n):
    level, inflow = 1.0, 0.5
    for k in range(n):
        area = level * 2.0
        rise = inflow / area
        level = level + rise * 0.1
        inflow = inflow * 0.999
    return level
print(work(400))
"""


OF_ARRAYS = LOOP.replace("    level, ", "    import numpy as np; level, ").replace(
    "1.0, 0.5", "np.ones(3), np.full(3, 0.5)"
)
OF_ARRAYS = OF_ARRAYS.replace("work(400)", "work(400)[0]")


@pytest.mark.parametrize("text", [LOOP, OF_ARRAYS])
async def test_steps_and_values_within_a_block(text: str, script) -> None:
    """From a breakpoint in the loop, each line of the block is a step, with the values of then."""
    path = script(text)
    stop = Lookout(1, file=path, line=4, condition="k == 7")
    async with running(path, start={"lookouts": [stop]}) as run:
        facts = await run.pause()
        assert (facts.line, facts.loops[0].number) == (4, 8)
        lines = []
        for _ in range(5):
            await run.client.step_line()
            facts = await run.pause()
            lines.append(facts.line)
            if facts.line == 6:
                assert (
                    await run.client.ask(
                        "abs(rise - inflow / area).max() == 0" if text is OF_ARRAYS else "rise == inflow / area"
                    )
                )["result"] == "True"
        assert lines == [5, 6, 7, 3, 4]
        assert facts.loops[0].number == 9


async def test_a_name_set_by_hand_within_a_block_counts(script) -> None:
    """What the block knew of the types of its names is forgotten at a pause."""
    source = LOOP.replace("    level, inflow", "    import numpy as np\n    level, inflow")
    path = script(source)
    stop = Lookout(1, file=path, line=5, condition="k == 7")
    async with running(path, start={"lookouts": [stop]}) as run:
        await run.pause()
        await run.client.set_value("level", "np.array([1.0, 2.0])", force=True)
        await run.client.go_on()
        assert await run.pause() is None
    assert run.out.startswith("[") and not run.trouble


@pytest.mark.parametrize("text", [LOOP, OF_ARRAYS])
async def test_another_line_is_next_in_the_precise_form(text: str, script) -> None:
    path = script(text)
    stop = Lookout(1, file=path, line=4, condition="k == 7")
    async with running(path, start={"lookouts": [stop]}) as run:
        facts = await run.pause()
        await run.client.make_next(facts.file, 6)
        facts = await run.pause()
        assert facts.line == 6
        await run.client.step_line()
        facts = await run.pause()
        assert facts.line == 7
        await run.client.go_on()
        assert await run.pause() is None
    assert float(run.out) > 0


FAR = """def work(n):
    total, seldom = 0.0, 0.0
    for k in range(n):
        total = total * 0.5 + 1.0
        if k % 3 == 0:
            seldom = seldom + total
        if total > 3.0 or k == 5000:
            break
    return seldom
print(work(9000))
"""


@pytest.mark.parametrize(("wanted", "found"), [(3000, (6, 3001)), (9000, (9, None))])
async def test_a_far_pass_is_reached_where_the_line_runs(wanted: int, found: tuple[int, int | None], script) -> None:
    """The line runs in every third pass; the loop ends before the last ones."""
    path = script(FAR)
    async with running(path, start={"lookouts": [Lookout(1, file=path, line=6, once=True)]}) as run:
        await run.pause()
        await run.client.set_lookouts([])
        await run.client.next_pass(wanted)
        facts = await run.pause()
        assert (facts.line, facts.loops[0].number if facts.loops else None) == found
