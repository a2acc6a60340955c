"""Worker processes and sweeps: `python benchmarks/workers.py`.  How much later a process starts under watch, what its
work takes beside the same work in the script, and how much faster a sweep is on two cores.  The best of some rounds."""

from __future__ import annotations

import asyncio
import json
import subprocess
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "src"))

from rounds import rounds

from uneven_sum.client import Launch
from uneven_sum.sweep.rows import Inputs
from uneven_sum.sweep.sweep import Sweep

STARTS = {"forked": 0.030, "spawned": 0.150, "run by another": 0.150}  # seconds later, at most
SAME = 1.1  # watched work in a worker to watched work in the script, both to plain
TWO_CORES = 1.8
SCRIPT = """
import json, multiprocessing, os, subprocess, sys, time

def work(passes):
    total = level = 1.0
    began = time.perf_counter()
    for k in range(passes):
        level = 0.99 * level + 0.2
        total += level * 0.5
    return time.perf_counter() - began

def best(call, count):
    found = []
    for _ in range(count):
        began = time.perf_counter()
        call()
        found.append(time.perf_counter() - began)
    return min(found)

def forked():
    pid = os.fork()
    if pid == 0:
        os._exit(0)
    os.waitpid(pid, 0)

def spawned():
    one = multiprocessing.get_context('spawn').Process(target=abs, args=(1,))
    one.start()
    one.join()

def run():
    subprocess.run([sys.executable, __file__, 'nothing'])

if __name__ == '__main__' and len(sys.argv) > 1 and sys.argv[1] != 'nothing':
    count, passes = map(int, sys.argv[1:])
    told = {'forked': best(forked, 5 * count), 'spawned': best(spawned, count), 'run by another': best(run, count)}
    told['script'] = min(work(passes) for _ in range(count))
    with multiprocessing.get_context('fork').Pool(1) as pool:
        told['worker'] = min(pool.map(work, [passes] * count, chunksize=1))
    print(json.dumps(told))
"""
MODEL = "import sys, time\nend = time.process_time() + float(sys.argv[2])\nwhile time.process_time() < end:\n    pass\n"


def measured(folder: str) -> tuple[dict[str, float], dict[str, float]]:
    """Seconds of each, plain and watched."""
    path = Path(folder) / "workers.py"
    path.write_text(SCRIPT)
    arguments = [str(rounds(5)), str(2_000_000 if rounds(5) > 1 else 20_000)]
    found = []
    for command in ([sys.executable], [sys.executable, "-m", "uneven_sum", "check"]):
        done = subprocess.run([*command, str(path), *arguments], capture_output=True, text=True, cwd=folder)
        found.append(json.loads(done.stdout))
    return found[0], found[1]


def swept(folder: str, jobs: int, runs: int, seconds: float) -> float:
    """How long a sweep takes."""
    (Path(folder) / "model.py").write_text(MODEL)
    inputs = Inputs(None, None, ["row=" + ",".join(map(str, range(runs)))])
    launch = Launch("model.py", ["{row}", str(seconds)], cwd=folder)
    made = Sweep(launch, inputs, str(Path(folder) / f"kept{jobs}.parquet"), jobs=jobs)
    began = time.perf_counter()
    asyncio.run(made.run())
    return time.perf_counter() - began


def main() -> int:
    bad = 0
    with tempfile.TemporaryDirectory() as folder:
        plain, watched = measured(folder)
        print("a process starts so much later under watch")
        for name, limit in STARTS.items():
            found = watched[name] - plain[name]
            bad += found > limit
            print(f"  {name:<24} {1e3 * found:>8.1f} ms  at most {1e3 * limit:g}{'  !' if found > limit else ''}")
        ratio = (watched["worker"] / plain["worker"]) / (watched["script"] / plain["script"])
        bad += ratio > SAME
        print(f"  {'work there, to here':<24} {ratio:>8.2f}     at most {SAME:g}{'  !' if ratio > SAME else ''}")
        runs, seconds = (200, 0.5) if rounds(5) > 1 else (4, 0.05)
        faster = swept(folder, 1, runs, seconds) / swept(folder, 2, runs, seconds)
        bad += faster < TWO_CORES
        mark = "  !" if faster < TWO_CORES else ""
        print(f"  {'a sweep on two cores':<24} {faster:>8.2f}     at least {TWO_CORES:g}{mark}")
    return bad


if __name__ == "__main__":
    sys.exit(main() > 0)
