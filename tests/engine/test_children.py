"""What trips in processes that a script starts."""

from __future__ import annotations

import asyncio
import json
import os
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
from driving import PATIENCE, running, slowness
from workers import DASK, FLOW, KINDS, TOP, are_gone, has, text_of

import uneven_sum
from uneven_sum.check import as_json, as_text
from uneven_sum.check import check as run_check
from uneven_sum.client import BadUse, Exited, Launch, ProcessEnded, ProcessesWait, Stopped
from uneven_sum.host.processes import Processes
from uneven_sum.protocol import Lookout


@pytest.mark.parametrize("kind", KINDS)
async def test_a_child_tells_what_trips_in_it(kind: str, script, interpreter: str) -> None:
    if kind == "joblib" and not has(interpreter, "joblib"):
        pytest.skip("no joblib for this interpreter")
    path = script(text_of(kind))
    outcome = await run_check(Launch(path, python=interpreter, go_on=True, capture=True))
    told = [one for one in outcome.pauses if one.processes]
    found = [(one.reason, one.line, one.function, one.culprit.text) for one in told]
    assert found == [("nonfinite", 8, "flow", "1e308 * head")]
    assert all("(" in name for name in told[0].processes) and outcome.our_status == 1
    assert not outcome.left and not outcome.dead
    are_gone(path)


@pytest.mark.parametrize("processes", [True, False])
async def test_dask_s_workers_tell_what_trips_in_them(processes: bool, script) -> None:
    path = script(f"{TOP}{FLOW}\n\nif __name__ == '__main__':\n{DASK.format(processes=processes)}")
    outcome = await run_check(Launch(path, go_on=True, capture=True))
    first = outcome.pauses[0]
    assert (first.line, first.function, first.culprit.text) == (8, "flow", "1e308 * head")
    assert bool(first.processes) == processes and outcome.exit_status == 0


SYSTEM = "/usr/bin/python3"  # other users can run it
OTHER_USER = """
import os
import subprocess
import sys

if len(sys.argv) > 1:
    print(os.getuid(), 1e308 * float(sys.argv[1]))
    sys.exit()


def other():
    os.setuid(65534)


for how in ({"user": 65534}, {"preexec_fn": other}, {}):
    print(subprocess.run([sys.executable, __file__, "10"], capture_output=True, text=True, **how))
if os.fork() == 0:
    other()
    print(subprocess.run([sys.executable, __file__, "10"], capture_output=True, text=True))
    os._exit(0)
os.wait()
"""


def runs_scripts(interpreter: str) -> bool:
    """Whether it is there, and new enough."""
    try:
        new = subprocess.run([interpreter, "-c", "import sys; sys.exit(sys.version_info < (3, 11))"])
    except FileNotFoundError:
        return False
    return new.returncode == 0


@pytest.fixture
def open_folder() -> Iterator[Path]:
    """One that every user may enter: another session of pytest closes the folders of all to other users."""
    with tempfile.TemporaryDirectory() as name:
        Path(name).chmod(0o755)
        yield Path(name)


@pytest.mark.skipif(os.getuid() != 0 or not runs_scripts(SYSTEM), reason="needs root and a CPython of the system")
@pytest.mark.parametrize("hidden", ["", ".", "uneven_sum/agent/engine"])
def test_a_process_of_another_user_who_cannot_read_the_agent(hidden: str, open_folder: Path) -> None:
    """It runs as it would, and is not watched."""
    half_written = shutil.ignore_patterns("*.pyc.*")  # by another test
    shutil.copytree(Path(uneven_sum.__file__).parent, open_folder / "src" / "uneven_sum", ignore=half_written)
    path = open_folder / "script.py"
    path.write_text(OTHER_USER)
    if hidden:
        (open_folder / "src" / hidden).chmod(0o700)
    plain = subprocess.run([SYSTEM, str(path)], capture_output=True, text=True)
    command = [sys.executable, "-m", "uneven_sum", "check", "--all", "--python", SYSTEM, str(path)]
    watched = subprocess.run(
        command, capture_output=True, text=True, env={**os.environ, "PYTHONPATH": str(open_folder / "src")}
    )
    assert watched.stdout == plain.stdout and plain.stdout.count("65534 inf") == 3, watched.stderr
    assert "inf created at line 7" in watched.stderr and "In script.py (" in watched.stderr, "that of the same user"


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


PASSED_ON = {  # how it is started, what gives the value, the culprit where that was not looked at elsewhere, its sender
    "pool": ("pool = {context}.Pool(1)", "pool.apply_async({f}, ('{x}',)).get() - 1.0", "pool.apply_async({f}, ('{x}',))"),
    "executor": ("pool = ProcessPoolExecutor(1, mp_context={context})", "sum(pool.map({f}, ['{x}']))", "pool.map({f}, ['{x}'])"),
    "future": ("pool = ProcessPoolExecutor(1, mp_context={context})\nlater = pool.submit({f}, '{x}')", "max(later.result(), 0.0)", "later.result()"),
    "futures": ("pool = ProcessPoolExecutor(1, mp_context={context})\nmany = [pool.submit({f}, '{x}')]", "max(one.result() for one in many)", "one.result()"),
    "queue": ("line = {context}.Queue()\n{context}.Process(target=put, args=(line,)).start()", "2.0 * line.get()", "line.get()"),
    "queue, by and by": ("line = {context}.Queue()\n{context}.Process(target=put, args=(line,)).start()", "max(line.get() for _ in 'a')", "line.get()"),
    "pipe": ("read, write = {context}.Pipe()\n{context}.Process(target=send, args=(write,)).start()", "read.recv()", "read.recv()"),
}  # fmt: skip


@pytest.mark.parametrize("how", PASSED_ON)
@pytest.mark.parametrize("checked", [True, False])
async def test_what_another_process_passes_on(how: str, checked: bool, script) -> None:
    """It was checked there if code of the user's has met it, also where it was no reason to pause: `float('nan')`, or
    a value that is looked for.  Else it pauses, and is not said to be made here."""
    start, call, culprit = PASSED_ON[how]
    work = "parsed" if checked else "float"
    put = f"{work}('inf')" if checked else "kept['a']"  # what is only read is not looked at
    path = script(
        f"{TOP}kept = {{'a': float('1e999')}}\n\n\ndef parsed(text):\n    found = float(text)\n    return found\n\n\n"
        f"def put(line):\n    line.put({put})\n\n\n"
        f"def send(pipe):\n    pipe.send({put})\n\n\n"
        + start.format(context="multiprocessing.get_context('fork')", f=work, x="inf")
        + f"\nfound = {call.format(f=work, x='inf')}\n"
    )
    outcome = await run_check(Launch(path, go_on=True, capture=True))
    told = [one for one in outcome.pauses if not one.processes and one.line > 20]
    sender = "another process" if how.startswith(("queue", "pipe")) else "a worker"
    found = [(one.kind, one.culprit.text.partition(".get() -")[0], one.culprit.sender) for one in told]
    assert found == ([] if checked else [("arrived", culprit.format(f=work, x="inf"), sender)])
    assert all(one.headline.startswith(f"inf from {sender} at line ") for one in told)


async def test_of_a_pool_of_threads_too_and_not_of_a_plain_call(script) -> None:
    path = script(
        "import queue\nfrom concurrent.futures import ThreadPoolExecutor\nfrom math import inf\n"
        "line = queue.Queue()\nline.put(inf)\nfound = line.get()\n"
        "with ThreadPoolExecutor(1) as pool:\n    more = pool.submit(float, '1e999').result()\n"
    )
    outcome = await run_check(Launch(path, go_on=True, capture=True))
    assert [(one.line, one.culprit.sender) for one in outcome.pauses] == [(6, ""), (8, "a worker")]


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


SLOWLY = (
    "import multiprocessing\nimport sys\nimport time\n\n\n"
    + FLOW
    + "\n\ndef slowly(k):\n    time.sleep(0.05)\n    return flow(k)\n\n\n"
    "if __name__ == '__main__':\n    with multiprocessing.get_context(sys.argv[1]).Pool(3) as pool:\n"
    "        print(pool.map(slowly, [5, 6, 7, 0, 0, 0], chunksize=1))\n    print('done')\n"
)
ON_THE_BENCH = {"rewind": True, "pause_at_end": True, "children_pause": True}
METHODS = pytest.mark.parametrize("method", ["fork", "spawn", "forkserver"])


async def waiting(run, count: int) -> ProcessesWait:
    """So many processes are paused besides the one that is shown."""
    while True:
        event = await asyncio.wait_for(run.client.next_event(), PATIENCE)
        if isinstance(event, ProcessesWait) and event.count == count:
            return event


@METHODS
async def test_workers_pause_each_with_its_own_values(method: str, script, interpreter: str) -> None:
    path = script(SLOWLY)
    async with running(path, method, python=interpreter, **ON_THE_BENCH) as run:
        first = await run.pause()
        assert (first.reason, first.line, first.culprit.text) == ("nonfinite", 8, "1e308 * head")
        if first.waiting < 2:
            assert len((await waiting(run, 2)).same) == 3
        processes = run.client.processes()
        paused = [one for one in processes if one.state != "runs"]
        assert len(paused) == 3 and sum(one.state == "shown" for one in processes) == 1
        heads = set()
        for one in paused:
            await run.client.show_process(one.pid)
            facts = await run.pause()
            assert facts.process.endswith(f"({one.pid})") and len(facts.processes) == 3 and facts.waiting == 2
            assert [f.name for f in await run.client.stack()][:2] == ["flow", "slowly"]
            heads.add(await run.ask("head"))
            assert await run.ask("sorted([3, 1])") == "[1, 3]", "in a copy of this process"
            with pytest.raises(BadUse, match="no snapshots"):
                await run.client.step_back()
        assert heads == {"5.0", "6.0", "7.0"}
        await run.client.go_on()  # with all that are paused at this place
        end = await run.pause()
        while end.reason != "end":
            assert end.process == "" and end.line == 18, "what the pool hands on is looked at in the script"
            end = await run.step("on")
        assert run.out.startswith("[inf, inf, inf, 0.0, 0.0, 0.0]") and "done" in run.out
    assert not run.trouble
    are_gone(path)


@METHODS
async def test_steps_and_breakpoints_in_a_worker(method: str, script, interpreter: str) -> None:
    path = script(SLOWLY.replace("[5, 6, 7, 0, 0, 0]", "[1, 1]"))
    options = {"python": interpreter, **ON_THE_BENCH}
    async with running(path, method, breakpoints={path: [13]}, **options) as run:
        facts = await run.pause()
        assert (facts.reason, facts.line) == ("breakpoint", 13)
        shown = facts.process
        for line in (7, 8):
            facts = await run.step("into")
            assert (facts.process, facts.line, facts.reason) == (shown, line, "step"), (
                "another one does not come between"
            )
        assert await run.ask("k + head") == "2.0"
        await run.client.set_breakpoints(path, [])
        await run.client.set_lookouts([Lookout(1, where="line", file=path, line=8, condition="head > 5")])
        await run.client.go_on()
        facts = await run.pause()
        if facts.reason != "end":  # the other worker, at the breakpoint that it had met before
            assert (facts.line, facts.process != shown) == (13, True)
            facts = await run.step("on")
        assert facts.reason == "end"
    assert not run.trouble


async def test_a_lookout_that_is_set_later_holds_in_a_running_child(script) -> None:
    path = script(
        "import os\nimport sys\nimport time\nready, done = sys.argv[1:]\n"
        "def level(k):\n    time.sleep(0.01)\n    return k + 1\n"
        "if os.fork() == 0:\n    k = 0\n    while not os.path.exists(done):\n        k = level(k)\n    os._exit(0)\n"
        "open(ready, 'w').close()\nos.wait()\n"
    )
    ready, done = path + ".ready", path + ".done"
    async with running(path, ready, done, children_pause=True, rewind=True) as run:
        end = time.monotonic() + PATIENCE
        while not os.path.exists(ready) or len(run.client.processes()) < 2:
            assert time.monotonic() < end
            await asyncio.sleep(0.01)
        await run.client.set_lookouts([Lookout(1, where="line", file=path, line=7, condition="k > 20")])
        facts = await run.pause()
        assert (facts.reason, facts.line) == ("breakpoint", 7) and facts.process.startswith("a child (")
        assert int(await run.ask("k")) > 20
        await run.client.places_of_processes()
        script_itself, child = run.client.processes()
        assert (script_itself.state, script_itself.place["line"], child.state) == ("runs", 14, "shown")
        await run.client.set_lookouts([])
        open(done, "w").close()
        await run.client.go_on()
        assert await run.pause() is None and run.exited.exit_status == 0
    assert not run.trouble


@METHODS
async def test_an_error_that_the_pool_hands_on(method: str, script, interpreter: str) -> None:
    """It pauses in the worker, unless the script handles what the pool gives it."""
    path = script(
        "import multiprocessing\nimport sys\nimport time\n\n\ndef work(k):\n    return 1 / (k - 3)\n\n\n"
        "if __name__ == '__main__':\n    context = multiprocessing.get_context(sys.argv[1])\n"
        "    with context.Pool(2) as pool:\n        try:\n            pool.map(work, [3])\n"
        "        except ZeroDivisionError:\n            print('handled')\n"
        "        later = pool.apply_async(work, (3,))\n        try:\n            later.get()\n"
        "        except ArithmeticError:\n            print('handled')\n"
        "        alone = context.Process(target=work, args=(3,))\n        alone.start()\n        alone.join()\n"
        "        time.sleep(0.1)\n        pool.map(work, [1, 2, 3])\n"
    )
    outcome = await run_check(Launch(path, [method], python=interpreter, go_on=True, capture=True))
    told = [(one.exception.type, one.line, bool(one.processes)) for one in outcome.pauses]
    assert told == [("ZeroDivisionError", 7, True), ("ZeroDivisionError", 26, False)]
    assert len(outcome.pauses[0].processes) == 2, "the process of its own, and a worker of the pool"
    assert outcome.exit_status == 1


@pytest.mark.parametrize("processes", [True, False])
async def test_an_error_in_a_task_of_dask(processes: bool, script) -> None:
    asked = (
        "" if processes else "    while not is_asked():\n        time.sleep(0.001)\n"
    )  # else nobody waits for it yet
    path = script(
        "import sys, threading, time\nfrom dask.distributed import Client, LocalCluster\n\n\ndef is_asked():\n"
        "    frame = sys._current_frames()[threading.main_thread().ident]\n    while frame is not None:\n"
        "        if frame.f_code.co_name == 'result':\n            return True\n        frame = frame.f_back\n"
        f"    return False\n\n\ndef work(k):\n{asked}    return 1 / (k - 3)\n\n\n"
        "if __name__ == '__main__':\n"
        f"    with LocalCluster(n_workers=1, threads_per_worker=1, processes={processes}, dashboard_address=None) as cluster:\n"
        "        with Client(cluster) as client:\n            try:\n                client.submit(work, 3).result()\n"
        "            except ZeroDivisionError:\n                print('handled')\n"
        "            client.submit(work, 3, pure=False).result()\n"
    )
    outcome = await run_check(Launch(path, capture=True))
    (told,) = outcome.pauses
    assert (told.exception.type, told.function, bool(told.processes)) == ("ZeroDivisionError", "work", processes)
    assert told.task.startswith("task work-") and "The cluster keeps it" in told.headline
    assert "In task work-" in as_text(outcome) and told.loops == []


@pytest.mark.parametrize(
    ("call", "task"),
    [
        ("list(ThreadPoolExecutor(1, 'rating').map(rate, [5]))", "task rate in thread rating_0"),
        ("threading.Thread(target=rate, args=(5,), name='gauge').start()", "thread gauge"),
        ("rate(5)", ""),
    ],
)
async def test_the_task_of_a_thread_is_named(call: str, task: str, script, interpreter: str) -> None:
    path = script(
        "import threading\nfrom concurrent.futures import ThreadPoolExecutor\ndef rate(k):\n    return 1e308 * k\n"
        + call
        + "\n"
    )
    outcome = await run_check(Launch(path, python=interpreter, capture=True))
    assert (outcome.pauses[0].line, outcome.pauses[0].task) == (4, task)


LAST_THREAD = (
    "import threading\nimport time\n\n\ndef rate(k):\n    while not over:\n        time.sleep(0.01)\n    time.sleep(0.2)\n"
    "    level = 1e308 * k\n    print('thread')\n    return level\n\n\nover = []\n"
    "threading.Thread(target=rate, args=(5,), name='gauge').start()\nprint('script')\nover.append(1)\n"
)


@pytest.mark.parametrize(
    "end", ["", "raise SystemExit(3)\n", "import atexit\natexit.register(lambda: 1e308 * len('ab') * 9)\n"]
)
async def test_a_thread_that_runs_on_at_the_end_is_watched(end: str, script, interpreter: str) -> None:
    path = script(LAST_THREAD + end)
    outcome = await run_check(Launch(path, python=interpreter, go_on=True, capture=True))
    assert [(one.line, one.task) for one in outcome.pauses] == [(9, "thread gauge")]
    assert outcome.exit_status == (3 if "Exit" in end else 0)
    command = [sys.executable, "-m", "uneven_sum", "check", "--all", "--python", interpreter, path]
    assert subprocess.run(command, capture_output=True, text=True).stdout == "script\nthread\n"


async def test_the_bench_waits_for_the_script_s_threads(script) -> None:
    """Its end is the end of its threads; those of an executor, which wait for work, are not waited for."""
    pool = "from concurrent.futures import ThreadPoolExecutor\npool = ThreadPoolExecutor(1)\npool.submit(abs, 1).result()\n"
    async with running(script(pool + LAST_THREAD), pause_at_end=True) as run:
        facts = await run.pause()
        assert (facts.line, facts.task) == (12, "thread gauge")
        facts = await run.step("on")
        assert facts.reason == "end" and run.out.endswith("thread\n")


async def test_the_task_of_dask_s_threads_is_named(script) -> None:
    path = script(
        "import dask\ndef rate(k):\n    return 1e308 * k\ndask.compute(dask.delayed(rate)(9), scheduler='threads')\n"
    )
    outcome = await run_check(Launch(path, capture=True))
    assert outcome.pauses[0].task.startswith("task rate-")


DEATHS = {
    "SIGKILL": "os.kill(os.getpid(), signal.SIGKILL)",
    "SIGSEGV": "ctypes.string_at(0)",
    "SIGABRT": "os.abort()",
}


@METHODS
@pytest.mark.parametrize("name", DEATHS)
async def test_a_worker_that_dies_is_told_while_the_script_waits_for_ever(name: str, method: str, script) -> None:
    path = script(
        "import ctypes\nimport multiprocessing\nimport os\nimport signal\nimport sys\n\n\ndef work(k):\n"
        f"    if k == 2:\n        {DEATHS[name]}\n    return k\n\n\n"
        "if __name__ == '__main__':\n    with multiprocessing.get_context(sys.argv[1]).Pool(2) as pool:\n"
        "        print(pool.map(work, range(4), chunksize=1))\n"
    )
    outcome = await asyncio.wait_for(run_check(Launch(path, [method], capture=True)), PATIENCE)
    (said,) = outcome.dead
    assert "PoolWorker" in said and name in said and said.endswith(f"line 10 of {path}."), said
    assert outcome.our_status == 1 and json.loads(as_json(outcome))["dead"] == [said]
    are_gone(path)


async def test_what_the_script_itself_ends_did_not_die(script) -> None:
    path = script(
        "import multiprocessing\nimport time\ncontext = multiprocessing.get_context('fork')\n"
        "for end in ('terminate', 'kill'):\n    one = context.Process(target=time.sleep, args=(60,))\n"
        "    one.start()\n    getattr(one, end)()\n    one.join()\nwith context.Pool(3) as pool:\n    pool.map(abs, [1, 2])\n"
        "import os\nimport signal\nread, write = os.pipe()\npid = os.fork()\nif pid == 0:\n    os.setpgid(0, 0)\n"
        "    os.write(write, b'.')\n    time.sleep(60)\nos.read(read, 1)\nos.killpg(pid, signal.SIGKILL)\nos.wait()\n"
    )
    outcome = await run_check(Launch(path, go_on=True, capture=True))
    assert (outcome.dead, outcome.pauses, outcome.exit_status) == ([], [], 0)


async def test_the_shown_process_is_killed(script) -> None:
    path = script(SLOWLY.replace("[5, 6, 7, 0, 0, 0]", "[5]"))
    async with running(path, "fork", children_pause=True, rewind=True) as run:
        facts = await run.pause()
        os.kill(int(facts.process.rpartition("(")[2].rstrip(")")), signal.SIGKILL)
        while not isinstance(event := await asyncio.wait_for(run.client.next_event(), PATIENCE), ProcessEnded):
            assert not isinstance(event, (Stopped, Exited))
        assert event.shown and "SIGKILL" in event.message and run.client.running, "the script is shown, and runs"
    are_gone(path)


async def test_the_script_ends_while_a_child_is_paused(script, tmp_path) -> None:
    """The child goes on by itself."""
    mark = tmp_path / "mark"
    path = script(
        "import os\nimport sys\nx = 0.0\nif os.fork() == 0:\n    try:\n        y = 1e308 * (x + 10)\n    finally:\n"
        "        open(sys.argv[1], 'w').close()\n        os._exit(0)\nsys.stdin.readline()\n"
    )
    async with running(path, str(mark), children_pause=True, rewind=True) as run:
        facts = await run.pause()
        assert facts.line == 6 and facts.process and not mark.exists()
        await run.client.write_input("\n")
        assert await run.pause() is None
        end = time.monotonic() + PATIENCE
        while not mark.exists():
            assert time.monotonic() < end
            await asyncio.sleep(0.01)


async def test_a_file_of_the_user_s_that_is_run_by_another(script, tmp_path, interpreter: str) -> None:
    """As it runs without us: arguments, path, flags, status; only that of the user's is watched."""
    (tmp_path / "gauge.py").write_text(
        "import sys\nprint(sys.argv, sys.orig_argv, sys.path[0], sys.flags.optimize, sys.flags.isolated, __name__, __file__)\n"
        "print(sorted(n for n in globals() if n.startswith('__')), sys.stdin.read())\ny = 1e308 * float(sys.argv[1])\nsys.exit(4)\n"
    )
    path = script(
        "import subprocess\nimport sys\n"
        "for flags in ([], ['-O'], ['-I'], ['-X', 'dev', '-W', 'ignore']):\n"
        "    for what in (['gauge.py'], ['-m', 'gauge'], ['-c', 'import sys; print(sys.argv, sys.orig_argv)']):\n"
        "        done = subprocess.run([sys.executable, *flags, *what, '3'], input='in', capture_output=True, text=True)\n"
        "        print(flags, what[0], done.returncode, done.stdout, done.stderr)\n"
    )
    plain = subprocess.run([interpreter, path], capture_output=True, text=True, cwd=tmp_path)
    command = [sys.executable, "-m", "uneven_sum", "check", "--all", "--cwd", str(tmp_path), "--python", interpreter]
    watched = subprocess.run([*command, path], capture_output=True, text=True)
    assert watched.stdout == plain.stdout and plain.stdout.count(" 4 ") >= 6
    assert "inf created at line 4 of gauge.py" in watched.stderr and "In gauge" in watched.stderr


async def test_a_trip_in_a_child_of_a_child(script) -> None:
    path = script(
        "import os\nimport subprocess\nimport sys\nif len(sys.argv) < 2:\n"
        "    sys.exit(subprocess.run([sys.executable, __file__, 'again']).returncode)\n"
        "pid = os.fork()\nif pid == 0:\n    y = 1e308 * len(sys.argv[1])\n    os._exit(3)\n"
        "sys.exit(os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1]))\n"
    )
    outcome = await run_check(Launch(path, go_on=True, capture=True))
    assert [(one.line, len(one.processes)) for one in outcome.pauses] == [(8, 1)] and outcome.exit_status == 3


async def test_two_hundred_workers(script) -> None:
    path = script(
        "import multiprocessing\n"
        + FLOW
        + "with multiprocessing.get_context('fork').Pool(200) as pool:\n    print(sum(pool.map(flow, [5] * 400, chunksize=2)))\n"
    )
    outcome = await run_check(Launch(path, go_on=True, capture=True))
    told = [one for one in outcome.pauses if one.processes]
    assert len(told) == 1 and len(told[0].processes) > 20 and outcome.exit_status == 0
    are_gone(path)


CLOSES = (
    "import os\nimport sys\n\n\ndef logs():\n    os.closerange(3, 1024)\n"
    "    files = [open(f'{sys.argv[1]}.{k}', 'w') for k in range(int(sys.argv[2]))]\n    y = 1e308 * len(files)\n"
    "    for file in files:\n        file.write('level 3.2\\n')\n    return files\n\n\n"
)
WHO_CLOSES = {
    "the script": "kept = logs()\n",
    "the script, which then forks": "kept = logs()\nfor file in kept:\n    file.flush()\nif os.fork() == 0:\n"
    "    for file in kept:\n        os.fstat(file.fileno())\n    os.mkdir(f'{sys.argv[1]}-child')\n    os._exit(0)\nos.wait()\n",
    "a fork": "if os.fork() == 0:\n    kept = logs()\nelse:\n    os.wait()\n",
    "a fork that ends at once": "if os.fork() == 0:\n    for file in logs():\n        file.close()\n    os._exit(0)\nos.wait()\n",
    "started anew": "import subprocess\nif len(sys.argv) < 4:\n"
    "    subprocess.run([sys.executable, __file__, *sys.argv[1:], 'again'])\nelse:\n    kept = logs()\n",
}


@pytest.mark.parametrize("who", WHO_CLOSES)
@pytest.mark.parametrize("number", [1, 40, 600])
async def test_a_script_that_closes_what_it_has_inherited(number: int, who: str, script, tmp_path) -> None:
    """As a daemon does: what it opens then has our numbers, and nothing of ours is written there."""
    made = tmp_path / "log"
    outcome = await run_check(
        Launch(script(CLOSES + WHO_CLOSES[who]), [str(made), str(number)], go_on=True, capture=True)
    )
    assert [p.read_text() for p in sorted(tmp_path.glob("log.*"))] == ["level 3.2\n"] * number, outcome
    assert (tmp_path / "log-child").exists() == ("then forks" in who), "the child has all files of its parent"


@pytest.mark.parametrize("forks", [True, False])
async def test_its_own_sockets_then_have_our_numbers(forks: bool, script) -> None:
    path = script(
        "import os\nimport select\nimport socket\nimport sys\n\n\ndef gauges():\n    os.closerange(3, 1024)\n"
        "    pairs = [socket.socketpair() for k in range(30)]\n    y = 1e308 * len(pairs)\n"
        "    return select.select([one for pair in pairs for one in pair], [], [], 0.1)[0]\n\n\n"
        + (
            "if os.fork() == 0:\n    print(gauges(), flush=True)\n    os._exit(0)\nos.wait()\n"
            if forks
            else "print(gauges())\n"
        )
    )
    async with running(path, go_on=True) as run:
        assert await run.pause() is None
    assert run.out == "[]\n" and not run.trouble


async def test_a_daemon_and_another_program_are_left_alone(script, tmp_path) -> None:
    mark = tmp_path / "mark"
    path = script(
        "import os\nimport subprocess\nimport sys\n"
        "if os.fork() == 0:\n    os.setsid()\n    if os.fork() == 0:\n        os.closerange(0, 1000)\n"
        "        with open(sys.argv[1], 'w') as f:\n            f.write(str(1e308 * len(sys.argv)))\n    os._exit(0)\nos.wait()\n"
        "if os.fork() == 0:\n    os.execvp('sh', ['sh', '-c', 'exit 5'])\n"
        "sys.exit(os.waitstatus_to_exitcode(os.wait()[1]))\n"
    )
    outcome = await run_check(Launch(path, [str(mark)], go_on=True, capture=True))
    assert outcome.exit_status == 5 and not outcome.dead
    end = time.monotonic() + PATIENCE
    while not mark.exists() or not mark.read_text():
        assert time.monotonic() < end
        await asyncio.sleep(0.01)
    assert mark.read_text() == "inf"
    are_gone(path)


@pytest.mark.parametrize("method", ["fork", "spawn"])
@pytest.mark.parametrize("how", ["step", "run to"])
async def test_a_step_that_waits_for_a_worker_that_pauses(how: str, method: str, script) -> None:
    """The worker is shown, though the script is in the midst of a step."""
    path = script(SLOWLY.replace("[5, 6, 7, 0, 0, 0]", "[5]"))
    lines = Path(path).read_text().splitlines()
    line = next(n for n, text in enumerate(lines, 1) if "pool.map" in text)
    async with running(
        path, method, children_pause=True, start={"lookouts": [Lookout(1, file=path, line=line)]}
    ) as run:
        facts = await run.pause()
        assert (facts.line, facts.process) == (line, "")
        if how == "step":
            await run.client.step_line()
        else:
            await run.client.run_to(path, line + 1)
        inner = await run.pause()
        assert inner.function == "flow" and inner.process
        await run.client.go_on()
        after = await run.pause()
        ends = {"step": line - 1, "run to": line + 1}[how]  # a step ends at the end of the `with` block
        assert (after.line, after.process) == (ends, ""), "the script goes to where it was to go"


async def test_a_host_that_stands_still_for_a_while_misses_nothing(script, monkeypatch) -> None:
    """As on a machine with too much to do."""
    welcome = Processes._welcome

    async def late(processes, reader, writer) -> None:
        time.sleep(4)  # not only this connection waits: nothing else is done
        await welcome(processes, reader, writer)

    monkeypatch.setattr(Processes, "_welcome", late)
    outcome = await run_check(Launch(script(text_of("fork")), go_on=True, capture=True))
    assert [one.line for one in outcome.pauses if one.processes] == [8]


async def test_what_ran_unwatched_is_told(script, monkeypatch) -> None:
    """Where the host stands still for longer than a child waits for it."""
    welcome = Processes._welcome
    impatient = (
        "import sys\n\n(children,) = [m for n, m in sys.modules.items() if n.endswith('engine.children')]\n"
        "children.WELCOME = 0.5\n\n\n"
    )

    async def late(processes, reader, writer) -> None:
        time.sleep(2 * slowness())
        await welcome(processes, reader, writer)

    monkeypatch.setattr(Processes, "_welcome", late)
    outcome = await run_check(Launch(script(text_of("fork", impatient + FLOW)), go_on=True, capture=True))
    assert outcome.exit_status == 0 and outcome.our_status == 1 and not outcome.pauses
    (told,) = outcome.dead
    assert told.startswith("Process ") and told.endswith("stood still when it started. Run the script again.")
