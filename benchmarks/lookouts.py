"""Cost of lookouts, as ratios to the plain run in the same process: `python benchmarks/lookouts.py`."""

from __future__ import annotations

import asyncio
import os
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "src"))
sys.path.insert(0, str(Path(__file__).parent))

from rounds import rounds

from uneven_sum.agent.engine.engine import Engine
from uneven_sum.agent.lookouts import validation
from uneven_sum.agent.lookouts.lookout import Lookout
from uneven_sum.agent.probes import runtime
from uneven_sum.agent.reload.loader import Loader
from uneven_sum.agent.source.sites import Options
from uneven_sum.client import Client, Launch, Stopped
from uneven_sum.protocol import Lookout as Wanted

SCALAR = """
def work(n):
    x = 0.3
    total = 0.0
    for i in range(n):
        x = 3.7 * x * (1.0 - x)
        y = x * 0.5 + 0.25
        total += y
    return total
def other(a):
    return a + 1
def main():
    return work(1_000_000)
"""
ROUNDS = rounds(5)


def timed(code, trace=None) -> float:
    space: dict = {"__name__": "bench"}
    exec(code, space)
    began = time.perf_counter()
    sys.settrace(trace)
    space["main"]()
    sys.settrace(None)
    return time.perf_counter() - began


def tracer(frame, event, arg):
    return tracer


def scalar() -> int:
    class Silent:
        def event(self, *args: object) -> None: ...
        def send(self, *args: object) -> None: ...

    engine = Engine(Silent())  # type: ignore[arg-type]
    runtime.listener = engine
    kinds = {
        "nothing": ([], 1.4),
        "a condition, never true": ([Lookout(1, condition="total < 0.0")], 1.4),
        "a count, never reached": ([Lookout(1, start=1_000_000_000)], 1.5),
        "a text, 1,000 times": ([Lookout(1, text="{i} {x:.3f}", start=1000, every=1000)], 1.6),
        "elsewhere": ([Lookout(1, line=11), Lookout(2, where="entry", name="other")], 1.05),
    }
    plain = compile(SCALAR, "scalar", "exec")
    codes = {}
    for number, (name, (wanted, _)) in enumerate(kinds.items()):
        path = f"/bench/lookouts_{number}.py"
        loader = Loader(Options(checks=False))
        engine.loader = loader
        for lk in wanted:
            lk.file = path if lk.where == "line" else ""
            lk.line = lk.line or (7 if lk.where == "line" else 0)
            if lk.condition:
                validation._condition(lk)
            if lk.text:
                validation._text(lk)
        loader.lookouts.replace("own", wanted)
        codes[name] = (loader.compile(path, SCALAR.encode()), loader)
    best = {name: 9e9 for name in kinds}
    base = traced = 9e9
    for _ in range(ROUNDS):
        base = min(base, timed(plain))
        for name, (code, loader) in codes.items():
            engine.loader = loader
            best[name] = min(best[name], timed(code))
    for _ in range(rounds(2)):
        traced = min(traced, timed(plain, tracer))
    print(f"scalar arithmetic, 1e6 passes, tripwires off (plain {base * 1e3:.0f} ms)")
    bad = 0
    nothing = best["nothing"] / base
    for name, (_, limit) in kinds.items():
        ratio = best[name] / base
        if name == "elsewhere":
            ratio /= nothing
        over = ratio > limit
        bad += over
        print(f"  {name:<28}{ratio:>7.2f}{' !' if over else '  '}  at most {limit}")
    print(f"  {'for comparison: settrace':<28}{traced / base:>7.2f}")
    return bad


LONG = "def work():\n    n = 0\n    while n < 10**12:\n        n += 1\n        m = n * 0.5\nwork()\n"


async def late() -> float:
    """Seconds from setting a breakpoint in a loop that runs already to its pause."""
    with tempfile.TemporaryDirectory() as folder:
        path = os.path.join(folder, "long.py")
        Path(path).write_text(LONG)
        client = Client(Launch(path, capture=True))
        await client.start()
        await asyncio.sleep(0.5)
        began = time.perf_counter()
        await client.set_lookouts([Wanted(1, file=path, line=5, condition="n % 1000 == 0")])
        while not isinstance(await client.next_event(), Stopped):
            pass
        seconds = time.perf_counter() - began
        await client.end()
        return seconds


FRAMES = """
import time
import numpy as np
import pandas as pd
rng = np.random.default_rng(3)
frame = pd.DataFrame({"gauge": rng.integers(0, 50, 20000), "flow": rng.random(20000)})
names = pd.DataFrame({"gauge": range(50), "river": [f"r{k % 7}" for k in range(50)]})
began = time.perf_counter()
for k in range(40):
    joined = frame.merge(names, on="gauge")
    means = joined.groupby("river")["flow"].mean()
    total = means.sum()
print(time.perf_counter() - began)
"""


def libraries() -> float:
    """`check` with no tripwire on library-heavy code, against the plain interpreter."""
    import subprocess

    with tempfile.TemporaryDirectory() as folder:
        path = os.path.join(folder, "frames.py")
        Path(path).write_text(FRAMES)
        off = ["-m", "uneven_sum", "check", "--no-pause-on", "error,warning,nonfinite", path]
        best = [9e9, 9e9]
        for _ in range(rounds(4)):
            for k, command in enumerate(([path], off)):
                done = subprocess.run([sys.executable, *command], capture_output=True, text=True, check=True)
                best[k] = min(best[k], float(done.stdout))
    return best[1] / best[0]


def main() -> int:
    bad = scalar()
    seconds = asyncio.run(late())
    print(f"\nset while a long loop runs: pause after {seconds:.2f} s{' !' if seconds > 0.5 else ''}, at most 0.5")
    ratio = libraries()
    print(f"group-by and merge, check without tripwires: {ratio:.2f}{' !' if ratio > 1.05 else ''}, at most 1.05")
    return bad + (seconds > 0.5) + (ratio > 1.05)


if __name__ == "__main__":
    print("\nall within their limits" if main() == 0 else "\n! over its limit")
