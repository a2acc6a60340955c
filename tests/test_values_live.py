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
