"""A run that tells its values to the plain run, and how many records are compared a second:
`python benchmarks/streams.py`.  Ratios within one run; the best of some rounds."""

from __future__ import annotations

import os
import struct
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).parent.parent / "src"))

import numpy as np
from audit import BODIES, seconds
from rounds import rounds

from uneven_sum.agent.probes import runtime
from uneven_sum.agent.recording.value_stream import ValueStream
from uneven_sum.agent.reload.loader import Loader
from uneven_sum.agent.shaking import probes as shaking
from uneven_sum.agent.source.sites import Options
from uneven_sum.client.differing.comparing import Comparer
from uneven_sum.client.differing.places import Matching, Text
from uneven_sum.client.differing.reading import Blocks, Place

LIMITS = {"scalar": 4.0, "small calls": 4.0, "vectorised": 1.4}
SHAKEN = {"scalar": 20.0, "small calls": 20.0, "vectorised": 4.0}
A_SECOND = 1e6  # records


READER = """
import socket, sys
ours = socket.socket(socket.AF_UNIX)
ours.bind(sys.argv[1])
ours.listen()
print(flush=True)
there, _ = ours.accept()
while there.recv(1 << 20):
    pass
"""


def drained(path: str) -> None:
    """A process that listens at a path, as the client does; what comes is read and dropped."""
    reader = subprocess.Popen([sys.executable, "-c", READER, path], stdout=subprocess.PIPE)
    assert reader.stdout is not None
    reader.stdout.readline()


def ratio(name: str, seed: int | None = None) -> float:
    """`seed`: of a shaken run; None for one that only tells its values."""
    text = BODIES[name][0]
    plain: dict[str, Any] = {"np": np}
    exec(compile(text, name, "exec"), plain)
    told: dict[str, Any] = {"np": np}
    with tempfile.TemporaryDirectory() as folder:
        path = os.path.join(folder, "stream")
        drained(path)
        stream = ValueStream(path)
        runtime.PROBES.update(stream.probes())
        options = Options(checks=False, stream=True)
        if seed is not None:
            runtime.PROBES.update(shaking.of(stream, seed))
            options.audit, options.results = shaking.WANTED, True
        loader = Loader(options)
        exec(loader.compile(os.path.join(folder, f"{name}.py"), text.encode()), told)
        best = [min(seconds(work) for _ in range(rounds(5))) for work in (plain["work"], told["work"])]
        stream.end()
    return best[1] / best[0]


def compared(count: int) -> float:
    """Records compared a second."""
    texts = ({"/a.py": Text("/a.py", ["x = 1"] * 9)}, {"/a.py": Text("/a.py", ["x = 1"] * 9)})
    comparer = Comparer(Matching(texts, ("/", "/")))
    for side in (0, 1):
        for line in range(1, 5):
            comparer.place(side, Place(line, "/a.py", line, 4, line, 5, "value", line))
    places, values = np.tile([1.0, 2.0, 3.0, 4.0], 2048), np.arange(8192.0)
    pairs = [np.stack([places, values + shift], axis=1) for shift in (0.0, 1e-9)]
    blocks = [struct.pack("<I", 8192) + one.tobytes() for one in pairs]
    readers = (Blocks(), Blocks())
    began = time.perf_counter()
    for number in range(count // 8192):
        for side in (0, 1):
            comparer.take(side, readers[side].read(blocks[side if number % 3 == 0 else 0]))
        comparer.advance()
    return count / (time.perf_counter() - began)


def main() -> int:
    bad = 0
    print("a run that tells its values, to the plain run")
    for name, limit in LIMITS.items():
        found = ratio(name)
        bad += found > limit
        print(f"  {name:<24} {found:>8.2f}    at most {limit:g}{'  !' if found > limit else ''}")
    print("a shaken run, to the plain run")
    for name, limit in SHAKEN.items():
        found = ratio(name, 1)
        bad += found > limit
        print(f"  {name:<24} {found:>8.2f}    at most {limit:g}{'  !' if found > limit else ''}")
    speed = compared(10_000_000 // (50 if rounds(5) < 5 else 1))
    bad += speed < A_SECOND
    print(
        f"  {'records compared':<24} {speed:>8.3g} a second, at least {A_SECOND:g}{'  !' if speed < A_SECOND else ''}"
    )
    return bad


if __name__ == "__main__":
    sys.exit(main())
