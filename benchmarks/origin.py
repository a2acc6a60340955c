"""Time to the first answer of an origin search: `python benchmarks/origin.py`.

Limit: two plain runs of the stretch and 0.5 s.  The interpreter that stands ready is started before; each search is
timed by itself.
"""

from __future__ import annotations

import asyncio
import subprocess
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "src"))

from rounds import rounds

from uneven_sum.client import Launch
from uneven_sum.client.origin.chain import Searches
from uneven_sum.protocol.origin import Place

SCRIPTS = {
    "scalar, 1e5 passes": (
        "def work(n):\n    x, y = 0.3, 0.0\n    for k in range(n):\n        x = 3.7 * x * (1.0 - x)\n"
        "        y = y * 0.99 + x\n    return y\nend = work(100_000)\n",
        ("work", "y", "y"),
        6,
    ),
    "cell, slices of 1e6": (
        "import numpy as np\ndef work(n):\n    a = np.zeros(1_000_000)\n    for k in range(n):\n"
        "        at = (k * 7919) % 900_000\n        a[at : at + 100_000] += 1.0\n    return a\nend = work(3_000)\n",
        ("work", "a", "a[123456]"),
        7,
    ),
    "cell, element by element": (
        "import numpy as np\ndef work(n):\n    a = np.zeros(n)\n    for k in range(n):\n        a[k] = k * 0.5\n"
        "    return a\nend = work(100_000)\n",
        ("work", "a", "a[4321]"),
        6,
    ),
}


def plain(path: Path) -> float:
    began = time.perf_counter()
    subprocess.run([sys.executable, str(path)], check=True)
    return time.perf_counter() - began


async def search(path: Path, place: tuple[str, str, str], line: int) -> float:
    """Seconds until the last write before the line `return` is known."""
    searches = Searches(Launch(str(path), cwd=str(path.parent)))
    await searches.start()
    try:
        began = time.perf_counter()
        calls = [[place[0], str(path), line, []], ["<module>", str(path), line + 1, []]]
        end = {"file": str(path), "chain": calls}
        step = await searches.step(Place(str(path), *place), end, False)
        assert step.line < line
        return time.perf_counter() - began
    finally:
        await searches.close()


def main() -> int:
    bad = 0
    print("origin: first answer, seconds")
    with tempfile.TemporaryDirectory() as name:
        for word, (text, place, line) in SCRIPTS.items():
            path = Path(name) / "script.py"
            path.write_text(text)
            alone = min(plain(path) for _ in range(rounds(3)))
            found = min(asyncio.run(search(path, place, line)) for _ in range(rounds(3)))
            limit = 2 * alone + 0.5
            bad += found > limit
            print(f"  {word:<26}{found:>6.2f}   plain {alone:.2f}   limit {limit:.2f}{' !' if found > limit else ''}")
    return bad


if __name__ == "__main__":
    main()
