"""An audit run to the plain run: `python benchmarks/audit.py`.  Ratios within one run; the best of some rounds."""

from __future__ import annotations

import sys
import time
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).parent.parent / "src"))

import numpy as np
import pandas as pd
from rounds import rounds

from uneven_sum.agent.audit import probes
from uneven_sum.agent.audit.auditor import Auditor
from uneven_sum.agent.probes import runtime
from uneven_sum.agent.reload.loader import Loader
from uneven_sum.agent.source.sites import Options

BODIES = {
    "scalar": (
        "def work():\n    total = 0.0\n    for k in range(200_000):\n        x = k * 0.5 + 1.0\n"
        "        if x > 3.0:\n            total = total + x / (k + 1.0)\n    return total\n",
        14,
    ),
    "small calls": (
        "def part(a, b):\n    return a * b + 1.0\ndef work():\n    total = 0.0\n    for k in range(100_000):\n"
        "        total += part(k, 0.5)\n    return total\n",
        10,
    ),
    "vectorised": (
        "def work():\n    a = np.linspace(0.0, 1.0, 1_000_000)\n    for k in range(8):\n"
        "        a = np.sqrt(a * a + 0.25) - a * 0.5\n    return a.sum()\n",
        3,
    ),
    "frames": (
        "left = pd.DataFrame({'g': np.arange(100_000) % 997, 'x': np.arange(100_000.0)})\n"
        "right = pd.DataFrame({'g': np.arange(997), 'y': np.arange(997.0)})\ndef work():\n    total = 0.0\n"
        "    for k in range(6):\n        m = left.merge(right, on='g')\n"
        "        total += float(m.groupby('g')['x'].mean().sum())\n    return total\n",
        2,
    ),
}


def seconds(work: Any) -> float:
    began = time.perf_counter()
    work()
    return time.perf_counter() - began


def main() -> int:
    bad = 0
    print("an audit, to the plain run")
    for name, (text, limit) in BODIES.items():
        plain: dict[str, Any] = {"np": np, "pd": pd}
        exec(compile(text, name, "exec"), plain)
        auditor = Auditor()
        runtime.PROBES.update(probes.of(auditor))
        loader = Loader(Options(checks=False, audit=auditor.wants()))
        audited: dict[str, Any] = {"np": np, "pd": pd, "__name__": "audited"}
        exec(loader.compile(f"{name}.py", text.encode()), audited)
        pairs = [(seconds(plain["work"]), seconds(audited["work"])) for _ in range(rounds(5))]
        ratio = min(b for _, b in pairs) / min(a for a, _ in pairs)
        over = ratio > limit
        bad += over
        print(f"  {name:<14}{ratio:>8.2f}{' !' if over else '  '}  at most {limit}")
    return bad


if __name__ == "__main__":
    sys.exit(main())
