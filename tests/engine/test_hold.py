"""A script that is held at its trip; attaching to it and leaving it."""

from __future__ import annotations

import asyncio
import os
import signal
import stat
import subprocess
import sys
import time
from contextlib import asynccontextmanager

import pytest
from driving import PATIENCE, Run

from uneven_sum.client import BadUse, Client
from uneven_sum.host.attached import held_at, launch_at
from uneven_sum.protocol import Lookout

SCRIPT = (
    "import sys\n\n\ndef rating(day):\n    level = 0.3 * (day - 2)\n    flow = 1e308 * level\n    return flow\n\n\n"
    "found = []\nfor day in range(40):\n    found.append(rating(day))\nprint('done')\nsys.exit(3)\n"
)


@asynccontextmanager
async def held(path: str, seconds: float, *more: str):
    """`check --hold` of a script, paused at its trip."""
    command = [sys.executable, "-m", "uneven_sum", "check", "--hold", str(seconds), *more, path]
    process = await asyncio.create_subprocess_exec(
        *command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, cwd=os.path.dirname(path)
    )
    try:
        end = time.monotonic() + PATIENCE
        while not os.path.exists(path + ".held") or not os.path.getsize(path + ".held"):
            assert time.monotonic() < end and process.returncode is None
            await asyncio.sleep(0.02)
        yield process
    finally:
        if process.returncode is None:
            process.kill()
            await process.wait()


@asynccontextmanager
async def attached(path: str):
    client = Client(launch_at(held_at(path + ".held")))
    try:
        await client.start()
        yield Run(client)
    finally:
        await client.end()


async def test_the_time_is_over(script) -> None:
    path = script(SCRIPT)
    async with held(path, 0.5) as process:
        out, err = (part.decode() for part in await asyncio.wait_for(process.communicate(), PATIENCE))
    assert process.returncode == 1 and out == ""
    assert err.startswith("inf created at line 6") and err.count("inf created") == 1, "the report comes once"
    assert "held here for 0.5 s" in err and "uneven-sum attach /" in err and "The same line is in" in err
    assert not os.path.exists(path + ".held")
    assert not os.path.exists(err.partition(" attach ")[2].split()[0])


async def test_who_attaches_and_leaves_changes_nothing(script) -> None:
    path = script(SCRIPT)
    async with held(path, 600) as process:
        socket = held_at(path + ".held")
        assert stat.S_IMODE(os.stat(socket).st_mode) == 0o600
        assert stat.S_IMODE(os.stat(os.path.dirname(socket)).st_mode) == 0o700
        for _ in range(2):
            async with attached(path) as run:
                facts = await run.pause()
                assert (facts.line, facts.reason, facts.culprit.text) == (6, "nonfinite", "1e308 * level")
                assert await run.ask("level") == "1.8" and not run.client.running
                assert [c.name for c in await run.client.stack()] == ["rating", "<module>"]
                await run.client.set_lookouts([Lookout(1, where="line", file=path, line=7)])
                with pytest.raises(BadUse, match="Somebody is attached"):
                    launch_at(socket)
        async with attached(path) as run:
            await run.pause()
            assert (await run.client.met())[0] == {}, "lookouts go with who has set them"
        process.send_signal(signal.SIGTERM)
        await asyncio.wait_for(process.communicate(), PATIENCE)
        assert process.returncode == 128 + signal.SIGTERM
    assert not os.path.exists(path + ".held") and not os.path.exists(socket)


async def test_motion_from_afar(script) -> None:
    path = script(SCRIPT)
    async with held(path, 600) as process:
        async with attached(path) as run:
            first = await run.pause()
            facts = await run.step("on")
            assert (facts.reason, facts.loops[0].number) == ("nonfinite", first.loops[0].number + 1)
            assert run.client.has_point_before()
            await run.client.step_back()
            facts = await run.pause()
            assert facts.loops[0].number == first.loops[0].number and await run.ask("level") == "1.8"
            await run.client.accept(path, 6)
            await run.client.go_on()
            assert await run.pause() is None and run.exited.exit_status == 3
        out, _ = await asyncio.wait_for(process.communicate(), PATIENCE)
    assert out.decode() == "done\n" and process.returncode == 1


async def test_stopped_from_afar(script) -> None:
    path = script(SCRIPT)
    async with held(path, 600) as process, attached(path) as run:
        await run.pause()
        await run.client.stop()
        assert await run.pause() is None and run.exited.by_us
        await asyncio.wait_for(process.communicate(), PATIENCE)
        assert process.returncode == 1


async def test_who_holds_it_is_killed(script) -> None:
    path = script(SCRIPT)
    async with held(path, 600) as process, attached(path) as run:
        await run.pause()
        process.kill()
        assert await run.pause() is None
        assert run.exited.sentence == "The process that held the script is gone." and not run.client.alive
        with pytest.raises(BadUse, match="is gone"):
            await run.ask("level")


async def test_a_worker_that_trips_is_held(script) -> None:
    path = script(
        "import multiprocessing\n\n\ndef flow(k):\n    return 1e308 * k\n\n\n"
        "with multiprocessing.get_context('fork').Pool(2) as pool:\n    print(pool.map(flow, [5, 6], chunksize=1))\n"
    )
    async with held(path, 600), attached(path) as run:
        facts = await run.pause()
        assert facts.line == 5 and "ForkPoolWorker" in facts.process
        heads = {await run.ask("k")}
        end = time.monotonic() + PATIENCE
        while len([one for one in run.client.processes() if one.state != "runs"]) < 2:
            assert time.monotonic() < end
            await run.client.places_of_processes()
        other = next(one for one in run.client.processes() if one.state == "paused")
        await run.client.show_process(other.pid)
        assert (await run.pause()).process == other.name
        heads.add(await run.ask("k"))
        assert heads == {"5", "6"}


@pytest.mark.parametrize("more", [["--all"], ["--audit"]])
def test_what_cannot_be_held(script, more: list[str]) -> None:
    command = [sys.executable, "-m", "uneven_sum", "check", "--hold", "5", *more, script(SCRIPT)]
    ran = subprocess.run(command, capture_output=True, text=True)
    assert ran.returncode == 2 and "leave --all and --audit out" in ran.stderr


def test_nobody_is_there(tmp_path) -> None:
    (tmp_path / "old.held").write_text("On cedar: uneven-sum attach /tmp/uneven-sum-held-gone/socket\n")
    for path in ("none.held", "old.held"):
        ran = subprocess.run(
            [sys.executable, "-m", "uneven_sum", "attach", path], cwd=tmp_path, capture_output=True, text=True
        )
        assert ran.returncode == 2 and ran.stderr.count("\n") == 1 and "Nobody holds a script" in ran.stderr
