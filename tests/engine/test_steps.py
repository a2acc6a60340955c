"""Motion and breakpoints, through the client, on each CPython."""

from __future__ import annotations

import asyncio
import time

import pytest
from driving import running, slowness

from uneven_sum.client import BadUse, Busy

STEPS = """\
def rate(level):
    head = level - 4.0
    flow = head * 1.5
    return flow


def total(levels):
    volume = 0.0
    for level in levels:
        volume += rate(level)
    return volume


answer = total([5.0, 6.0])
other = rate(7.0) + rate(8.0)
print(answer)
"""
AT_START = {"error", "warning", "nonfinite", "start"}


def place(facts) -> tuple[str, int, str]:
    return facts.state, facts.line, facts.function


async def test_lines_calls_and_returns(script, interpreter: str) -> None:
    async with running(script(STEPS), python=interpreter, pause_on=AT_START) as run:
        assert place(await run.pause()) == ("next", 1, "<module>")
        assert place(await run.step()) == ("next", 7, "<module>")
        assert place(await run.step()) == ("next", 14, "<module>")
        assert place(await run.step("into")) == ("next", 8, "total")
        for line in (9, 10):
            assert (await run.step()).line == line
        assert place(await run.step("into")) == ("next", 2, "rate")
        back = await run.step("out")
        assert (back.line, back.function, back.returned) == (10, "total", "1.5")
        assert back.loops[0].number == 1
        assert await run.ask("volume") == "0.0", "the returned value is not assigned yet"
        assert (await run.step()).line == 9
        assert await run.ask("volume") == "1.5"
        assert (await run.step()).line == 10
        assert (await run.step()).line == 9
        assert (await run.step()).line == 11
        assert place(await run.step()) == ("next", 15, "<module>")
        assert (await run.step()).line == 16
        assert await run.step("on") is None
    assert run.out == "4.5\n"


async def test_one_line_loops_and_while_true(script, interpreter: str) -> None:
    path = script(
        "n = 3\nwhile True:\n    n -= 1\n    if n < 0: break\nx = [k * 2 for k in range(3)]\nfor k in x: n += k\nprint(n)\n"
    )
    async with running(path, python=interpreter, pause_on=AT_START) as run:
        lines = [(await run.pause()).line]
        while (facts := await run.step()) is not None:
            lines.append(facts.line)
            assert len(lines) < 40
    assert lines[-3:] == [5, 6, 7]
    assert lines.count(3) == 4
    assert run.out == "5\n"


async def test_steps_through_generators_and_handled_errors(script, interpreter: str) -> None:
    path = script(
        "def gen():\n    yield 1\n    yield 2\n\ndef f():\n    out = 0\n    for v in gen():\n        out += v\n    try:\n"
        "        1 / 0\n    except ZeroDivisionError:\n        out += 10\n    return out\n\nz = f()\nprint(z)\n"
    )
    async with running(path, python=interpreter, pause_on=AT_START) as run:
        await run.pause()
        lines = []
        while (facts := await run.step("into")) is not None:
            lines.append(facts.line)
            assert len(lines) < 60
    assert [n for n in lines if n in (2, 3, 12, 16)] == [2, 3, 12, 16]
    assert run.out == "13\n"


async def test_breakpoints_before_the_run_in_modules_and_functions(script, tmp_path, interpreter: str) -> None:
    (tmp_path / "gauge.py").write_text("def read(k):\n\n    value = k * 2.0\n    return value\n")
    path = script("import gauge\ntotal = 0.0\nfor k in range(3):\n    total += gauge.read(k)\nprint(total)\n")
    module = str(tmp_path / "gauge.py")
    async with running(path, python=interpreter, breakpoints={module: [2], path: [5]}) as run:
        seen = []
        facts = await run.pause()
        while facts is not None:
            seen.append((facts.reason, facts.line, facts.function, facts.state))
            facts = await run.step("on")
    assert seen == [("breakpoint", 3, "read", "next")] * 3 + [("breakpoint", 5, "<module>", "next")]


async def test_breakpoint_set_at_a_pause_and_removed(script, interpreter: str) -> None:
    path = script(
        "def f(x):\n    y = x + 1\n    return y\n\nfor k in range(4):\n    z = f(k)\n    w = z\nprint('end')\n"
    )
    async with running(path, python=interpreter, pause_on=AT_START) as run:
        await run.pause()
        placed = await run.client.set_breakpoints(path, [3, 7])
        assert [(p["verified"], p["line"]) for p in placed] == [(True, 3), (True, 7)]
        assert (await run.step("on")).line == 3
        assert (await run.step("on")).line == 7
        await run.client.set_breakpoints(path, [7])
        assert (await run.step("on")).line == 7
        await run.client.set_breakpoints(path, [])
        assert await run.step("on") is None
    assert run.out == "end\n"


async def test_breakpoint_on_lines_without_code(script) -> None:
    path = script("x = 1\n\n# words\ny = (2 +\n     3)\n")
    async with running(path, pause_on={"start"}) as run:
        await run.pause()
        placed = await run.client.set_breakpoints(path, [3, 5, 9])
        assert [p["line"] for p in placed] == [4, 4, 9]
        assert "moved to line 4" in placed[0]["message"]
        assert not placed[2]["verified"]


LONG = "import time\nn = 0\ndef turn(k):\n    return k + 1\ndef work():\n    n = 0\n    while n < 10**9:\n        n = turn(n)\n        time.sleep(0.0005)\n\nwork()\n"


async def test_breakpoint_set_while_a_loop_runs(script, interpreter: str) -> None:
    async with running(script(LONG), python=interpreter) as run:
        await asyncio.sleep(0.4)
        began = time.perf_counter()
        await run.client.set_breakpoints(run.client.launch.program, [9])
        facts = await run.pause()
        assert (facts.line, facts.function) == (9, "work")
        assert time.perf_counter() - began < 0.5 * slowness() + 1
        await run.client.set_breakpoints(run.client.launch.program, [4])
        assert (await run.step("on")).function == "turn"


@pytest.mark.parametrize(
    "body", ["while True:\n    pass\n", "n = 0\nwhile True:\n    n += 1\n", "import time\ntime.sleep(60)\n"]
)
async def test_interrupt_an_endless_loop(body: str, script, interpreter: str) -> None:
    async with running(script("x = 1.5\n" + body), python=interpreter) as run:
        await asyncio.sleep(0.3)
        began = time.perf_counter()
        asking = asyncio.create_task(run.client.interrupt())
        facts = await run.pause()
        assert time.perf_counter() - began < 0.5 * slowness() + 1
        await asking
        assert facts.reason == "pause"
        assert await run.ask("x") == "1.5"
        if "n" in body and "sleep" not in body:
            assert (await run.step()).line >= 2


async def test_interrupt_inside_native_code_says_so(script) -> None:
    path = script("x = sum(range(400_000_000))\nprint('done')\n")
    async with running(path) as run:
        await asyncio.sleep(0.3)
        asking = asyncio.create_task(run.client.interrupt())
        while True:
            event = await asyncio.wait_for(run.client.next_event(), 120)
            if isinstance(event, Busy):
                break
        assert "Waiting for native code" in event.message
        await run.client.end()
        await asking


async def test_retry_skip_and_let_go(script, interpreter: str) -> None:
    path = script(
        "def f(w):\n    r = 1.0 / w\n    return r\n\ntry_it = f(0.0)\nprint(try_it)\nbad = [][2]\nprint('skipped')\nlost = {}['x']\n"
    )
    async with running(path, python=interpreter) as run:
        facts = await run.pause()
        assert facts.retry and facts.function == "f"
        await run.ask("!w = 4.0")
        await run.client.retry()
        facts = await run.pause()
        assert (facts.reason, facts.line) == ("step", 3) and await run.ask("r") == "0.25"
        facts = await run.step("on")
        assert (facts.line, facts.exception.type) == (7, "IndexError")
        await run.client.skip()
        facts = await run.pause()
        assert facts.line == 8
        facts = await run.step("on")
        assert (facts.line, facts.exception.type) == (9, "KeyError")
        assert await run.step("on") is None
    assert run.out == "0.25\nskipped\n"
    assert "KeyError: 'x'" in run.err and "agent" not in run.err
    assert run.exited.exit_status == 1


async def test_head_of_a_loop_cannot_be_retried(script) -> None:
    async with running(script("for k in range(3, 'a'):\n    pass\n")) as run:
        facts = await run.pause()
        assert not facts.retry
        with pytest.raises(BadUse, match="cannot be skipped or tried again"):
            await run.client.retry()


async def test_the_end_pauses_too(script, interpreter: str) -> None:
    path = script("import atexit\natexit.register(print, 'at exit')\nvalues = [1.5, 2.5]\nmean = sum(values) / 2\n")
    async with running(path, python=interpreter, pause_at_end=True) as run:
        facts = await run.pause()
        assert facts.reason == "end" and "finished" in facts.headline
        cards = {c.name: c.text for c in await run.client.cards(0, "module")}
        assert cards["mean"] == "2.0" and cards["values"] == "[1.5, 2.5]"
        assert await run.ask("mean * 2") == "4.0"
        assert run.out == ""
        assert await run.step("on") is None
    assert run.out == "at exit\n"


async def test_accept_silences_one_statement(script) -> None:
    path = script("import numpy as np\nfor k in range(3):\n    a = np.float64(1.0) / 0\nb = np.float64(-1.0) / 0\n")
    async with running(path) as run:
        facts = await run.pause()
        await run.client.accept(facts.file, facts.line)
        assert (await run.step("on")).line == 4


async def test_threads_and_pools_go_on_by_themselves(script) -> None:
    path = script(
        "from concurrent.futures import ThreadPoolExecutor\nimport threading\ndef half(x):\n    return 1.0 / x\n"
        "with ThreadPoolExecutor(2) as pool:\n    found = list(pool.map(half, [1, 2, 0]))\n"
    )
    async with running(path) as run:
        facts = await run.pause()
        assert (facts.line, facts.function, facts.exception.type) == (4, "half", "ZeroDivisionError")
        assert await run.ask("!x + 1") == "1"
        with pytest.raises(BadUse, match="Cannot copy the script"):
            await run.ask("half(2)")
