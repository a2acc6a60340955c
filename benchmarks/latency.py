"""From start to the first pause, and from key to screen: `python benchmarks/latency.py`."""

from __future__ import annotations

import asyncio
import fcntl
import os
import pty
import select
import statistics
import struct
import subprocess
import sys
import tempfile
import termios
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "src"))

from uneven_sum.client import Client, Launch, Stopped

SCRIPT = "a = 1.0\nfor k in range(100000):\n    b = a * 2.0\n    c = b + k\n    a = c / 3.0\n"


async def first_pause(path: str) -> float:
    client = Client(Launch(path, capture=True, pause_on={"start", "error"}))
    began = time.perf_counter()
    await client.start()
    while not isinstance(await client.next_event(), Stopped):
        pass
    seconds = time.perf_counter() - began
    await client.end()
    return seconds


def plain_start() -> float:
    began = time.perf_counter()
    subprocess.run([sys.executable, "-c", "pass"], check=True)
    return time.perf_counter() - began


class Screen:
    """The program on a pseudo-terminal of 140 x 42."""

    def __init__(self, *args: str) -> None:
        self.pid, self.fd = pty.fork()
        if self.pid == 0:
            os.environ.update(TERM="xterm-256color", COLORTERM="truecolor")
            os.environ.pop("COLUMNS", None)
            os.environ.pop("LINES", None)
            os.execv(sys.executable, [sys.executable, "-m", "uneven_sum", *args])
        fcntl.ioctl(self.fd, termios.TIOCSWINSZ, struct.pack("HHHH", 42, 140, 0, 0))

    def quiet_after(self, patience: float, silence: float) -> float | None:
        """Seconds until the last output before a silence; None when nothing came."""
        began = time.perf_counter()
        last = None
        while True:
            wait = silence if last is not None else patience
            if not select.select([self.fd], [], [], wait)[0]:
                return last
            if not os.read(self.fd, 1 << 16):
                return last
            last = time.perf_counter() - began

    def close(self) -> None:
        os.kill(self.pid, 9)
        os.waitpid(self.pid, 0)
        os.close(self.fd)


def step_latencies(path: str, steps: int = 40) -> list[float]:
    screen = Screen("run", "--pause-on", "start,error,nonfinite", path)
    screen.quiet_after(5.0, 1.5)
    found = []
    for _ in range(steps):
        os.write(screen.fd, b" ")
        took = screen.quiet_after(2.0, 0.25)
        if took is not None:
            found.append(took)
    screen.close()
    return found


def main() -> int:
    with tempfile.TemporaryDirectory() as folder:
        path = os.path.join(folder, "steps.py")
        Path(path).write_text(SCRIPT)
        plain = min(plain_start() for _ in range(5))
        beyond = min(asyncio.run(first_pause(path)) for _ in range(5)) - plain
        steps = statistics.median(step_latencies(path))
    bad = 0
    for name, value, limit in (
        ("start to the first line, beyond the interpreter's", beyond, 0.4),
        ("key to screen, one line (median)", steps, 0.06),
    ):
        over = value > limit
        bad += over
        print(f"{name:<52}{value * 1e3:>8.0f} ms   limit {limit * 1e3:.0f} ms{' !' if over else ''}")
    return bad


if __name__ == "__main__":
    sys.exit(main())
