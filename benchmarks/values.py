"""Cost of looking at values, as ratios within one run: `python benchmarks/values.py`."""

from __future__ import annotations

import asyncio
import os
import resource
import statistics
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "src"))

import numpy as np
from rounds import rounds

from uneven_sum.agent.core import run_state
from uneven_sum.agent.values import downsample
from uneven_sum.agent.values import statistics as array_statistics
from uneven_sum.agent.values.grid_page import b64
from uneven_sum.agent.values.kinds.arrays import figures
from uneven_sum.app.plotting.charts import line
from uneven_sum.app.plotting.number_format import Format
from uneven_sum.app.shell.theme import SLATE
from uneven_sum.client import Client, Launch, Stopped


def best(work, rounds: int = 3) -> float:
    found = []
    for _ in range(rounds):
        began = time.perf_counter()
        work()
        found.append(time.perf_counter() - began)
    return min(found)


def told(name: str, value: float, limit: float, unit: str = "") -> int:
    over = value > limit
    print(f"  {name:<58}{value:>8.2f}{unit}{' !' if over else '  '}  at most {limit:g}{unit}")
    return over


def large() -> int:
    a = np.random.default_rng(3).normal(0, 1, 100_000_000)
    a[12_345_678] = np.nan
    base = best(lambda: (a.min(), a.max()))
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    ours = best(lambda: figures(np, a), 2)
    extra = (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) / 1024
    bad = told("summary of 1e8 cells, to a.min() + a.max()", ours / base, 4)
    bad += told("extra memory", extra, 64, " MB")
    run_state.cancelled = lambda: time.perf_counter() - asked > 0
    asked = time.perf_counter()
    m = array_statistics.measure(np, a, cancelled=run_state.cancelled)
    bad += told("given up after", time.perf_counter() - asked, 0.2, " s")
    assert m.given_up
    run_state.cancelled = bool
    return bad


LOCALS = (
    "import numpy as np\nrng = np.random.default_rng(1)\ndef work():\n"
    + "".join(f"    a{n} = rng.random(1_000_000)\n" for n in range(20))
    + "".join(f"    s{n} = {n} * 1.5\n" for n in range(180))
    + "    breakpoint()\n    return a0\nwork()\n"
)


async def cards() -> int:
    """From the pause to the cards as they come to the application (what it paints is in latency.py)."""
    with tempfile.TemporaryDirectory() as folder:
        path = os.path.join(folder, "locals.py")
        Path(path).write_text(LOCALS)
        client = Client(Launch(path, capture=True, pause_on=set()))
        await client.start()
        while not isinstance(await client.next_event(), Stopped):
            pass
        first, filled = [], []
        for _ in range(rounds(5)):
            began = time.perf_counter()
            found = await client.cards(0, "call")
            first.append(time.perf_counter() - began)
            waiting = [c.name for c in found if c.pending]
            began = time.perf_counter()
            await client.fill(0, "call", waiting)
            filled.append(time.perf_counter() - began)
        pages = []
        for n in range(30):
            began = time.perf_counter()
            await client.page(f"a{n % 20}", 0, row=n * 30_000, rows=40)
            pages.append(time.perf_counter() - began)
        await client.end()
    arrays = [np.random.default_rng(n).random(1_000_000) for n in range(20)]
    base = best(lambda: [np.isfinite(a).all() for a in arrays], 5)
    bad = told("200 values: cards come after", statistics.median(first) * 1e3, 60, " ms")
    bad += told("filled, to isfinite().all() over the 20 arrays of 1e6", min(filled) / base, 4)
    return bad + told("a page of the grid, median", statistics.median(pages) * 1e3, 30, " ms")


def redraw() -> int:
    a = np.sin(np.arange(1_000_000) / 5e4)
    lows, highs, marks = downsample.extremes(np, a, 200)
    series = [{"name": "a", "lows": b64(lows), "highs": b64(highs), "marks": marks}]
    data = {"series": series, "first": 0, "last": a.size}
    seconds = best(lambda: line(data, 120, 38, SLATE, Format()).canvas.strips("#000000", "#ffffff"), 9)
    return told("redraw of a line of 1e6 points, reduced", seconds * 1e3, 60, " ms")


def main() -> int:
    print("values")
    return large() + asyncio.run(cards()) + redraw()


if __name__ == "__main__":
    print("\nall within their limits" if main() == 0 else "\n! over its limit")
