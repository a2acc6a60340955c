"""Whoever ends a script ends all that descends from it; no output is lost; signals end us cleanly."""

from __future__ import annotations

import fcntl
import os
import pty
import signal
import struct
import subprocess
import sys
import termios
import time
from pathlib import Path

import pytest
from driving import running

POOL = """
import time
import multiprocessing
from concurrent.futures import ProcessPoolExecutor
def work(k):
    if k == 3:
        raise ValueError("bad gauge")
    time.sleep({seconds})
    return k
if __name__ == "__main__":
    with ProcessPoolExecutor(2, mp_context=multiprocessing.get_context("{how}")) as workers:
        print("started", flush=True)
        print(list(workers.map(work, range(8))))
"""


def check(*args: str) -> list[str]:
    return [sys.executable, "-m", "uneven_sum", "check", *args]


def alive(path: str) -> list[str]:
    """The processes whose command line, or working directory, is about a script's folder."""
    found = []
    folder = os.path.dirname(path)
    for name in os.listdir("/proc"):
        try:
            line = Path(f"/proc/{name}/cmdline").read_text() if name.isdigit() else ""
            if line and (folder in line or os.readlink(f"/proc/{name}/cwd") == folder) and int(name) != os.getpid():
                if Path(f"/proc/{name}/stat").read_text().rpartition(")")[2].split()[0] not in "ZX":
                    found.append(line.replace("\0", " "))
        except OSError:
            continue
    return found


def until(true, seconds: float = 60) -> None:
    end = time.monotonic() + seconds
    while not true():
        assert time.monotonic() < end, "it did not come about"
        time.sleep(0.05)


def wait_until_gone(path: str) -> None:
    until(lambda: not alive(path), 20)


@pytest.mark.parametrize("how", ["fork", "spawn", "forkserver"])
def test_a_trip_ends_the_workers_and_the_pipe(how: str, script) -> None:
    path = script(POOL.format(seconds=0.05, how=how))
    done = subprocess.run(check(path), capture_output=True, text=True, cwd=os.path.dirname(path), timeout=100)
    assert done.returncode == 1 and "ValueError" in done.stderr
    wait_until_gone(path)


@pytest.mark.parametrize("number", [signal.SIGHUP, signal.SIGTERM, signal.SIGQUIT, signal.SIGKILL])
def test_no_process_is_left_by_a_signal(number: signal.Signals, script) -> None:
    path = script(POOL.format(seconds=60, how="fork"))
    folder = os.path.dirname(path)
    with subprocess.Popen(
        ["env", "--default-signal", *check(path)], stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, cwd=folder
    ) as process:
        assert process.stdout is not None and process.stdout.readline() == b"started\n"
        for _ in range(400):  # its two workers and the warden
            if len(alive(path)) >= 4:
                break
            time.sleep(0.05)
        time.sleep(0.1)
        process.send_signal(number)
        status = process.wait(20)
    assert status == (-9 if number == signal.SIGKILL else 128 + number)
    wait_until_gone(path)


def test_a_daemon_is_reported_and_left(script) -> None:
    path = script(
        "import subprocess\n"
        "daemon = subprocess.Popen(['sleep', '20'], start_new_session=True, stdout=-3, stderr=-3)\n"
        "child = subprocess.Popen(['sleep', '30'])\n"
        "print(daemon.pid, child.pid, flush=True)\n"
        "1 / 0\n"
    )
    done = subprocess.run(check(path), capture_output=True, text=True, timeout=15)
    daemon, child = map(int, done.stdout.split())
    assert f"Still running, each in a session of its own: sleep (process {daemon})" in done.stderr
    assert os.path.exists(f"/proc/{daemon}")
    os.kill(daemon, 9)
    with pytest.raises(ProcessLookupError):
        for _ in range(100):
            os.kill(child, 0)
            if Path(f"/proc/{child}/stat").read_text().rpartition(")")[2].split()[0] in "ZX":
                raise ProcessLookupError
            time.sleep(0.05)


async def test_end_ends_what_descends(script) -> None:
    path = script("import subprocess, time\nsubprocess.Popen(['sleep', '50'], cwd='.')\nx = 1 / 0\n")
    async with running(path, cwd=os.path.dirname(path)) as run:
        assert (await run.pause()).reason == "error"
        assert any("sleep" in line for line in alive(path))
    wait_until_gone(path)


@pytest.mark.parametrize("unbuffered", ["", "1"])
def test_a_slow_reader_gets_every_byte(unbuffered: str, script) -> None:
    path = script("for i in range(300):\n    print(str(i % 10) * 100_000)\n")
    environment = {**os.environ, "PYTHONUNBUFFERED": unbuffered}
    with subprocess.Popen(check(path), stdout=subprocess.PIPE, env=environment) as process:
        assert process.stdout is not None
        got = 0
        while data := os.read(process.stdout.fileno(), 1 << 16):
            got += len(data)
            time.sleep(0.003)  # the reader is what is slow here
    assert got == 300 * 100_001


@pytest.mark.parametrize("number", [signal.SIGHUP, signal.SIGTERM, signal.SIGKILL])
def test_the_case_is_saved_whatever_ends_the_bench(number: signal.Signals, script, terminal) -> None:
    path = script("import time\nx = 1.0\nfor k in range(10**9):\n    x = x * 0.5 + k\n")
    t = terminal("run", path)
    until(lambda: "is running" in t.screen())
    t.keys("m")
    case = Path(path).with_suffix(".case.toml")
    until(lambda: case.exists() and "pause at line" in case.read_text())
    whole = case.read_text()
    pid = next(int(n) for n in os.listdir("/proc") if n.isdigit() and _is_bench(n, path))
    os.kill(pid, number)
    until(lambda: "left with status" in t.screen())
    assert case.read_text() == whole
    wait_until_gone_script(path)


@pytest.mark.parametrize("ignored", [False, True], ids=["heeds HUP", "ignores HUP"])
def test_it_ends_with_its_terminal_though_it_was_told_to_go_on(ignored: bool, script) -> None:
    """The system sends CONT after HUP; where HUP is ignored, only looking tells that the terminal is gone."""
    path = script("x = 1.0\n")
    ours, theirs = pty.openpty()
    fcntl.ioctl(theirs, termios.TIOCSWINSZ, struct.pack("HHHH", 40, 120, 0, 0))
    command = [
        "env",
        "--default-signal",
        *(["--ignore-signal=HUP"] if ignored else []),
        sys.executable,
        "-m",
        "uneven_sum",
    ]
    with subprocess.Popen(
        [*command, "run", "--pause-on", "start", path],
        stdin=theirs,
        stdout=theirs,
        stderr=theirs,
        start_new_session=True,
    ) as process:
        os.close(theirs)
        shown = b""
        while b"Paused before" not in shown:
            shown += os.read(ours, 65536)
        for _ in range(3):
            process.send_signal(signal.SIGCONT)
        os.close(ours)
        assert process.wait(60) == 128 + signal.SIGHUP
    wait_until_gone(path)


def wait_until_gone_script(path: str) -> None:
    until(lambda: not [line for line in alive(path) if "boot.py" in line])


def _is_bench(name: str, path: str) -> bool:
    try:
        words = Path(f"/proc/{name}/cmdline").read_text().split("\0")
    except OSError:
        return False
    return words[1:4] == ["-m", "uneven_sum", "run"] and path in words


@pytest.mark.parametrize(
    ("text", "ended"),
    [
        ("x = 0\ny = 1 / x\n", "terminal closed, paused at line 2: error"),
        ("import time\nprint('begun', flush=True)\ntime.sleep(600)\n", "terminal closed, while it ran"),
    ],
    ids=["at a pause", "while it runs"],
)
def test_a_closed_terminal_is_no_crash_of_the_script(text: str, ended: str, script, terminal) -> None:
    path = script(text)
    t = terminal("run", path)
    t.expect("ZeroDivisionError at line 2" if "paused" in ended else "begun")
    os.kill(next(int(n) for n in os.listdir("/proc") if n.isdigit() and _is_bench(n, path)), signal.SIGHUP)
    until(lambda: "left with status" in t.screen())
    desk = terminal()
    desk.expect("script.py")
    left = " ".join(row.partition("│")[0].strip() for row in desk.expect("terminal closed,").splitlines())
    assert ended in " ".join(left.split()) and "crashed" not in left  # it is wrapped
