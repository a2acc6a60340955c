"""Return points in running loops, and back to a pass."""

from __future__ import annotations

import asyncio
import itertools
import os
import random
from types import SimpleNamespace

import pytest
from driving import running, slowness

from uneven_sum.client import BadUse
from uneven_sum.host.points import MOST_OF, Points, _least_missed

SLOW = """
import random, time
random.seed(4)
def route(days, store):
    for day in range(days):
        inflow = random.random()
        store = store * 0.9 + inflow
        time.sleep(0.02)
        if day == 99:
            breakpoint()
    return store
for year in range(2):
    print(year, route(100, 1.0), flush=True)
"""
WHILE = """
import time
def settle(level):
    n = 0
    while level > 0.001:
        level *= 0.9
        n += 1
        time.sleep(0.02)
    breakpoint()
    return n
print(settle(2.0))
"""


def plainly(days: int, years: int = 1) -> list[float]:
    """What `store` is after each day of the last of so many years."""
    dice = random.Random(4)
    for _ in range(years):
        store, found = 1.0, []
        for _ in range(days):
            store = store * 0.9 + dice.random()
            found.append(store)
    return found


async def test_back_to_passes(script, interpreter: str) -> None:
    async with running(script(SLOW), python=interpreter, rewind=True) as run:
        facts = await run.pause()
        assert facts.line == 10 and facts.loops[0].number == 100
        points = run.client.return_points()
        on_the_way = [p for p in points if p["reason"] == "on the way"]
        # What points cost stays under a share of the run: under load there may be none.
        loaded = slowness() > 2 or os.getloadavg()[0] > 2 * (os.cpu_count() or 1)
        assert (on_the_way or loaded) and points[0]["reason"] == "start"
        with pytest.raises(BadUse, match="No earlier pause to go back to"):
            await run.client.step_back()
        for number in (60, 7, 90, 1):
            await run.client.back_to_pass(facts.loops, number)
            back = await run.pause()
            if not back.headline.startswith(f"Back in pass {number}"):  # at the return point, on its way
                back = await run.pause()
            assert back.headline.startswith(f"Back in pass {number}, ") and back.loops[0].number == number
            assert await run.ask("(day, year)") == f"({number - 1}, 0)"
            facts = await run.step("on")
            assert facts.line == 10 and await run.ask("store") == f"{plainly(100)[-1]:.6g}"
        # The second year's loop is another one, in the same lines.
        facts = await run.step("on")
        assert await run.ask("(day, year)") == "(99, 1)"
        await run.client.back_to_pass(facts.loops, 3)
        back = await run.pause()
        if "Back in pass 3" not in back.headline:
            back = await run.pause()
        assert await run.ask("(day, year)") == "(2, 1)"
        assert back.line in (5, 6)  # the head, or from a point in the pass before, where the body begins
        for line in range(back.line + 1, 8):
            assert (await run.step()).line == line
        await run.step()
        assert await run.ask("store") == f"{plainly(100, 2)[2]:.6g}"
        assert (await run.step("on")).line == 10
        assert await run.step("on") is None
        assert not run.trouble


async def test_back_to_a_pass_of_a_while_loop(script) -> None:
    async with running(script(WHILE), rewind=True) as run:
        facts = await run.pause()
        assert await run.ask("n") == "73"
        loop = SimpleNamespace(file=facts.file, line=5, number=73)
        for number in (40, 1, 72):
            await run.client.back_to_pass([SimpleNamespace(**vars(loop))], number)
            back = await run.pause()
            if "Back in pass" not in back.headline:
                back = await run.pause()
            assert f"Back in pass {number}" in back.headline and await run.ask("n") == str(number - 1)
        assert (await run.step("on")).line == 9 and await run.ask("n") == "73"
        assert await run.step("on") is None and run.out.endswith("73\n") and not run.trouble


def test_recent_points_stay_dense() -> None:
    kept: list = []
    for second in range(1, 500):
        kept.append(SimpleNamespace(made=second, number=second))
        while len(kept) > MOST_OF["on the way"]:
            kept.pop(_least_missed(kept))
    times = [p.made for p in kept]
    gaps = [b - a for a, b in itertools.pairwise(times)]
    assert times[0] == 1 and times[-1] == 499 and max(gaps[-3:]) <= 8 < max(gaps[:4])


async def test_points_that_are_on_their_way_are_waited_for(monkeypatch) -> None:
    points = Points()
    monkeypatch.setattr(Points, "_end", staticmethod(lambda p: None))
    points.all[2] = SimpleNamespace(
        number=2, memory=60, facts={}, at_pause=True, made=2, writer=SimpleNamespace(write=list)
    )
    points.announce(3)
    assert points.expected == {1, 3}, "the one at the start connects late, too"
    points.expected.clear()
    points.announce(3)
    assert not points.expected, "one that was waited for, or has ended, is not expected again"
    points.wake(2)
    points.announce(2)
    assert points.expected == {2}, "it is made again"


async def test_points_end_when_memory_is_short(monkeypatch) -> None:
    ended: list[int] = []
    points = Points()
    monkeypatch.setattr("uneven_sum.host.points._machine_memory", lambda: (1000, 500))
    monkeypatch.setattr(Points, "_end", staticmethod(lambda p: ended.append(p.number)))
    for n in range(1, 9):
        facts = {"reason": "start" if n == 1 else "step"}
        points.all[n] = SimpleNamespace(number=n, memory=60, facts=facts, at_pause=True, made=n)
    points._save_memory()
    assert ended == [2, 3, 4, 5] and 1 in points.all, "until a quarter is left to them"
    await asyncio.sleep(0)
