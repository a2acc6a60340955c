"""Going back: the state at a return point is restored, again and again; on each CPython."""

from __future__ import annotations

import asyncio
import os
from pathlib import Path

import pytest
from driving import running

from uneven_sum.client import BadUse
from uneven_sum.protocol import Lookout

SCRIPT = """\
import random
import sys

random.seed(4)
values = [1.0, 2.0]
log = open(sys.argv[1], "w")
source = open(sys.argv[2])
total = 0.0
for k in range(30):
    total += k
    dice = random.random()
    log.write(f"{k} {dice}\\n")
    log.flush()
    line = source.readline()
    values.append(k)
    print("pass", k, line.strip())
print("end", total, len(values))
"""


@pytest.fixture
def files(tmp_path):
    source = tmp_path / "source.txt"
    source.write_text("".join(f"line {n}\n" for n in range(100)))
    return str(tmp_path / "log.txt"), str(source)


async def back(run, number: int | None = None):
    await run.client.step_back(number)
    return await run.pause()


async def state(run) -> tuple[str, ...]:
    return tuple([await run.ask(text) for text in ("k", "total", "len(values)", "random.random()", "source.tell()")])


async def test_state_is_restored(script, files, interpreter: str) -> None:
    path = script(SCRIPT)
    async with running(path, *files, python=interpreter, rewind=True, pause_on=set()) as run:
        await run.client.end()
        run.__init__(type(run.client)(run.client.launch))
        await run.client.start(lookouts=[Lookout(1, file=path, line=15)])
        seen = []
        await run.pause()
        for _ in range(6):
            seen.append((await state(run), Path(files[0]).read_text()))
            await run.step("on")
        for number in (5, 4, 3):
            facts = await back(run)
            assert facts.loops[0].number == number + 1
            assert (await state(run), Path(files[0]).read_text()) == seen[number], "back from the seventh pause"
        again = await run.step("on")
        assert again.loops[0].number == 5 and (await state(run))[1:] == seen[4][0][1:], "forward it goes as before"
        await back(run)
        await run.ask("!values.clear()")
        facts = await back(run)
        assert facts.loops[0].number == 3 and (await state(run))[2] == seen[2][0][2]
        await back(run, 1)
        assert (await state(run), Path(files[0]).read_text()) == seen[0]
        with pytest.raises(BadUse, match="no pause to go back to"):
            await run.client.step_back()
        await run.client.set_lookouts([])
        assert await run.step("on") is None
    assert run.out.endswith("end 435.0 32\n") and run.exited.exit_status == 0
    assert len(Path(files[0]).read_text().splitlines()) == 30
    assert not run.trouble


async def test_back_from_an_error_and_to_a_changed_value(script, interpreter: str) -> None:
    path = script("x = 4.0\ny = x - 4.0\nz = 1.0 / y\nprint(z)\n")
    async with running(path, python=interpreter, rewind=True, pause_on={"error", "start"}) as run:
        await run.pause()
        assert (await run.step()).line == 2
        facts = await run.step("on")
        assert facts.exception.type == "ZeroDivisionError"
        facts = await back(run)
        assert facts.line == 2
        await run.ask("!x = 6.0")
        assert await run.step("on") is None
    assert run.out == "0.5\n" and run.exited.exit_status == 0


async def test_many_steps_with_bounded_copies(script) -> None:
    path = script("total = 0\nfor k in range(100):\n    total += k\nprint(total)\n")
    async with running(path, rewind=True, pause_on={"start"}) as run:
        await run.pause()
        for _ in range(120):
            await run.step()
        points = run.client.return_points()
        assert 2 <= len(points) <= 41 and all(p["line"] in (1, 2, 3) for p in points)
        pids = [p.pid for p in run.client.session.points.all.values()]
    await asyncio.sleep(0.5)
    assert not any(_alive(pid) for pid in pids), "no copy outlives the run"


async def test_threads_have_no_return_point(script) -> None:
    path = script(
        "import threading, time\nthreading.Thread(target=time.sleep, args=(60,), daemon=True).start()\nx = 1\ny = 2\n"
    )
    async with running(path, rewind=True, pause_on=set()) as run:
        await run.client.end()
        run.__init__(type(run.client)(run.client.launch))
        await run.client.start(lookouts=[Lookout(1, file=path, line=4)])
        await run.pause()
        assert not run.client.return_points()
        with pytest.raises(BadUse, match="no pause to go back to"):
            await run.client.step_back()


def _alive(pid: int) -> bool:
    try:
        with open(f"/proc/{pid}/stat") as f:
            return f.read().rpartition(")")[2].split()[0] != "Z"
    except OSError:
        return False


async def test_nothing_outlives_a_killed_host(script, tmp_path) -> None:
    path = script("x = 1\nwhile True:\n    x += 1\n")
    code = (
        "import asyncio, sys\nfrom uneven_sum.client import Client, Launch\nasync def main():\n"
        f"    c = Client(Launch({path!r}, capture=True, rewind=True, pause_on={{'start'}}))\n    await c.start()\n"
        "    await asyncio.sleep(1)\n    await c.step_line()\n    await asyncio.sleep(0.5)\n    await c.step_back()\n"
        "    await asyncio.sleep(0.5)\n    await c.go_on()\n"
        "    print(c.session.pid, *[p.pid for p in c.session.points.all.values()], flush=True)\n    await asyncio.sleep(60)\nasyncio.run(main())\n"
    )
    import sys

    host = await asyncio.create_subprocess_exec(sys.executable, "-c", code, stdout=-1)
    line = await asyncio.wait_for(host.stdout.readline(), 60)
    pids = [int(p) for p in line.split()]
    assert len(pids) >= 2 and all(_alive(p) for p in pids)
    os.kill(host.pid, 9)
    await host.wait()
    for _ in range(100):
        if not any(_alive(p) for p in pids):
            return
        await asyncio.sleep(0.1)
    raise AssertionError(f"left over: {[p for p in pids if _alive(p)]}")
