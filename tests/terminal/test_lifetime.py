"""No process of ours survives the end of the host, however it ends."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time

import pytest
from waiting import until


def alive(mark: str) -> list[int]:
    """Processes whose command line or environment holds a mark, but for ourselves."""
    found = []
    for pid in filter(str.isdigit, os.listdir("/proc")):
        try:
            with open(f"/proc/{pid}/cmdline", "rb") as f:
                command = f.read()
            with open(f"/proc/{pid}/environ", "rb") as f:
                environment = f.read()
            with open(f"/proc/{pid}/stat") as f:
                state = f.read().rpartition(")")[2].split()[0]
        except OSError:
            continue
        if mark.encode() in command + environment and state != "Z" and int(pid) != os.getpid():
            found.append(int(pid))
    return found


@pytest.mark.parametrize("how", [signal.SIGKILL, signal.SIGTERM, signal.SIGINT])
@pytest.mark.parametrize("body", ["while True: pass", "import time\ntime.sleep(100)"])
def test_nothing_is_left(how: signal.Signals, body: str, script) -> None:
    mark = f"UNEVEN_TEST_MARK={time.time_ns()}"
    name, _, value = mark.partition("=")
    path = script(body + "\n")
    host = subprocess.Popen(
        [sys.executable, "-m", "uneven_sum", "check", path],
        env={**os.environ, name: value},
        stdout=subprocess.DEVNULL,
        stderr=subprocess.PIPE,
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),  # a shell's background job ignores it
    )
    try:
        assert until(lambda: len(alive(mark)) == 2, 60), "the host and the script"
        time.sleep(0.2)
        host.send_signal(how)
        host.wait(60)
        assert until(lambda: not alive(mark), 60), alive(mark)
        assert b"Traceback" not in host.stderr.read()
    finally:
        host.kill()
        host.stderr.close()
