"""What trips in processes that a script forks."""

from __future__ import annotations

import json
import subprocess
import sys
import time

import pytest
from driving import running, slowness

from uneven_sum.check import as_json, as_text
from uneven_sum.check import check as run_check
from uneven_sum.client import Launch

FLOW = "def flow(k):\n    head = float(k)\n    return 1e308 * head\n"
POOLS = {
    "pool": "import multiprocessing\n" + FLOW + "context = multiprocessing.get_context('fork')\n"
    "with context.Pool(3) as pool:\n    found = list(pool.imap(flow, range(8)))\n",
    "executor": "import multiprocessing\nfrom concurrent.futures import ProcessPoolExecutor\n"
    + FLOW
    + "context = multiprocessing.get_context('fork')\n"
    "with ProcessPoolExecutor(2, mp_context=context) as pool:\n    found = list(pool.map(flow, range(8)))\n",
    "process": "import multiprocessing\n" + FLOW + "context = multiprocessing.get_context('fork')\n"
    "for k in range(3):\n    one = context.Process(target=flow, args=(k,))\n    one.start()\n    one.join()\n",
    "fork": "import os\n" + FLOW + "pid = os.fork()\nif pid == 0:\n    flow(3)\n    os._exit(0)\nos.waitpid(pid, 0)\n",
}


@pytest.mark.parametrize("kind", POOLS)
async def test_a_child_tells_what_trips_in_it(kind: str, script, interpreter: str) -> None:
    path = script(POOLS[kind])
    outcome = await run_check(Launch(path, python=interpreter, go_on=True, capture=True))
    told = [one for one in outcome.pauses if one.processes]
    assert [(one.reason, one.line, one.function, one.culprit.text) for one in told] == [
        (
            "nonfinite",
            POOLS[kind].split("\n").index("    return 1e308 * head") + 1,
            "flow",
            "1e308 * head",
        )
    ]
    assert all("(" in name for name in told[0].processes) and outcome.our_status == 1
    assert not outcome.left


async def test_one_place_is_told_once_with_its_processes(script) -> None:
    path = script(
        "import multiprocessing\nimport time\n" + FLOW + "def slowly(k):\n    time.sleep(0.2)\n    return flow(k)\n"
        "with multiprocessing.get_context('fork').Pool(3) as pool:\n    pool.map(slowly, [5] * 6, chunksize=1)\nprint('done')\n"
    )
    outcome = await run_check(Launch(path, go_on=True, capture=True))
    (told, *_) = outcome.pauses
    assert 1 < len(set(told.processes)) <= 3 and len(told.processes) == len(set(told.processes))
    assert f"In {told.processes[0]}, and in " in as_text(outcome)
    assert json.loads(as_json(outcome))["pauses"][0]["processes"] == told.processes
    first = await run_check(Launch(path, capture=True))
    assert len(first.pauses) == 1 and first.pauses[0].processes and first.exit_status is None, "it ends with the first"


def test_a_script_with_children_is_the_same(script, tmp_path, interpreter: str) -> None:
    """Its output, its end, its errors; and no process is left."""
    path = script(
        "import multiprocessing\nimport sys\n"
        + FLOW
        + "def work(k):\n    if k == 5:\n        raise ValueError('five')\n"
        "    return flow(k), multiprocessing.current_process().name[:4]\n"
        "with multiprocessing.get_context('fork').Pool(2) as pool:\n    print(pool.map(work, range(5)))\n"
        "    try:\n        pool.map(work, [5])\n    except ValueError as e:\n        print('caught', e)\nsys.exit(3)\n"
    )
    plain = subprocess.run([interpreter, path], capture_output=True, text=True)
    command = [sys.executable, "-m", "uneven_sum", "check", "--all", "--python", interpreter, path]
    watched = subprocess.run(command, capture_output=True, text=True)
    assert watched.stdout == plain.stdout and watched.returncode == 1 and plain.returncode == 3
    assert watched.stderr.count("Traceback") == plain.stderr.count("Traceback") == 0
    assert "inf created at line 5" in watched.stderr


async def test_ended_by_a_child_s_trip_no_sibling_complains(script) -> None:
    path = script(
        "import multiprocessing\nimport time\n" + FLOW + "def slowly(k):\n    time.sleep(k / 10)\n    return flow(k)\n"
        "with multiprocessing.get_context('fork').Pool(4) as pool:\n    pool.map(slowly, range(1, 40), chunksize=1)\n"
    )
    command = [sys.executable, "-m", "uneven_sum", "check", path]
    ran = subprocess.run(command, capture_output=True, text=True)
    assert ran.returncode == 1 and "Traceback" not in ran.stderr, ran.stderr
    end = time.monotonic() + 5 * slowness()
    while subprocess.run(["pgrep", "-f", path], capture_output=True).stdout:
        assert time.monotonic() < end, "a process is left"
        time.sleep(0.1)


async def test_no_lookout_pauses_a_child_and_its_parent_pauses_on(script) -> None:
    path = script(
        "import os\nx = 0.0\npid = os.fork()\nif pid == 0:\n    x = 1.0\n    os._exit(7)\n_, status = os.waitpid(pid, 0)\ny = 1 / x\n"
    )
    async with running(path, breakpoints={path: [5, 7]}, rewind=True) as run:
        facts = await run.pause()
        assert (facts.reason, facts.line) == ("breakpoint", 7)
        await run.client.go_on()
        facts = await run.pause()
        assert (facts.reason, facts.line) == ("error", 8)
        assert await run.ask("os.waitstatus_to_exitcode(status)") == "7"
    assert not run.trouble
