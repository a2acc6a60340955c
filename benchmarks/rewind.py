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

from uneven_sum.client import Client, Launch, Stopped

SCRIPT = (
    "import numpy as np\nheld = np.random.default_rng(1).random(62_500_000)\ntotal = 0.0\n"
    "for k in range(1000):\n    total += k\n    x = total\n"
)


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
        for _ in range(20):
            began = time.perf_counter()
            await client.step_line()
            await paused(client)
            steps.append(time.perf_counter() - began)
            await asyncio.sleep(0.05)
        for _ in range(15):
            began = time.perf_counter()
            await client.ask("total * 2 + abs(-1)")
            trials.append(time.perf_counter() - began)
        for _ in range(10):
            if not client.has_point_before():
                break
            began = time.perf_counter()
            await client.step_back()
            await paused(client)
            backs.append(time.perf_counter() - began)
        await client.end()
    return statistics.median(trials), statistics.median(backs), statistics.median(steps)


def main() -> int:
    trial, back, step = asyncio.run(measure())
    print("in a process of 500 MB, without painting")
    bad = 0
    for name, value, limit in (("a trial, median", trial, 60), ("back to the last pause, median", back, 150)):
        over = value * 1e3 > limit
        bad += over
        print(f"  {name:<34}{value * 1e3:>8.1f} ms{' !' if over else '  '}  at most {limit} ms")
    print(f"  {'a line step with its return point':<34}{step * 1e3:>8.1f} ms")
    return bad


if __name__ == "__main__":
    print("\nall within their limits" if main() == 0 else "\n! over its limit")
