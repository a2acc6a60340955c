"""Values of the script live as long as in a plain run: neither a pause nor a look on the way keeps them alive."""

from __future__ import annotations

import pytest
from driving import running

SCRIPT = """
import gc
import time
import weakref

class Level(list):
    pass

class Far(Exception):
    pass

def gone(what, ref):
    print(what, "is gone" if ref() is None else "is kept")

def paused():
    kept = Level([1.5])
    ref = weakref.ref(kept)
    breakpoint()
    kept = None
    gone("before a pause", ref)
    again = Level([2.5])
    return weakref.ref(again)

def failing():
    held = Level([3.5])
    ref = weakref.ref(held)
    try:
        Level([1.0])[held]
    except TypeError:
        pass
    held = None
    gone("before a handled error", ref)
    raise Far(ref)

def wait():
    until = time.monotonic() + 1.2
    while time.monotonic() < until:
        pass

def sampled():
    big = Level([4.5])
    ref = weakref.ref(big)
    wait()
    big = None
    gone("before samples", ref)
    last = Level([5.5])
    wait()
    return weakref.ref(last)

def asked():
    mine = locals()
    level = Level([1.0])
    mine = locals()
    breakpoint()
    wait()
    print("its own copy", sorted(mine))

gc.disable()
gone("of a paused call", paused())
try:
    failing()
except Far as e:
    ref = e.args[0]
gone("of a call that raised", ref)
gone("of a sampled call", sampled())
level = Level([0.5])
ref = weakref.ref(level)
for k in range(3):
    level = Level([k])
    breakpoint()
gone("in a loop", ref)
bad = float("inf")
flow = Level([bad * 0.0])
ref = weakref.ref(flow)
flow = None
gone("a bad one", ref)
asked()
"""


@pytest.mark.parametrize("start", [{}, {"always": {"branches": True}, "counts": True}], ids=["watched", "recorded"])
async def test_values_are_let_go(script, interpreter: str, start: dict) -> None:
    path = script(SCRIPT)
    pauses = 0
    async with running(path, python=interpreter, pause_on={"error", "warning"}, start=start) as run:
        while (await run.pause()) is not None:
            pauses += 1
            await run.client.cards(0, "call")
            await run.client.closeup("Level")
            await run.ask("locals()")
            await run.ask("!len(dir())")
            await run.client.stack()
            await run.client.go_on()
    assert pauses == 5 and not run.trouble
    told = run.out.splitlines()
    assert told.pop() == "its own copy ['level', 'mine']"
    assert len(told) == 8 and all(line.endswith("is gone") for line in told), told


STEPPED = """
def rate(level, width):
    wet = level * width
    held = [wet, level]
    try:
        held[level]
    except (TypeError, IndexError) as e:
        named = type(e).__name__
    return wet, len(held), named

def year(days):
    total, most = 0.0, None
    for day in range(days):
        found = rate(day + 0.5, 2.0)
        total += found[0]
        most = found if most is None or found > most else most
    low = [d / (d - 1) for d in range(days) if d != 1]
    return total, most, low

print(year(4))
print(year(4))
"""


@pytest.mark.parametrize("how", ["line", "into", "out", "on", "skip"])
async def test_names_outlive_every_way_to_go_on(script, interpreter: str, how: str) -> None:
    """A traced call's names are set from a copy on its frame when the trace function returns: nobody may empty it."""
    path = script(STEPPED)
    lines = [3, 6, 9, 15, 18]
    ways = {"line": "step_line", "into": "step_into", "out": "step_out", "skip": "go_on", "on": "go_on"}
    async with running(path, python=interpreter, pause_on={"error", "handled"}, breakpoints={path: lines}) as run:
        pauses = 0
        while pauses < 400 and (facts := await run.pause()) is not None:
            pauses += 1
            names = {c.name for c in await run.client.cards(0, "call")}
            if facts.function == "rate" and facts.line > 3:
                assert {"level", "width", "wet"} <= names, (facts.line, names)
            await run.ask("sorted(locals())")
            if how == "skip" and facts.reason == "error":
                await run.client.skip()
            else:
                await getattr(run.client, ways[how])()
        assert pauses > 10 and not run.trouble
    assert run.out.splitlines() == ["(16.0, (7.0, 2, 'TypeError'), [-0.0, 2.0, 1.5])"] * 2
