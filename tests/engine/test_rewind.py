"""Going back: the state at a return point is restored, again and again; on each CPython."""

from __future__ import annotations

import asyncio
import os
import re
import signal
import subprocess
import sys
from pathlib import Path

import pytest
from driving import running

from uneven_sum.agent.core import signal_masking
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
        await back(run, 2)
        assert (await state(run), Path(files[0]).read_text()) == seen[0]
        with pytest.raises(BadUse, match="No earlier pause to go back to"):
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


async def test_500_steps_with_bounded_memory(script) -> None:
    path = script("total = 0\nfor k in range(300):\n    total += k\nprint(total)\n")
    async with running(path, rewind=True, pause_on={"start"}) as run:
        await run.pause()
        held = []
        for n in range(500):
            await run.step()
            if n in (150, 499):
                await asyncio.sleep(0.3)
                points = run.client.return_points()
                held.append((len(points), sum(p["memory"] for p in points)))
                assert 2 <= len(points) <= 54 and all(p["line"] in (0, 1, 2, 3) for p in points)
        each = [memory / count for count, memory in held]
        assert max(count for count, _ in held) <= 42 and each[1] < 1.3 * each[0] < 8e6, held
        assert (await run.ask("k")) == "249"
        facts = await back(run, run.client.return_points()[3]["number"])
        assert await run.ask("sum(range(k)) <= total <= sum(range(k + 1))") == "True" and facts.line in (2, 3)
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
        reasons = [p["reason"] for p in run.client.return_points()]
        assert reasons[0] == "start" and set(reasons[1:]) <= {"on the way"}  # where line 2 was reached late
        with pytest.raises(BadUse, match="No earlier pause to go back to"):
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


# -- hazards -----------------------------------------------------------------------------------------


async def at_line(run, path: str, line: int):
    """The run begun again, to a line."""
    await run.client.end()
    run.__init__(type(run.client)(run.client.launch))
    await run.client.start(lookouts=[Lookout(1, file=path, line=line)])
    return await run.pause()


HAZARDS = {
    "a thread": ("threading.Thread(target=time.sleep, args=(60,), daemon=True).start()", "other thread"),
    "a pool of threads": ("pool = ThreadPoolExecutor(1); pool.submit(time.sleep, 0).result()", "other thread"),
    "a process": (
        "child = subprocess.Popen(['sleep', '60'])",
        "No snapshot while a process that the script has started runs",
    ),
    "a pool of processes": ("pool = multiprocessing.Pool(2)", "(other thread|processes run)"),
    "polars": ("sys.modules['polars'] = types.ModuleType('polars')", "the threads of polars would be missing"),
    "jax": ("sys.modules['jax'] = types.ModuleType('jax')", "the threads of jax"),
    "numba": (
        "sys.modules['numba'] = types.SimpleNamespace(threading_layer=lambda: 'omp')",
        "numba's OpenMP layer ends in a copy",
    ),
    "torch": (
        "sys.modules['torch'] = types.SimpleNamespace(cuda=types.SimpleNamespace(is_initialized=lambda: True))",
        "the graphics processor's state",
    ),
}
IMPORTS = "import multiprocessing, subprocess, sys, threading, time, types\nfrom concurrent.futures import ThreadPoolExecutor\n"


@pytest.mark.parametrize("name", HAZARDS)
async def test_no_return_point_and_why(script, name: str) -> None:
    line, why = HAZARDS[name]
    path = script(f"{IMPORTS}if __name__ == '__main__':\n    {line}\n    x = 1\n")
    async with running(path, rewind=True, pause_on=set()) as run:
        await at_line(run, path, 5)
        assert not [p for p in run.client.return_points() if p["reason"] != "start"]
        assert re.search(why, run.no_point), run.no_point
        with pytest.raises(BadUse, match="No earlier pause to go back to"):
            await run.client.step_back()


MARKED = {
    "a socket": ("s = socket.socket(); s.bind(('127.0.0.1', 0))", "what is sent over 1 connection"),
    "a pipe": ("r, w = os.pipe()", "what goes through 2 pipes"),
    "in place": ("f = open(sys.argv[1], 'r+')", "what is overwritten in kept.txt"),
    "mapped": (
        "m = mmap.mmap(os.open(sys.argv[1], os.O_RDWR), 0)",
        "what is written to the shared memory of kept.txt",
    ),
    "a lock": ("f = open(sys.argv[1]); fcntl.flock(f, fcntl.LOCK_EX)", "the lock on kept.txt"),
    "nothing": ("f = open(sys.argv[1] + '.log', 'w'); f.write('x'); f.flush(); g = open(sys.argv[1])", ""),
}


@pytest.mark.parametrize("name", MARKED)
async def test_what_is_not_undone_is_marked(script, tmp_path, name: str) -> None:
    kept = tmp_path / "kept.txt"
    kept.write_text("kept as it was")
    line, told = MARKED[name]
    path = script(f"import fcntl, mmap, os, socket, sys\n{line}\nx = 1\ny = 2\n")
    async with running(path, str(kept), rewind=True, pause_on=set()) as run:
        await at_line(run, path, 3)
        await run.step()
        cannot = await run.client.cannot_undo()
        assert told in cannot if told else cannot == []
        assert (await back(run)).line == 3


async def test_input_is_fed_again(script) -> None:
    path = script("import sys\nfor n in range(4):\n    line = sys.stdin.readline()\n    print('got', line.strip())\n")
    async with running(path, rewind=True, pause_on=set()) as run:
        await run.client.end()
        run.__init__(type(run.client)(run.client.launch))
        await run.client.start(lookouts=[Lookout(1, file=path, line=4)])
        await run.client.write_input("one\ntwo\n")
        await run.pause()
        await asyncio.sleep(0.2)
        await run.step("on")
        await run.client.write_input("three\n")
        await run.step("on")
        assert await run.ask("line.strip()") == "'three'"
        facts = await back(run, 2)
        assert facts.loops[0].number == 1 and await run.ask("line.strip()") == "'one'"
        for wanted in ("two", "three"):
            await run.step("on")
            assert await run.ask("line.strip()") == f"'{wanted}'"
        await run.client.write_input("four\n")
        await run.step("on")
        assert await run.ask("line.strip()") == "'four'"
        assert await run.step("on") is None and run.out.endswith("got three\ngot four\n") and not run.trouble


async def test_switched_off(script) -> None:
    path = script("x = 1\ny = 2\nz = 3\n")
    async with running(path, rewind=True, pause_on={"start"}) as run:
        await run.pause()
        await run.step()
        await run.client.switch_points(False)
        await run.step()
        assert (
            run.no_point == "Snapshots are off (palette, settings or command line)." and not run.client.return_points()
        )
        await run.client.switch_points(True)
    async with running(path, rewind=False, pause_on={"start"}) as run:
        await run.pause()
        with pytest.raises(BadUse, match="started without"):
            await run.client.switch_points(True)


async def test_a_copy_that_does_not_answer(script, monkeypatch) -> None:
    path = script("x = 1\ny = 2\nz = 3\n")
    async with running(path, rewind=True, pause_on={"start"}) as run:
        await run.pause()
        await run.step()
        await run.client.session.points.wait_for(2)
        point = run.client.session.points.all[2]
        os.kill(point.pid, 19)  # stopped, as one that hangs
        stopped = run.client.session.stopped
        monkeypatch.setattr(run.client.session, "stopped", lambda: stopped(0.5))
        with pytest.raises(BadUse, match="does not answer"):
            await run.client.step_back()


def test_numbas_layer_is_chosen_unless_the_user_has(monkeypatch) -> None:
    from uneven_sum.client import Launch
    from uneven_sum.host.environment import environment

    monkeypatch.delenv("NUMBA_THREADING_LAYER", raising=False)
    launch = Launch("x.py", rewind=True)
    assert environment(launch, "")["NUMBA_THREADING_LAYER"] == "workqueue"
    launch.env["NUMBA_THREADING_LAYER"] = "tbb"
    assert environment(launch, "")["NUMBA_THREADING_LAYER"] == "tbb"
    assert "NUMBA_THREADING_LAYER" not in environment(Launch("x.py"), "")


async def test_files_written_since_are_told(script, tmp_path) -> None:
    path = script(
        "import os\nx = 1\nopen('kept.txt', 'w').write('a')\nos.rename('kept.txt', 'other.txt')\ny = 2\n"
        "open('other.txt').read()\nz = 3\n"
    )
    async with running(path, cwd=str(tmp_path), rewind=True, pause_on={"start"}) as run:
        await run.pause()
        for _ in range(4):
            await run.step()
        told = "what became of kept.txt, other.txt since, which the script has opened or changed anew"
        assert await run.client.cannot_undo(2) == [told]
        await run.step()
        await run.step()
        assert await run.client.cannot_undo() == [], "it was only read"
        await back(run, 2)
        assert run.client.session.written == {}


OPENMP = """
import ctypes, sys
gomp = ctypes.CDLL("libgomp.so.1")
done = []
work = ctypes.CFUNCTYPE(None, ctypes.c_void_p)(lambda _: done.append(1))
def pool():
    done.clear()
    gomp.GOMP_parallel(work, None, 4, 0)
    return len(done)
print(pool())
x = 1
print(pool())
y = 2
"""


async def test_a_used_openmp_pool_does_not_hang_the_copy(script) -> None:
    import ctypes

    try:
        ctypes.CDLL("libgomp.so.1")
    except OSError:
        pytest.skip("no OpenMP runtime here")
    path = script(OPENMP)
    async with running(path, rewind=True, pause_on=set()) as run:
        await at_line(run, path, 10)
        await run.step()
        await run.step()
        await back(run)
        await run.step()
        facts = await run.step()
        assert facts.line == 13 and await run.ask("len(done)") == "4"
        assert await run.step("on") is None and not run.trouble


LATE = """\
import signal
import time


class Late(Exception):
    pass


def late(number, frame):
    raise Late


"""
TIMED = (
    LATE
    + """\
signal.signal(signal.SIGALRM, late)
signal.setitimer(signal.ITIMER_REAL, 0.6)
level = 4.0
began = time.monotonic()
try:
    while True:
        level += 1e-9
except Late:
    print("late", level > 4.0, time.monotonic() - began < 30)
print("on")
"""
)


async def test_timers_stand_still_during_a_pause_and_go_on_after_going_back(script, interpreter: str) -> None:
    path = script(TIMED)
    async with running(path, python=interpreter, rewind=True, pause_on=set()) as run:
        await run.client.end()
        run.__init__(type(run.client)(run.client.launch))
        await run.client.start(lookouts=[Lookout(1, file=path, line=16), Lookout(2, file=path, line=22)])
        assert (await run.pause()).line == 16
        await asyncio.sleep(1.0)
        assert run.client.session.ended is None and await run.ask("level") == "4.0"
        await run.client.go_on()
        assert (await run.pause()).line == 22
        assert "late True True" in run.out
        await run.client.step_back()
        assert (await run.pause()).line == 16
        await asyncio.sleep(1.0)
        await run.client.go_on()
        assert (await run.pause()).line == 22
        assert run.out.count("late True True") == 2


def timed_loop(seconds: float) -> str:
    return (
        LATE
        + f"""\
signal.signal(signal.SIGALRM, late)
signal.setitimer(signal.ITIMER_REAL, {seconds})
began = time.monotonic()
try:
    for day in range(100000):
        time.sleep(0.01)
except Late:
    print("late", day > 30)
breakpoint()
"""
    )


@pytest.mark.parametrize("which", [0, -1], ids=["the first copy", "the last copy"])
async def test_timers_go_on_in_a_copy_that_was_made_on_the_way(script, interpreter: str, which: int) -> None:
    for seconds in (2.5, 10, 40):  # a copy on a busy machine takes long, and the next one comes the later for it
        async with running(script(timed_loop(seconds)), python=interpreter, rewind=True, pause_on=set()) as run:
            assert (await run.pause()).line == 21
            points = [p for p in run.client.return_points() if p["reason"] == "on the way"]
            assert run.out == "late True\n"
            if not points and seconds < 40:
                continue
            await run.client.back_to(points[which]["number"])
            assert "Back at a return point" in (await run.pause()).headline
            await asyncio.sleep(0.5)
            await run.client.go_on()
            assert (await run.pause()).line == 21
            assert run.out == "late True\n" * 2
            return


def test_timers_have_what_was_left_of_them() -> None:
    which = signal.ITIMER_REAL
    try:
        signal.setitimer(which, 100.0, 7.0)
        with signal_masking.timers_stopped():
            assert signal.getitimer(which) == (0.0, 0.0)
        left, every = signal.getitimer(which)
        assert 99 < left <= 100.1 and every == pytest.approx(7.0)
        with signal_masking.timers_stopped():
            signal.setitimer(which, 50.0)  # by hand
        assert 49 < signal.getitimer(which)[0] <= 50.1
    finally:
        signal.setitimer(which, 0)


HELD = """
import os, signal, sys, threading, time
from uneven_sum.agent.core import signal_masking as signals

if sys.argv[1] == "beside":
    threading.Thread(target=time.sleep, args=(30,), daemon=True).start()
met = []
signal.signal(signal.SIGUSR1, lambda number, frame: met.append(number))
mask = signal.pthread_sigmask(signal.SIG_BLOCK, ())
with signals.held():
    os.kill(os.getpid(), signal.SIGUSR1)
    time.sleep(0.2)
    print(met)
print(met == [signal.SIGUSR1])

def raises(number, frame):
    raise ZeroDivisionError

signal.signal(signal.SIGUSR1, raises)
try:
    with signals.held():
        os.kill(os.getpid(), signal.SIGUSR1)
        time.sleep(0.2)
        print("held")
except ZeroDivisionError as e:
    print(signals.is_the_scripts(e), signals.is_the_scripts(ZeroDivisionError()))
print(signal.pthread_sigmask(signal.SIG_BLOCK, ()) == mask, signal.getsignal(signal.SIGUSR1) is raises)
"""


@pytest.mark.parametrize("others", ["alone", "beside"])  # beside: another thread takes the signal
def test_signals_are_held_back_and_then_come(others: str) -> None:
    done = subprocess.run([sys.executable, "-c", HELD, others], capture_output=True, text=True, timeout=60)
    assert done.stdout.split("\n") == ["[]", "True", "held", "True False", "True True", ""], done.stderr
