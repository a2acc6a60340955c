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

from rounds import rounds

from uneven_sum.client import Client, Launch, Stopped

LOCALS = (
    "import time\nimport numpy as np\nSTAMP = __file__ + '.stamp'\nrng = np.random.default_rng(1)\ndef work():\n"
    + "".join(f"    a{n} = rng.random(1_000_000)\n" for n in range(20))
    + "".join(f"    s{n} = {n} * 1.5\n" for n in range(179))
    + "    for k in range(100):\n        aa = 7_700_000 + k\n"
    + "".join(f"        a{n}[k] = -k\n" for n in range(20))
    + "        open(STAMP, 'w').write(str(time.perf_counter()))\n        breakpoint()\nwork()\n"
)
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

    def seen_at(self, first: bytes, then: bytes, patience: float) -> tuple[float, float]:
        """When a text was painted, and when after it another one, by the clock that scripts have too.  RuntimeError
        when both were not within `patience` seconds."""
        at, got = -1.0, b""
        last = time.perf_counter() + patience
        while (left := last - time.perf_counter()) > 0 and select.select([self.fd], [], [], left)[0]:
            got += os.read(self.fd, 1 << 16)
            if at < 0 and first in got:
                at, got = time.perf_counter(), got.partition(first)[2]
            if at >= 0 and then in got:
                return at, time.perf_counter()
        raise RuntimeError(f"{first!r} and {then!r} were not painted")

    def close(self) -> None:
        os.kill(self.pid, 9)
        os.waitpid(self.pid, 0)
        os.close(self.fd)


def step_latencies(path: str, steps: int = rounds(40)) -> list[float]:
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


def cards(path: str, pauses: int = rounds(12)) -> tuple[float, float]:
    """200 locals, 20 of them arrays of 1e6 that change in each pass: from the pause (what stands before it in the
    script takes the time) to the painted cards, and from those to the arrays' filled ones; medians, in seconds."""
    screen = Screen("run", "--pause-on", "error", path)
    screen.seen_at(b"7700000", b"mean", 30)
    os.write(screen.fd, b"\t")  # from the values around the line to those of the call
    screen.quiet_after(2.0, 0.6)
    painted, filled = [], []
    for k in range(1, pauses + 1):
        screen.quiet_after(0.4, 0.4)
        os.write(screen.fd, b"\r")
        at, full = screen.seen_at(b"%d" % (7_700_000 + k), b"mean", 10)
        painted.append(at - float(Path(path + ".stamp").read_text()))
        filled.append(full - at)
    screen.close()
    return statistics.median(painted), statistics.median(filled)


def isfinite_alone() -> float:
    import numpy as np

    arrays = [np.random.default_rng(n).random(1_000_000) for n in range(20)]
    found = []
    for _ in range(rounds(5)):
        began = time.perf_counter()
        for a in arrays:
            np.isfinite(a).all()
        found.append(time.perf_counter() - began)
    return min(found)


def main() -> int:
    with tempfile.TemporaryDirectory() as folder:
        path = os.path.join(folder, "steps.py")
        Path(path).write_text(SCRIPT)
        plain = min(plain_start() for _ in range(rounds(5)))
        beyond = min(asyncio.run(first_pause(path)) for _ in range(rounds(5))) - plain
        steps = statistics.median(step_latencies(path))
        Path(path).write_text(LOCALS)
        painted, filled = cards(path)
    bad = 0
    for name, value, limit in (
        ("start to the first line, beyond the interpreter's", beyond, 0.4),
        ("key to screen, one line (median)", steps, 0.06),
        ("200 locals: pause to painted cards (median)", painted, 0.06),
        ("painted to filled; limit: 4 isfinite().all()", filled, 4 * isfinite_alone()),
    ):
        over = value > limit
        bad += over
        print(f"{name:<52}{value * 1e3:>8.0f} ms   limit {limit * 1e3:.0f} ms{' !' if over else ''}")
    return bad


if __name__ == "__main__":
    sys.exit(main())
