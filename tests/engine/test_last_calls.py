"""At the script's end: what `main()` and the last calls of the other functions leave."""

from __future__ import annotations

import pytest
from driving import running

from uneven_sum.client import BadUse

ROUTE = """
import weakref
import numpy as np

class Tank:
    def __init__(self, level):
        self.level = level

class Log:
    def __del__(self):
        print("log closed", flush=True)

def fill(tank, inflow):
    rise = inflow / 4.0
    tank.level += rise
    return tank.level

def route(days):
    tank = Tank(1.0)
    levels = [fill(tank, float(day % 7)) for day in range(days)]
    log = Log()
    return np.array(levels)

def watched():
    weak = np.ones(3)
    seen.append(weakref.ref(weak))
    return 1

seen = []
def main():
    levels = route(20)
    out = open(__file__)
    total = levels.sum()
    watched()
    print("before the end", seen[0](), flush=True)
    if total > 1e9:
        return 1

"""


async def called(run, name: str):
    return next(call for call in await run.client.stack() if call.name == name)


@pytest.mark.parametrize("end", ["main()\n", "raise SystemExit(main())\n"])
async def test_values_of_main_at_the_end(script, interpreter: str, end: str) -> None:
    async with running(script(ROUTE + end), python=interpreter, pause_at_end=True) as run:
        facts = await run.pause()
        assert "the last calls of main() and " in facts.headline
        calls = await run.client.stack()
        assert [call.name for call in calls] == ["<module>", "main", "watched", "route", "fill", "Tank.__init__"][
            : len(calls)
        ]
        main, fill = await called(run, "main"), await called(run, "fill")
        assert await run.ask("round(total, 3) == round(sum(levels), 3)", main.id) == "True"
        assert "float64" in await run.ask("levels", main.id)
        assert (await run.ask("out", main.id)).startswith("not kept after its call: TextIOWrapper")
        assert await run.ask("rise * 4.0", fill.id) == "5.0" and fill.line == 16
        cards = await run.client.cards(fill.id)
        assert {c.name for c in cards} >= {"tank", "rise"} and not any(c.new or c.changed for c in cards)
        assert fill.unevenSum["arguments"].startswith("tank=Tank")
        assert await run.ask("tank.level", (await called(run, "route")).id) != ""
        with pytest.raises(BadUse, match="rise"):
            await run.ask("rise", main.id)
        # What has a finalizer, or is referred to weakly, ends when it does in a plain run.
        assert run.out == "log closed\nbefore the end None\n"
        assert await run.step("on") is None


async def test_values_of_a_main_that_exits(script) -> None:
    text = "import sys\ndef main():\n    level = 4.5\n    sys.exit(0)\nmain()\n"
    async with running(script(text), pause_at_end=True) as run:
        assert "main()" in (await run.pause()).headline
        main = await called(run, "main")
        assert main.line == 4 and await run.ask("level", main.id) == "4.5"


async def test_what_is_called_often_is_not_kept(script) -> None:
    text = "def rise(inflow):\n    area = 4.0\n    return inflow / area\ndef main():\n    total = 0.0\n"
    text += "    for n in range(1500):\n        total += rise(n)\nmain()\n"
    async with running(script(text), pause_at_end=True) as run:
        facts = await run.pause()
        assert facts.headline.endswith("the last call of main(). Not kept: rise(), called too often.")
        assert [call.name for call in await run.client.stack()] == ["<module>", "main"]


async def test_a_script_without_functions_says_nothing_of_calls(script) -> None:
    async with running(script("level = 2.5\n"), pause_at_end=True) as run:
        assert (await run.pause()).headline.endswith("Inspect or evaluate its values.")
