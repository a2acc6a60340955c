"""Recording a loop, as ratios to the plain run: `python benchmarks/recording.py`."""

from __future__ import annotations

import asyncio
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "src"))

from rounds import passes, rounds

from uneven_sum.client import Client, Exited, Launch, Output

HEAD = "import time\nimport numpy as np\ndef work(n, a):\n    x = y = z = 0.0\n    began = time.perf_counter()\n"
TAIL = "    return time.perf_counter() - began\nprint(work({passes}, np.linspace(0.0, 1.0, 100_000)))\n"
SCALARS = (
    "    for k in range(n):\n        x = x * 0.5 + k\n        y = x - y * 0.25\n        z = (x + y) / (1.0 + x * x)\n"
)
ARRAYS = (
    "    for k in range(n):\n        b = a * 1.5\n        c = np.sqrt(b)\n        d = c + a\n"
    "        e = d * d\n        f = np.exp(-e)\n        x = f[k]\n"
)
CASES = {  # body, passes, names recorded, limit
    "1e6 passes, three scalars": (SCALARS, 1_000_000, ["x", "y", "z"], 3.5),
    "the same, its lines counted": (SCALARS, 1_000_000, [], 1.6),
    "1e3 passes of five array operations, one summarised": (ARRAYS, 1_000, ["f", "x"], 1.4),
}


def plain(path: str) -> float:
    return float(subprocess.run([sys.executable, path], capture_output=True, text=True, check=True).stdout)


async def watched(path: str, line: int, names: list[str], counts: bool = False) -> float:
    """Seconds of the loop, recorded (`line` 0: not), or with its lines counted."""
    client = Client(Launch(path, capture=True, pause_on=set()))
    await client.start(record=[{"file": path, "line": line, "names": names}] if line else None, counts=counts)
    out = ""
    while not isinstance(event := await client.next_event(), Exited):
        out += event.text if isinstance(event, Output) and event.category == "stdout" else ""
    await client.end()
    return float(out.split()[0])


async def opening() -> list[tuple[str, float, float]]:
    """From the key to the painted Ledger of 1e6 passes, and from page to page."""
    from uneven_sum.app.app import UnevenSum
    from uneven_sum.app.bench.screen import Bench
    from uneven_sum.app.ledger.screen import LedgerScreen

    with tempfile.TemporaryDirectory() as folder:
        path = os.path.join(folder, "loop.py")
        Path(path).write_text(HEAD + SCALARS + "    breakpoint()\n" + TAIL.format(passes=passes(1_000_000)))
        app = UnevenSum(Launch(path, keep_case=False))
        async with app.run_test(size=(140, 42)) as pilot:
            bench = app.screen
            assert isinstance(bench, Bench)
            bench.book.always = True
            while bench.state != "paused":
                await pilot.pause(0.05)
            bench.action_again()
            while bench.state != "running":
                await pilot.pause(0.01)
            while bench.state != "paused":
                await pilot.pause(0.05)
            began = time.perf_counter()
            await bench.action_ledger()
            while not (isinstance(app.screen, LedgerScreen) and (grid := app.screen.grid()) and grid.page):
                await pilot.pause(0.001)
            opened = time.perf_counter() - began
            began = time.perf_counter()
            for _ in range(turns := rounds(20)):
                await grid.action_leap(-1)
                await pilot.pause()
            return [
                ("the Ledger of 1e6 passes opens", opened, 0.3),
                ("and scrolls by a page", (time.perf_counter() - began) / turns, 0.1),
            ]


def memory(count: int) -> float:
    """Megabytes that the recorder of three scalars holds after so many passes."""
    import tracemalloc

    from uneven_sum.agent.recording.recorder import Recorder

    tracemalloc.start()
    run = Recorder("f", (1, 0), ("x", "y", "z")).begin()
    for k in run.over(range(count)):
        run.waiting.extend((k * 0.5, k - 0.25, 1.0 / (k + 1)))
        if run.slow:
            run.settle()
    held = tracemalloc.get_traced_memory()[1] / 1e6
    tracemalloc.stop()
    return held


def main() -> int:
    bad = 0
    print("recording a loop, to the plain run")
    for name, (body, count, names, limit) in CASES.items():
        with tempfile.TemporaryDirectory() as folder:
            path = os.path.join(folder, "loop.py")
            Path(path).write_text(HEAD + body + TAIL.format(passes=passes(count)))
            pairs = [
                (plain(path), asyncio.run(watched(path, 6 * bool(names), names, not names))) for _ in range(rounds(5))
            ]
        ratio = min(b for _, b in pairs) / min(a for a, _ in pairs)
        over = ratio > limit
        bad += over
        print(f"  {name:<54}{ratio:>8.2f}{' !' if over else '  '}  at most {limit}")
    for what, seconds, limit in asyncio.run(opening()):
        bad += seconds > limit
        print(f"  {what:<54}{seconds * 1e3:>8.0f} ms  at most {limit * 1e3:.0f} ms")
    held = memory(passes(1_000_000))
    bad += held > 64
    print(f"  {'memory of 1e6 passes, three scalars':<54}{held:>8.1f} MB  at most 64 MB")
    return bad


if __name__ == "__main__":
    print("\nall within their limits" if main() == 0 else "\n! over its limit")
