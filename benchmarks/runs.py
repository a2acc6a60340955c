"""Cost of whole runs, as `uneven-sum check` makes them, all tripwires on: `python benchmarks/runs.py [INTERPRETER…]`.

Each script times its loop itself, the best of five; plain and watched runs take turns.  Unlike in `probes.py`, the
agent is there with all that it needs, its audit hook among it.
"""

from __future__ import annotations

import asyncio
import math
import subprocess
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "src"))
sys.path.insert(0, str(Path(__file__).parent))

from loops import CLASSIC, LIMITS, LOOPS
from rounds import rounds

from uneven_sum.client import Client, Launch, Output
from uneven_sum.protocol import Lookout

MEAN = 1.7  # of the classic programs, geometric
TIMED = """
import time
best = 9e9
for _ in range({count}):
    began = time.perf_counter()
    main()
    best = min(best, time.perf_counter() - began)
print("seconds", best)
"""
CHECK = ["-m", "uneven_sum", "check"]
FIRST_LINE = "import time\nprint('seconds', time.time())\n"


def seconds(command: list[str]) -> float:
    done = subprocess.run(command, capture_output=True, text=True)
    return float(done.stdout.rpartition("seconds ")[2])


def ratio(folder: Path, name: str, source: str, python: str) -> tuple[float, float]:
    """Seconds of the plain run, and the ratio of the watched one to it."""
    if "def main" in source:
        text = source + TIMED.format(count=rounds(5))
    else:  # at module level: the loop cannot run twice
        text = f"import time\nbegan = time.perf_counter()\n{source}\nprint('seconds', time.perf_counter() - began)\n"
    path = folder / f"{name}.py"
    path.write_text(text)
    plain, watched = [python, str(path)], [sys.executable, *CHECK, "--python", python, str(path)]
    best = [9e9, 9e9]
    for _ in range(rounds(3)):
        best = [min(b, seconds(command)) for b, command in zip(best, (plain, watched))]
    return best[0], best[1] / best[0]


def start(folder: Path) -> float:
    """Seconds from the command to the first line, over those of the plain interpreter."""
    path = folder / "first.py"
    path.write_text(FIRST_LINE)
    best = [9e9, 9e9]
    for _ in range(rounds(5)):
        for k, command in enumerate(([sys.executable, str(path)], [sys.executable, *CHECK, str(path)])):
            began = time.time()
            best[k] = min(best[k], seconds(command) - began)
    return best[1] - best[0]


RUNNING = """
import time
import numpy as np
def work():
    stage = np.linspace(0.1, 2.0, {cells})
    n, total = 0, 0.0
    began = time.perf_counter()
    while True:
        flow = np.sqrt(stage) * 1.5
        total = total * 0.5 + 1.0
        n += 1
        if n % 2000 == 0:
            now = time.perf_counter()
            print((now - began) / 2000, flush=True)
            began = time.perf_counter()
work()
"""


async def running(folder: Path, cells: int, python: str) -> float:
    """A pass of a running loop after a breakpoint with a condition was set in it, as a ratio to one before."""
    path = folder / "running.py"
    path.write_text(RUNNING.format(cells=cells))
    client = Client(Launch(str(path), python=python, capture=True))
    await client.start()

    async def passes(count: int) -> float:
        found: list[float] = []
        while len(found) < count:
            event = await client.next_event()
            if isinstance(event, Output):
                found += [float(word) for word in event.text.split()]
        return min(found[1:])  # the first may lie on both sides

    before = await passes(rounds(20) + 1)
    await client.set_lookouts([Lookout(1, file=str(path), line=10, condition="total < 0.0")])
    await asyncio.sleep(0.5)
    await passes(3)  # written before
    after = await passes(rounds(20) + 1)
    await client.end()
    return after / before


def main(interpreters: list[str] | None = None) -> int:
    bad = 0
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        for python in interpreters or [sys.executable]:
            version = subprocess.run([python, "-V"], capture_output=True, text=True).stdout.split()[-1]
            print(f"CPython {version}; whole runs, ratios to the plain run")
            for loop, source in LOOPS.items():
                plain, found = ratio(folder, loop, source, python)
                bad += found > LIMITS[loop]
                print(f"  {loop:<12}{plain * 1e3:>8.1f} ms{found:>7.2f}{over(found, LIMITS[loop])}")
            ratios = []
            for loop, source in CLASSIC.items():
                plain, found = ratio(folder, loop, source, python)
                ratios.append(found)
                print(f"  {loop:<12}{plain * 1e3:>8.1f} ms{found:>7.2f}")
            mean = math.prod(ratios) ** (1 / len(ratios))
            bad += mean > MEAN
            print(f"  {'geometric mean of these':<23}{mean:>7.2f}{over(mean, MEAN)}")
            for cells in (100, 10_000):
                found = asyncio.run(running(folder, cells, python))
                bad += found > 1.3
                print(f"  condition in a running loop over {cells} cells: {found:.2f}{over(found, 1.3)}")
        later = start(folder)
        bad += later > 0.25
        print(f"\nfirst line after {later:.2f} s more than plain{over(later, 0.25)} s")
    return bad


def over(found: float, limit: float) -> str:
    return f"{' !' if found > limit else '  '}  at most {limit}"


if __name__ == "__main__":
    print("\nall within their limits" if main(sys.argv[1:]) == 0 else "\n! over its limit")
