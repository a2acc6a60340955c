"""Motion by call, pass, loop and place; jumps, leaving a call, threads; on each CPython."""

from __future__ import annotations

import asyncio

import pytest
from driving import running

from uneven_sum.client import BadUse
from uneven_sum.protocol import Lookout

LOOP = """\
def rate(x):
    y = x * 2.0
    return y


def half(x):
    return x / 2.0


def simulate(n):
    total = 0.0
    for day in range(n):
        head = day * 0.5
        total += rate(half(head)) + rate(1.0)
        if head > 100:
            total = 0.0
    after = total
    return after


print(simulate(20))
"""
AT_START = {"error", "warning", "nonfinite", "start"}


async def at(run, line: int, **options):
    """Goes on to a line by a lookout of one use."""
    path = run.client.launch.program
    await run.client.set_lookouts([Lookout(1, file=path, line=line, once=True, **options)])
    return await run.step("on")


async def go(run, how, *args):
    await how(*args)
    return await run.pause()


async def test_passes_and_loops(script, interpreter: str) -> None:
    async with running(script(LOOP), python=interpreter, pause_on=AT_START) as run:
        c = run.client
        await run.pause()
        facts = await at(run, 14)
        assert facts.loops[0].number == 1
        facts = await go(run, c.next_pass)
        assert (facts.line, facts.loops[0].number, facts.state) == (14, 2, "next")
        facts = await go(run, c.next_pass, 9)
        assert (facts.line, facts.loops[0].number) == (14, 9)
        assert await run.ask("day") == "8"
        with pytest.raises(BadUse, match="Pass 3 is over"):
            await c.next_pass(3)
        with pytest.raises(BadUse, match="the loop has 20"):
            await c.next_pass(21)
        facts = await go(run, c.end_loop)
        assert facts.line == 17
        with pytest.raises(BadUse, match="No loop"):
            await c.end_loop()
        assert await run.step("on") is None
    assert run.out == "135.0\n"
    assert not run.trouble


async def test_the_same_place_when_the_loop_ends_first(script, interpreter: str) -> None:
    async with running(script(LOOP), python=interpreter, pause_on=AT_START) as run:
        await run.pause()
        await at(run, 14, start=20)
        assert (await go(run, run.client.next_pass)).line == 17


async def test_outside_of_loops_the_next_pass_is_the_next_call(script, interpreter: str) -> None:
    async with running(script(LOOP), python=interpreter, pause_on=AT_START) as run:
        await run.pause()
        await at(run, 2)
        facts = await go(run, run.client.next_pass)
        assert (facts.line, facts.function) == (2, "rate")
        assert await run.ask("x") == "1.0"


async def test_into_the_chosen_call(script, interpreter: str) -> None:
    async with running(script(LOOP), python=interpreter, pause_on=AT_START) as run:
        c = run.client
        await run.pause()
        await at(run, 14)
        targets = await c.into_targets()
        assert [t for _, t in targets] == ["half(head)", "rate(half(head))", "rate(1.0)"]
        facts = await go(run, c.step_into, targets[2][0])
        assert (facts.function, facts.line) == ("rate", 2)
        assert await run.ask("x") == "1.0"
        facts = await run.step("out")
        assert (facts.line, facts.returned) == (14, "2.0")
        with pytest.raises(BadUse, match="no such call"):
            await c.step_into(9)


async def test_into_library_code_only_when_asked(script, interpreter: str) -> None:
    path = script("import statistics\nx = statistics.mean([1.0, 2.0])\nprint(x)\n")
    async with running(path, python=interpreter, pause_on=AT_START) as run:
        await run.pause()
        await run.step()
        assert (await run.step("into")).line == 3
    async with running(path, python=interpreter, pause_on=AT_START) as run:
        await run.pause()
        await run.step()
        facts = await go(run, run.client.step_into, 0, True)
        assert facts.file.endswith("statistics.py") and facts.function == "mean"
        first = facts.line
        facts = await run.step()
        assert facts.file.endswith("statistics.py") and facts.line > first
        assert (await run.step("out")).line == 2
    assert not run.trouble


async def test_stepped_over(script, interpreter: str) -> None:
    async with running(script(LOOP), python=interpreter, pause_on=AT_START) as run:
        await run.pause()
        await at(run, 14)
        await run.client.set_stepping(["rate"])
        assert (await run.step("into")).function == "half"
        facts = await run.step("out")
        assert facts.line == 14
        assert (await run.step("into")).line == 15


async def test_run_to_a_line(script, interpreter: str) -> None:
    path = script(LOOP)
    async with running(path, python=interpreter, pause_on=AT_START) as run:
        await run.pause()
        facts = await go(run, run.client.run_to, path, 13)
        assert facts.line == 13 and facts.loops[0].number == 1
        facts = await go(run, run.client.run_to, path, 13)
        assert facts.line == 13 and facts.loops[0].number == 2
        facts = await go(run, run.client.run_to, path, 17)
        assert facts.line == 17
        assert await run.step("on") is None


async def test_lookouts_set_in_a_script_without_functions(script, interpreter: str) -> None:
    path = script("total = 0.0\nfor k in range(9):\n    total += k\n    x = total\nprint(total)\n")
    async with running(path, python=interpreter, pause_on=AT_START) as run:
        await run.pause()
        assert (await go(run, run.client.run_to, path, 4)).line == 4
        facts = await at(run, 3, condition="k == 6")
        assert (facts.line, facts.loops[0].number) == (3, 7)
        assert (await go(run, run.client.run_to, path, 5)).line == 5
    assert not run.trouble


JUMPS = """\
def work(n):
    seen = []
    a = 1.0
    a = a + 1.0
    seen.append(a)
    for k in range(n):
        seen.append(k)
    b = [][3]
    seen.append("end")
    return seen


print(work(2))
"""


async def test_another_line_the_next_one(script, interpreter: str) -> None:
    path = script(JUMPS)
    async with running(path, python=interpreter, pause_on=AT_START) as run:
        c = run.client
        await run.pause()
        await at(run, 5)  # from a lookout's pause
        facts = await go(run, c.make_next, path, 4)
        assert (facts.line, facts.state) == (4, "next")
        facts = await run.step()  # from a step's pause
        assert facts.line == 5 and await run.ask("a") == "3.0"
        facts = await go(run, c.make_next, path, 4)
        assert facts.line == 4
        facts = await run.step()
        assert await run.ask("a") == "4.0"
        with pytest.raises(BadUse, match="within the `for` of line 6"):
            await c.make_next(path, 7)
        with pytest.raises(BadUse, match="same call"):
            await c.make_next(path, 13)
        with pytest.raises(BadUse, match="No statement begins"):
            await c.make_next(path, 11)
        facts = await run.step("on")
        assert facts.exception.type == "IndexError"
        facts = await go(run, c.make_next, path, 9)  # from an error's pause
        assert facts.line == 9
        assert await run.step("on") is None
    assert run.out == "[4.0, 0, 1, 'end']\n"
    assert not run.trouble


LEAVES = """\
import numpy as np


def rate(x):
    try:
        y = x * 2.0
        z = y / 0.0 if x > 2 else y
        w = np.sqrt(-y)
    except ZeroDivisionError:
        raise
    except BaseException:
        print("never")
    finally:
        print("left")
    return w


total = rate(1.0) + 100.0
total += rate(5.0)
print(total)
"""


async def test_leaving_a_call_with_a_value(script, interpreter: str) -> None:
    source = LEAVES.replace("import numpy as np\n", "").replace("np.sqrt(-y)", "y * 1e308 * 1e308")
    path = script(source)
    async with running(path, python=interpreter, pause_on=AT_START) as run:
        c = run.client
        await run.pause()
        facts = await at(run, 5)
        facts = await go(run, c.leave_call, "x + 41.0")
        assert (facts.line, facts.returned, facts.function) == (17, "42.0", "<module>")
        facts = await run.step("on")  # the nonfinite one, in the second call? no: an error first
        assert facts.exception.type == "ZeroDivisionError"
        facts = await go(run, c.leave_call, "7.0")
        assert facts.line == 18 and facts.returned == "7.0"
        with pytest.raises(BadUse, match="Only the call of a function"):
            await c.leave_call("1")
        assert await run.step("on") is None
    assert run.out == "left\nleft\n149.0\n"
    assert not run.trouble


async def test_leaving_in_the_middle_of_a_statement(script, interpreter: str) -> None:
    path = script("def f(x):\n    y = x * 1e308\n    return y\n\nprint(f(1e10))\n")
    async with running(path, python=interpreter) as run:
        facts = await run.pause()
        assert facts.reason == "nonfinite"
        facts = await go(run, run.client.leave_call, "2.5")
        assert facts.returned == "2.5"
        assert await run.step("on") is None
    assert run.out == "2.5\n"


async def test_steps_stay_with_a_coroutine(script, interpreter: str) -> None:
    path = script(
        "import asyncio\n\nasync def gauge(name):\n    a = 1.0\n    await asyncio.sleep(0.01)\n    b = a + 1\n"
        "    return b\n\nasync def main():\n    return await asyncio.gather(gauge('x'), gauge('y'))\n\n"
        "print(asyncio.run(main()))\n"
    )
    async with running(path, python=interpreter, pause_on=AT_START) as run:
        await run.pause()
        await at(run, 5)
        name = await run.ask("name")
        facts = await run.step()
        assert (facts.line, facts.function) == (6, "gauge")
        assert await run.ask("name") == name
        assert (await run.step()).line == 7
        await run.step("on")
    assert run.out == "[2.0, 2.0]\n"


async def test_after_the_fact(script, interpreter: str) -> None:
    """A script that ends in an error outside all guards: its calls can still be read."""
    path = script(
        "import functools\nfrom functools import cmp_to_key\n\ndef njit(f):\n    return f\n\n@njit\ndef bad(x):\n"
        "    inner = x * 2\n    return {}[inner]\n\ndef outer(v):\n    return sorted(v, key=bad)\n\n"
        "try:\n    outer([3, 1])\nfinally:\n    raise SystemError('last') from None\n"
    )
    async with running(path, python=interpreter, pause_at_end=True, pause_on={"error"}) as run:
        facts = await run.pause()
        while facts is not None and facts.exception.type != "SystemError":
            facts = await run.step("on")
    plain = script(
        "def njit(f):\n    return f\n\n@njit\ndef bad(x):\n    inner = x * 2\n    return {}[inner]\n\nbad(3)\n"
    )
    async with running(plain, python=interpreter, pause_at_end=True, guards=False) as run:
        facts = await run.pause()
        assert (facts.reason, facts.state, facts.exception.type) == ("error", "ran", "KeyError")
        assert [(c.function, c.line) for c in facts.trail] == [("<module>", 9), ("bad", 7)]
        assert await run.ask("inner") == "6"
        with pytest.raises(BadUse, match="has ended"):
            await run.client.next_pass()
        assert await run.step("on") is None
    assert "KeyError: 6" in run.err


async def test_a_pause_holds_the_other_threads(script, interpreter: str) -> None:
    path = script(
        "import threading, time\ncount = 0\ndef tick():\n    global count\n    for _ in range(10**9):\n        count += 1\n"
        "threading.Thread(target=tick, daemon=True, name='ticker').start()\ntime.sleep(0.05)\nx = 1\nprint(x)\n"
    )
    async with running(path, python=interpreter, start={"lookouts": [Lookout(1, file=path, line=9)]}) as run:
        facts = await run.pause()
        assert facts.line == 9
        threads = await run.client.threads()
        assert "ticker" in [name for _, name in threads]
        first = int((await run.client.ask("!count"))["result"])
        await asyncio.sleep(3.0)
        second = int((await run.client.ask("!count"))["result"])
        # Questions let it run for moments; in three seconds it would have made ten millions and more.
        assert second - first < 2_500_000, "the other thread has run on"
        ticker = next(n for n, name in threads if name == "ticker")
        frames = await run.client.stack(ticker)
        assert frames[0].name == "tick"
        facts = await run.step()
        assert facts.line == 10
        assert int((await run.client.ask("!count"))["result"]) >= second
