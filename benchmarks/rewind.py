"""Trials and going back in a process of 500 MB: `python benchmarks/rewind.py`."""

from __future__ import annotations

import asyncio
import os
import statistics
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "src"))

from latency import Screen
from rounds import passes, rounds

from uneven_sum.client import Client, Ended, Launch, Stopped

SCRIPT = (
    "import numpy as np\nheld = np.random.default_rng(1).random(62_500_000)\ntotal = 0.0\n"
    "for k in range(1000):\n    total += k\n    x = total\n"
)


LOOPS = {  # the pass, and how many of them
    "passes of about 1 ms, arrays": ("a = a * 0.999 + 1e-3\n    b = np.sqrt(a)\n    c = float(b.sum())", 4_000),
    "short passes, scalars": ("x = x * 0.5 + k\n    y = x - k", 6_000_000),
}


async def paused(client: Client) -> None:
    while not isinstance(await asyncio.wait_for(client.next_event(), 60), Stopped):
        pass


async def measure() -> tuple[float, float, float]:
    with tempfile.TemporaryDirectory() as folder:
        path = os.path.join(folder, "held.py")
        Path(path).write_text(SCRIPT)
        client = Client(Launch(path, capture=True, rewind=True, pause_on={"start"}))
        await client.start()
        await paused(client)
        await client.run_to(path, 5)
        await paused(client)
        steps, backs, trials = [], [], []
        for _ in range(rounds(20)):
            began = time.perf_counter()
            await client.step_line()
            await paused(client)
            steps.append(time.perf_counter() - began)
            await asyncio.sleep(0.05)
        for _ in range(rounds(15)):
            began = time.perf_counter()
            await client.ask("total * 2 + abs(-1)")
            trials.append(time.perf_counter() - began)
        for _ in range(rounds(10)):
            if not client.has_point_before():
                break
            began = time.perf_counter()
            await client.step_back()
            await paused(client)
            backs.append(time.perf_counter() - began)
        await client.end()
    return statistics.median(trials), statistics.median(backs), statistics.median(steps)


def painted() -> tuple[float, float]:
    """From the key to the painted answer of a trial, and to the painted Bench after backspace: medians, in seconds."""
    with tempfile.TemporaryDirectory() as folder:
        path = os.path.join(folder, "held.py")
        Path(path).write_text(SCRIPT)
        screen = Screen("run", "--pause-on", "start", path)
        screen.quiet_after(60, 2.0)
        os.write(screen.fd, b"\x1b[B" * 5)  # to line 6, in the loop
        screen.quiet_after(60, 1.0)
        os.write(screen.fd, b"h")
        screen.seen_at(b"paused", b"", 60)
        screen.quiet_after(1, 1.0)
        trials, backs = [], []
        for n in range(rounds(10) + 2):
            os.write(screen.fd, b" ")
            screen.seen_at(b"At line", b"", 60)
            screen.quiet_after(0.3, 0.3)
            os.write(screen.fd, b"a")
            screen.seen_at(b"in a copy", b"", 60)
            os.write(screen.fd, f"total * 0 + {7000 + n}".encode())
            screen.quiet_after(60, 0.3)
            began = time.perf_counter()
            os.write(screen.fd, b"\r")
            trials.append(screen.seen_at(f"{7000 + n}.0".encode(), b"unchanged", 60)[0] - began)
            screen.quiet_after(1, 0.2)
            os.write(screen.fd, b"\x1b")
            screen.quiet_after(1, 0.4)
            os.write(screen.fd, b"\x1b")
            screen.quiet_after(1, 0.4)
        for _ in range(rounds(10)):
            began = time.perf_counter()
            os.write(screen.fd, b"\x7f")
            backs.append(screen.seen_at(b"At line", b"line", 60)[0] - began)
            screen.quiet_after(1, 0.5)
        screen.close()
    return statistics.median(trials), statistics.median(backs)


async def seconds(body: str, count: int, rewind: bool) -> float:
    with tempfile.TemporaryDirectory() as folder:
        path = os.path.join(folder, "loop.py")
        text = f"def work(a, x):\n  for k in range({count}):\n    {body}\nwork(np.ones(150_000), 0.0)\n"
        Path(path).write_text("import numpy as np\n" + text)
        client = Client(Launch(path, capture=True, rewind=rewind))
        await client.start()
        while not isinstance(event := await client.next_event(), Ended):
            pass
        await client.end()
        return event.seconds


def loops() -> int:
    """Return points in running loops, as ratios to the same loop without them."""
    bad = 0
    for name, (body, count) in LOOPS.items():
        count = passes(count)
        pairs = [[asyncio.run(seconds(body, count, how)) for how in (False, True)] for _ in range(rounds(7))]
        ratio = min(b for _, b in pairs) / min(a for a, _ in pairs)
        over = ratio > 1.05
        bad += over
        each = min(a for a, _ in pairs) / count * 1e3
        print(f"  {name:<34}{ratio:>8.3f}{' !' if over else '  '}     at most 1.05   ({each:.4f} ms a pass)")
    return bad


def main() -> int:
    trial, back, step = asyncio.run(measure())
    print("in a process of 500 MB, without painting")
    bad = 0
    for name, value, limit in (("a trial, median", trial, 60), ("back to the last pause, median", back, 150)):
        over = value * 1e3 > limit
        bad += over
        print(f"  {name:<34}{value * 1e3:>8.1f} ms{' !' if over else '  '}  at most {limit} ms")
    print(f"  {'a line step with its return point':<34}{step * 1e3:>8.1f} ms")
    trial, back = painted()
    for name, value, limit in (
        ("a trial, to the painted answer", trial, 60),
        ("back, to the painted Bench", back, 150),
    ):
        over = value * 1e3 > limit
        bad += over
        print(f"  {name:<34}{value * 1e3:>8.1f} ms{' !' if over else '  '}  at most {limit} ms")
    return bad + loops()


if __name__ == "__main__":
    print("\nall within their limits" if main() == 0 else "\n! over its limit")
