"""At a non-finite pause: run the statement again after a repair, or give it another value."""

from __future__ import annotations

import pytest
from driving import running

from uneven_sum.client import BadUse

SCRIPT = """
import numpy as np
head, flow, total = np.float64(0.0), [], 0.0
def rate(head):
    share = 3.0 / head
    return share
def steps(n):
    for k in range(n):
        flow.append(rate(head))
    return len(flow)
with np.errstate(all="ignore"):
    first = np.float64(1.0) / head
    print("first", first, flow)
    print(steps(2))
"""


async def test_the_statement_runs_again_and_its_value_is_seen(script, interpreter: str) -> None:
    text = SCRIPT.replace("import numpy as np", "import math").replace("np.float64(0.0)", "math.inf")
    text = text.replace('with np.errstate(all="ignore"):', "if True:").replace("np.float64(1.0) / head", "head - head")
    async with running(script(text), python=interpreter) as run:
        facts = await run.pause()
        assert (facts.reason, facts.retry, facts.replace) == ("nonfinite", True, True)
        await run.ask("!head = 4.0")
        await run.client.retry()
        facts = await run.pause()
        assert (facts.reason, facts.state, facts.line) == ("step", "next", 13)
        assert await run.ask("first") == "0.0"
        assert await run.step("on") is None
        assert run.out == "first 0.0 []\n2\n"


async def test_another_value_takes_its_place(script, interpreter: str) -> None:
    text = SCRIPT.replace("import numpy as np", "import math").replace("np.float64(0.0)", "math.inf")
    text = text.replace('with np.errstate(all="ignore"):', "if True:").replace("np.float64(1.0) / head", "head - head")
    async with running(script(text), python=interpreter) as run:
        await run.pause()
        with pytest.raises(BadUse, match="not_there"):
            await run.client.replace("not_there")
        await run.client.replace("len(flow) + 0.5")
        facts = await run.pause()
        assert (facts.reason, facts.line, facts.hand) == ("step", 13, ["first"])
        assert await run.ask("first") == "0.5"


async def test_a_returned_value_is_replaced_in_a_call(script) -> None:
    async with running(script("import math\ndef gap(a):\n    return a - a\nx = gap(math.inf) + 1\nprint(x)\n")) as run:
        facts = await run.pause()
        assert (facts.line, facts.replace) == (3, True)
        await run.client.replace("2.0")
        await run.pause()
        await run.client.go_on()
        assert await run.pause() is None and run.out == "3.0\n"


async def test_what_has_changed_in_place_cannot_run_again(script) -> None:
    text = "import numpy as np\nflow = np.ones(3)\nwith np.errstate(all='ignore'):\n    flow /= np.array([1.0, 0.0, 2.0])\n    y = 1\n"
    async with running(script(text)) as run:
        facts = await run.pause()
        assert (facts.line, facts.retry, facts.replace) == (4, False, False)
        with pytest.raises(BadUse, match="works in place"):
            await run.client.retry()
        with pytest.raises(BadUse, match="not stored yet"):
            await run.client.replace("0.0")


async def test_a_value_in_a_comprehension_is_replaced_where_it_stands(script) -> None:
    text = "import math\nheads = [1.0, math.inf]\nflow = [h - h for h in heads]\nprint(flow)\n"
    async with running(script(text)) as run:
        facts = await run.pause()
        assert facts.replace
        await run.client.replace("7.0")
        while await run.pause() is not None:
            await run.client.go_on()
        assert run.out == "[0.0, 7.0]\n"


async def test_after_an_error_the_next_line_is_shown(script, interpreter: str) -> None:
    async with running(script("head = 0.0\nflow = 1.0 / head\nprint(flow)\n"), python=interpreter) as run:
        await run.pause()
        await run.ask("!head = 2.0")
        await run.client.retry()
        facts = await run.pause()
        assert (facts.reason, facts.line) == ("step", 3) and await run.ask("flow") == "0.5"


RETURNS = """
import math
def f(a):
    b = a + 1
    return math.inf - math.inf if a < 2 else b
x = f(1)
print(x)
"""


async def test_another_line_is_next_from_a_paused_return(script, interpreter: str) -> None:
    path = script(RETURNS)
    async with running(path, python=interpreter) as run:
        facts = await run.pause()
        assert (facts.reason, facts.line) == ("nonfinite", 5)
        await run.client.make_next(path, 4)
        facts = await run.pause()
        assert (facts.line, facts.state) == (4, "next")
        await run.ask("!a = 3")
        assert (await run.step()).line == 5
        assert await run.step("on") is None and run.out == "4\n" and not run.trouble


LAST = """
import math
def f(a):
    b = [a]
    b.append(a if a > 2 else math.inf - math.inf)
    c = b[0] if a > 2 else FAULT
f(1)
print("end")
"""


@pytest.mark.parametrize("fault", ["math.inf - math.inf", "1 / 0"])
async def test_another_line_is_next_from_the_last_line_of_a_function(script, interpreter: str, fault: str) -> None:
    path = script(LAST.replace("FAULT", fault).replace("    b.append(a if a > 2 else math.inf - math.inf)\n", ""))
    async with running(path, python=interpreter) as run:
        facts = await run.pause()
        assert facts.line == 5
        await run.client.make_next(path, 4)
        facts = await run.pause()
        assert (facts.line, facts.state) == (4, "next")
        await run.ask("!a = 3")
        assert (await run.step()).line == 5
        assert await run.step("on") is None and run.out == "end\n" and not run.trouble


PASSES_ON = """
def f(a):
    return a / 0
for k in range(2):
    try:
        y = f(2)
        z = 1
    except (ValueError,
            KeyError):
        y = 4
    except ZeroDivisionError:
        y = 5
match y:
    case 4:
        y = 1
    case 5:
        y = 2
print(y)
"""


async def test_steps_through_an_error_show_the_lines_that_run(script, interpreter: str) -> None:
    path = script(PASSES_ON)
    async with running(path, python=interpreter, pause_on=set(), breakpoints={path: [3]}) as run:
        await run.pause()
        lines = [(await run.step()).line for _ in range(4)]
        assert lines == [8, 12, 4, 5]
        await run.client.set_breakpoints(path, [])
        lines = [(await run.step()).line for _ in range(6)]
        assert lines == [6, 8, 12, 4, 13, 17]
        assert await run.step("on") is None and run.out == "2\n"
