"""What an audit finds in processes that a script starts."""

from __future__ import annotations

import asyncio
import contextlib
import json
import subprocess
import sys
import time

import pytest
from driving import running
from workers import DASK, KINDS, TOP, are_gone, has, text_of

from uneven_sum.check import as_json, as_text
from uneven_sum.check import check as run_check
from uneven_sum.check.check import Outcome
from uneven_sum.client import BadUse, Launch
from uneven_sum.client.auditing import Audit
from uneven_sum.host.processes import Processes
from uneven_sum.protocol import Finding

GAUGE = (
    "import numpy as np\n\n\n"
    "def flow(k):\n    counts = np.array([100 + k], dtype=np.int8)\n"
    "    return counts + np.array([100], dtype=np.int8)\n"
)
TERM = "counts + np.array([100], dtype=np.int8)"


def audited(path: str, *arguments: str, python: str | None = None) -> Outcome:
    launch = Launch(path, list(arguments), python=python, capture=True, audit=[], pause_on=set())
    return asyncio.run(run_check(launch))


def wraps(outcome: Outcome) -> list[Finding]:
    return [one for one in outcome.findings or () if one.rule == "wrap"]


@pytest.mark.parametrize("kind", KINDS)
def test_found_in_a_child(kind: str, script, interpreter: str) -> None:
    for package in ("numpy", *(["joblib"] if kind == "joblib" else [])):
        if not has(interpreter, package):
            pytest.skip(f"no {package} for this interpreter")
    path = script(text_of(kind, GAUGE))
    outcome = audited(path, python=interpreter)
    (found,) = wraps(outcome)
    assert (found.term, found.function) == (TERM, "flow")
    assert found.times == (1 if kind == "fork" or kind.startswith("process") else 8), "each one is counted once"
    assert found.processes and all("(" in name for name in found.processes)
    assert not outcome.dead and not outcome.left and outcome.our_status == 1
    are_gone(path)


@pytest.mark.parametrize("processes", [True, False])
def test_found_by_dask_s_workers(processes: bool, script) -> None:
    path = script(f"{TOP}{GAUGE}\n\nif __name__ == '__main__':\n{DASK.format(processes=processes)}")
    (found,) = wraps(audited(path))
    assert (found.term, found.times, bool(found.processes)) == (TERM, 5, processes)


HOWS = {
    "it ends by sys.exit": ("sys.exit(0)", 2, False),
    "it ends at once": ("os._exit(0)", 2, False),
    "it forks again": (
        "if os.fork() == 0:\n        flow(1)\n        os._exit(0)\n    os.wait()\n    os._exit(0)",
        3,
        False,
    ),
    "it raises": ("raise ValueError(3)", 2, False),
    "the script ends it": ("print(1, file=write, flush=True)\n    time.sleep(1000)", 2, False),
    "it is killed": ("os.kill(os.getpid(), signal.SIGKILL)", 1, True),
    "it crashes": ("ctypes.string_at(0)", 1, True),
}


@pytest.mark.parametrize("how", HOWS)
def test_however_it_ends(how: str, script) -> None:
    """What the script itself has found before is its own.  Of a process that dies the place is known, not the count."""
    end, times, dies = HOWS[how]
    path = script(
        "import ctypes\nimport os\nimport signal\nimport sys\nimport time\n" + GAUGE + "\n\nflow(1)\nflow(2)\nflow(3)\n"
        "read, write = os.pipe()\nread, write = open(read), open(write, 'w')\npid = os.fork()\nif pid == 0:\n"
        f"    flow(4)\n    flow(5)\n    {end}\n"
        + ("read.readline()\nos.kill(pid, signal.SIGKILL)\n" if how == "the script ends it" else "")
        + "os.waitpid(pid, 0)\n"
    )
    outcome = audited(path)
    (found,) = wraps(outcome)
    assert found.times == 3 + times and bool(outcome.dead) == dies
    others = 2 if "again" in how else 1
    assert found.processes[0] == "the script" and len(found.processes) == 1 + others
    text = as_text(outcome)
    assert f"In the script, and in {others} more process" in text
    (told,) = [one for one in json.loads(as_json(outcome))["findings"] if one["rule"] == "wrap"]
    assert told["processes"] == found.processes
    are_gone(path)


def test_what_ran_before_the_fork_is_judged_in_the_script_alone(script) -> None:
    """Running sums and cancellation are judged at the end: each process by what it has done itself."""
    path = script(
        "import os\n\ntotal = 1e16\nfor k in range(2000):\n    total += 0.5\n"
        "pid = os.fork()\nif pid == 0:\n    os._exit(0)\nos.waitpid(pid, 0)\n"
    )
    outcome = audited(path)
    (found,) = outcome.findings or ()
    assert found.rule == "absorption" and found.processes == []


def test_the_audit_of_the_bench_hears_of_workers_and_can_be_ended(script) -> None:
    text = text_of("pool by fork", GAUGE + "\n\ndef wait():\n    import time\n    time.sleep(1000)\n")
    path = script(text + "        pool.apply(wait)\n")

    async def through() -> Audit:
        audit = Audit(Launch(path))
        running = asyncio.create_task(audit.run(lambda where: None))
        while not audit.findings:
            await asyncio.sleep(0.02)
        await audit.stop()
        try:
            await running
        except BadUse:
            pass
        return audit

    audit = asyncio.run(through())
    (found,) = [one for one in audit.findings if one.rule == "wrap"]
    assert found.processes and "was ended" in audit.ended
    are_gone(path)


def test_an_audited_script_with_workers_is_the_same(script, interpreter: str) -> None:
    """Its output, its errors and its end."""
    if not has(interpreter, "numpy"):
        pytest.skip("no numpy for this interpreter")
    path = script(
        "import multiprocessing\nimport os\nimport sys\n"
        + GAUGE
        + "\n\ndef work(k):\n    if k == 5:\n        raise ValueError('five')\n"
        "    return int(flow(k)[0]), multiprocessing.current_process().name[:4], os._exit.__name__\n\n\n"
        "with multiprocessing.get_context('fork').Pool(2) as pool:\n    print(pool.map(work, range(5)))\n"
        "    try:\n        pool.map(work, [5])\n    except ValueError as e:\n        print('caught', e)\nsys.exit(3)\n"
    )
    plain = subprocess.run([interpreter, path], capture_output=True, text=True)
    command = [sys.executable, "-m", "uneven_sum", "check", "--audit", "--python", interpreter, path]
    watched = subprocess.run(command, capture_output=True, text=True)
    assert watched.stdout == plain.stdout and watched.returncode == 1 and plain.returncode == 3
    assert "wraps around" in watched.stderr and "Traceback" not in watched.stderr


def test_a_pool_that_nobody_closes(script) -> None:
    """Its workers are ended when the script has ended."""
    path = script(
        text_of("pool by fork", GAUGE).replace("with multi", "pool = multi").replace(" as pool:\n        ", "\n    ")
    )
    (found,) = wraps(audited(path))
    assert found.times == 8 and found.processes


async def test_a_script_that_is_asked_where_it_is_while_it_ends_workers(script) -> None:
    """The answer that it waits for before each end is not taken by the handler of the host's signal."""
    path = script(
        "import os\nimport signal\nimport threading\nimport time\n\n\ndef ends(count):\n    for k in range(count):\n"
        "        pid = os.fork()\n        if pid == 0:\n            time.sleep(100)\n        os.kill(pid, signal.SIGKILL)\n"
        "        os.waitpid(pid, 0)\n\n\nends(15)\nother = threading.Thread(target=ends, args=(15,))\nother.start()\n"
        "while other.is_alive():\n    time.sleep(0.001)\nprint('done')\n"
    )
    async with running(path, audit=[], pause_on=set()) as run:
        session = run.client.session

        async def ask() -> None:
            while True:
                with contextlib.suppress(BadUse):
                    await session.request("unevenSum/where", None, session.main)
                await asyncio.sleep(0.001)

        asking = asyncio.create_task(ask())
        assert await run.pause() is None
        asking.cancel()
    assert run.out == "done\n" and run.exited.exit_status == 0


def test_a_host_that_stands_still_for_a_while_hears_all_figures(script, monkeypatch) -> None:
    """As on a machine with too much to do."""
    take = Processes._take_findings

    async def late(processes, link) -> None:
        time.sleep(2.5)
        await take(processes, link)

    monkeypatch.setattr(Processes, "_take_findings", late)
    (found,) = wraps(audited(script(text_of("pool by fork", GAUGE))))
    assert found.times == 8
