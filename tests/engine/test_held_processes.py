"""While one process is paused, the others wait if the user has chosen so."""

from __future__ import annotations

import asyncio
import time
from pathlib import Path

import pytest
from driving import PATIENCE, Run, running, slowness
from workers import are_gone

from uneven_sum.client import BadUse, Exited
from uneven_sum.host.processes import Processes

# The script and its second process count in files; the first process trips, and reads a line that the second writes.
COUNTING = """import multiprocessing
import os
import sys
import time


def trips(read):
    time.sleep(0.3)
    head = 1e308 * 10.0
    line = os.read(read, 1)
    done = 1


def counts(name, end, write):
    k = 0
    while not os.path.exists(end):
        k += 1
        with open(name + '.new', 'w') as f:
            f.write(str(k))
        os.replace(name + '.new', name)  # who reads it finds a number at any time
        time.sleep(0.01)
        if k > 100:
            os.write(write, b'.')


if __name__ == '__main__':
    context = multiprocessing.get_context(sys.argv[1])
    folder = os.path.dirname(__file__)
    read, write = os.pipe()
    os.set_inheritable(read, True)
    first = context.Process(target=trips, args=(read,))
    second = context.Process(target=counts, args=(folder + '/second', folder + '/end', write))
    first.start()
    second.start()
    counts(folder + '/script', folder + '/end', write)
    first.join()
    second.join()
"""


def count(folder: Path, name: str) -> int:
    try:
        return int((folder / name).read_text() or 0)
    except FileNotFoundError:
        return 0


async def stands(folder: Path, name: str) -> bool:
    """Whether a count stands still."""
    before = count(folder, name)
    await asyncio.sleep(0.5 * slowness())
    return count(folder, name) == before


async def states(run: Run, *wanted: str) -> None:
    end = time.monotonic() + 20 * slowness()
    while (found := sorted(one.state for one in run.client.processes())) != sorted(wanted):
        assert time.monotonic() < end, found
        await asyncio.sleep(0.02)


async def over(run: Run, folder: Path) -> None:
    (folder / "end").write_text("")
    while not isinstance(event := await asyncio.wait_for(run.client.next_event(), PATIENCE), Exited):
        pass
    assert event.exit_status == 0


@pytest.mark.parametrize("hold", [True, False])
async def test_the_others_wait_while_one_is_paused(hold: bool, script, interpreter: str) -> None:
    path = script(COUNTING)
    folder = Path(path).parent
    async with running(path, "fork", python=interpreter, children_pause=True, hold_others=hold) as run:
        facts = await run.pause()
        assert "trips" in facts.function and facts.process
        await states(run, "shown", *(["held", "held"] if hold else ["runs", "runs"]))
        assert await stands(folder, "script") == await stands(folder, "second") == hold
        await run.client.go_on()
        await states(run, *["runs"] * 3)
        assert not await stands(folder, "script") and not await stands(folder, "second")
        await over(run, folder)
    are_gone(path)


@pytest.mark.parametrize("method", ["fork", "spawn"])
async def test_one_that_begins_while_another_is_paused_waits_too(method: str, script, monkeypatch) -> None:
    """As on a machine with too much to do, where the first has paused before the second is known."""
    wait = "    while not os.path.exists(os.path.dirname(__file__) + '/{}'):\n        time.sleep(0.01)\n"
    begins = "    open(os.path.dirname(__file__) + '/first', 'w').close()\n" + wait.format("second_asks")
    text = COUNTING.replace("    time.sleep(0.3)\n", begins).replace(
        "    line = os.read(read, 1)\n", wait.format("end")
    )
    path = script(text.replace("    second.start()\n", wait.format("first") + "    second.start()\n"))
    folder = Path(path).parent
    welcome = Processes._welcome

    async def late(processes, reader, writer) -> None:
        if processes.links:
            (folder / "second_asks").write_text("")
            while not processes.here.paused:
                await asyncio.sleep(0.02)
        await welcome(processes, reader, writer)

    monkeypatch.setattr(Processes, "_welcome", late)
    async with running(path, method, children_pause=True, hold_others=True) as run:
        await run.pause()
        await states(run, "shown", "held", "held")
        assert await stands(folder, "second")
        await run.client.go_on()
        await states(run, *["runs"] * 3)
        await over(run, folder)
    are_gone(path)


async def test_a_step_that_waits_for_a_held_process_lets_it_go_on(script) -> None:
    path = script(COUNTING)
    folder = Path(path).parent
    async with running(path, "fork", children_pause=True, hold_others=True) as run:
        await run.pause()
        await states(run, "shown", "held", "held")
        assert (await run.step()).line == 10
        await states(run, "shown", "held", "held")
        assert (await run.step()).line == 11, "the second process has written what this one reads"
        await states(run, "shown", "held", "held")
        assert await stands(folder, "second")
        await run.client.go_on()
        await over(run, folder)


async def test_a_held_process_can_be_looked_at_and_goes_on_alone(script) -> None:
    path = script(COUNTING)
    folder = Path(path).parent
    async with running(path, "fork", children_pause=True, hold_others=True) as run:
        await run.pause()
        await states(run, "shown", "held", "held")
        second = next(one for one in run.client.processes() if one.state == "held" and one.name)
        await run.client.show_process(second.pid)
        facts = await run.pause()
        assert facts.headline.startswith("Held at line ") and facts.process == second.name
        assert int(await run.ask("k")) > 0
        await run.client.go_on()
        shown = await run.pause()
        assert shown.function == "trips", "the process that has tripped is shown again"
        await states(run, "shown", "held", "runs")
        assert not await stands(folder, "second") and await stands(folder, "script")
        with pytest.raises(BadUse):
            await run.client.show_process(second.pid)
        await run.client.go_on()
        await over(run, folder)
