"""Cost of the probes, as ratios to the plain run in the same process: `python benchmarks/probes.py`."""

from __future__ import annotations

import sys
import time
import warnings
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "src"))
sys.path.insert(0, str(Path(__file__).parent))

from loops import LIMITS, LOOPS
from rounds import rounds

from uneven_sum.agent.engine.engine import Engine
from uneven_sum.agent.probes import runtime
from uneven_sum.agent.reload.loader import Loader
from uneven_sum.agent.source import registry
from uneven_sum.agent.source.sites import Options

ROUNDS = rounds(15)


def compiled(name: str, options: Options | None):
    source = LOOPS[name]
    if options is None:
        return compile(source, name, "exec")
    return Loader(options).compile(f"{name}.py", source.encode(), f"/bench/{name}_{id(options)}.py")


def once(code) -> float:
    space = {"__name__": "bench"}
    if "def main" not in code_text(code):
        began = time.perf_counter()
        exec(code, space)
        return time.perf_counter() - began
    exec(code, space)
    began = time.perf_counter()
    space["main"]()
    return time.perf_counter() - began


def code_text(code) -> str:
    return "def main" if any(getattr(c, "co_name", "") == "main" for c in code.co_consts) else ""


class Silent:
    """A wire that nobody listens at."""

    def event(self, *args: object) -> None: ...
    def send(self, *args: object) -> None: ...


def main() -> int:
    engine = Engine(Silent())  # type: ignore[arg-type]
    engine.pauses_on = {"error", "warning", "nonfinite", "arrived"}
    engine.go_on = True
    runtime.listener = engine
    kinds = {
        "all tripwires": Options(),
        "passes only": Options(guards=False, checks=False),
        "nothing": Options(guards=True, checks=False, meters=False, marks=False),
    }
    print(f"CPython {sys.version.split()[0]}; ratios to the plain run, the best of {ROUNDS} rounds\n")
    print(f"{'loop':<12}{'plain ms':>10}" + "".join(f"{k:>16}" for k in kinds) + f"{'limits':>22}")
    bad = 0
    for name in LOOPS:
        codes = [compiled(name, None), *(compiled(name, o) for o in kinds.values())]
        best = [9e9] * len(codes)
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            for _ in range(ROUNDS):
                for k, code in enumerate(codes):
                    best[k] = min(best[k], once(code))
        ratios = [b / best[0] for b in best[1:]]
        limits = (LIMITS[name], 1.4, 1.1)
        over = [r > lim for r, lim in zip(ratios, limits)]
        bad += sum(over)
        shown = "".join(f"{r:>14.2f}{' !' if o else '  '}" for r, o in zip(ratios, over))
        print(f"{name:<12}{best[0] * 1e3:>10.1f}{shown}{' / '.join(map(str, limits)):>22}")
    registry.files.clear()
    return bad


if __name__ == "__main__":
    print("\nall within their limits" if main() == 0 else "\n! over its limit")
