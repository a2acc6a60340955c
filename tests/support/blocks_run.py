"""Runs texts plainly and under watch, and compares what comes of it; `python blocks_run.py SEED COUNT` runs random ones.

It needs the standard library alone, so that each interpreter can run it.
"""

from __future__ import annotations

import itertools
import math
import os
import random
import sys
import types
import warnings
from typing import Any

if __name__ == "__main__":
    sys.path.insert(0, os.path.join(os.path.dirname(os.path.abspath(__file__)), "..", "..", "src"))

from uneven_sum.agent.probes import runtime
from uneven_sum.agent.reload.loader import Loader
from uneven_sum.agent.source import registry
from uneven_sum.agent.source.sites import Options, Site

NAMES = "abcde"
ATTRIBUTES = ("box.x", "box.held", "twin.x", "twin.held", "pair.x", "pair.w", "slim.x", "slim.w")
PLACES = (*ATTRIBUTES, "box.y", "cells[1]", "cells[k]")
FUNCTIONS = ("abs({})", "math.sqrt({})", "math.exp({})", "max({}, 0.0)", "min({}, a)", "math.atan2({}, b)", "root({})")
BEGIN = "seen, box, cells, k = [], Box(), [1.0, 2.0, 3.0], 2; twin, pair, slim = box, Pair(), Slim()"
SEEN = "seen.append((a, b, c, d, e, box.x, box.held, pair.x, pair.w, slim.x, slim.w, *cells))"
IMPORTS = "import math; from math import sqrt as root"
SPECIAL = [0.0, -0.0, 5e-324, 1e-308, 1e308, -1e308, 1.0, -1.0, 0.5, math.inf, -math.inf, math.nan]
COMPLEX = [0j, 2.5 - 1j, complex(math.inf, 1.0), complex(0.0, math.nan), 1e200 + 1e200j]
numbers = itertools.count()


class Counting(float):
    """A float of the script's own: its operations are counted."""

    done = 0

    def __mul__(self, other: object) -> Any:
        Counting.done += 1
        return Counting(float.__mul__(self, other))  # type: ignore[operator]  # as given

    def __radd__(self, other: object) -> Any:
        Counting.done += 1
        return Counting(float.__radd__(self, other))  # type: ignore[operator]  # as given


class Box:
    """Something with an attribute, and with one that is computed."""

    def __init__(self) -> None:
        self.x: Any = 1.5
        self.held: Any = 0.5

    @property
    def y(self) -> Any:
        Counting.done += 1
        return self.held

    @y.setter
    def y(self, value: Any) -> None:
        Counting.done += 1
        self.held = value


class Pair:
    """Two attributes, one of them of the class."""

    x: Any = 0.25

    def __init__(self) -> None:
        self.w: Any = 3.0


class Slim:
    """Attributes in slots."""

    __slots__ = ("w", "x")

    def __init__(self) -> None:
        self.x: Any = 2
        self.w: Any = -1.5


class Heard(runtime.Listener):
    """Notes each trip with the names of its call as they are then."""

    def __init__(self) -> None:
        self.trips: list[Any] = []

    def nonfinite(self, value: object, site: Site, frame: types.FrameType, old: object) -> Any:
        self.trips.append(("not finite", site.statement[0], repr(value), names_of(frame)))
        return value

    def failed(self, site: Site, frame: types.FrameType, head: bool) -> str:
        if not head:
            self.trips.append(("failed", site.statement[0], names_of(frame)))
        return ""


def names_of(frame: types.FrameType) -> dict[str, str]:
    return {n: repr(v) for n, v in frame.f_locals.items() if n in NAMES}


def rewritten(name: str, source: str, options: Options) -> types.CodeType:
    loader = Loader(options)
    code = loader.compile(name, source.encode())
    assert not loader.plain
    return code


def ran(source: str, options: Options | None, values: tuple[Any, ...]) -> tuple[Any, list[Any]]:
    """What `work` of the source returns or raises and where, or what a module has seen; and the trips on the way."""
    kept, heard = runtime.listener, Heard()
    runtime.listener = heard
    name = f"/blocks/{next(numbers)}.py"
    space: dict[str, Any] = {**dict(zip(NAMES, values)), "Box": Box, "Pair": Pair, "Slim": Slim}
    Counting.done = 0
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # `~True`, comparisons of constants
            plain = compile(source, name, "exec", dont_inherit=True)
            code = plain if options is None else rewritten(name, source, options)
            exec(code, space)
            seen = space["work"](*values) if "work" in space else space["seen"]
        result: Any = ("returns", repr(seen), repr(space.get("__annotations__")))
    except Exception as e:
        result = (type(e).__name__, str(e), raised_at(e))
    finally:
        runtime.listener = kept
        registry.files.clear()
    assert not [n for n in space if n.startswith("·")]
    return (*result, Counting.done), heard.trips


def raised_at(error: BaseException) -> Any:
    """The place that a traceback shows."""
    traceback = error.__traceback__
    while traceback is not None and traceback.tb_next is not None:
        traceback = traceback.tb_next
    assert traceback is not None
    return list(traceback.tb_frame.f_code.co_positions())[traceback.tb_lasti // 2]


def compared(source: str, *values: Any) -> list[Any]:
    """Run a source plainly, with each statement checked, and by blocks; returns the trips."""
    plain, _ = ran(source, None, values)
    precise, trips = ran(source, Options(blocks=False), values)
    at_once, same = ran(source, Options(), values)
    assert plain == precise == at_once, (source, values, plain, precise, at_once)
    assert trips == same, (source, values, trips, same)
    return trips


def work(body: list[str], passes: int = 3, extra: str = SEEN) -> str:
    lines = [f"        {line}" for line in [*body, extra]]
    head = ["def work(a, b, c, d, e):", f"    {BEGIN}", f"    for i in range({passes}):"]
    return "\n".join([*head, *lines, "    return seen", IMPORTS, ""])


def at_module_level(body: list[str], passes: int = 3) -> str:
    return "\n".join(
        [f"{IMPORTS}; {BEGIN}", f"for i in range({passes}):", *(f"    {line}" for line in [*body, SEEN]), ""]
    )


# -- random arithmetic ---------------------------------------------------------------------------------


def value(r: random.Random) -> Any:
    more = [r.uniform(-10, 10), r.uniform(-10, 10), r.random() * 1e200, r.randint(-3, 3)]
    return r.choice([*SPECIAL, *more, 2**53 + 1, -(10**400), True, Counting(2.5), 1j, *COMPLEX])


def expression(r: random.Random, depth: int = 0) -> str:
    kind = r.random()
    if depth > 3 or kind < 0.25:
        return r.choice(NAMES)
    if kind < 0.35:
        return r.choice(ATTRIBUTES)
    if kind < 0.38:
        return r.choice(FUNCTIONS).format(expression(r, depth + 1))
    if kind < 0.5:
        return r.choice(["0", "1", "2", "0.0", "0.5", "1e200", "1e-200", "3.7", "10"])
    if kind < 0.92:
        sign = r.choice([*"+-*/*++-*", "//", "%", "<", ">="])
        return f"({expression(r, depth + 1)} {sign} {expression(r, depth + 1)})"
    if kind < 0.96:
        return f"(-{expression(r, depth + 1)})"
    return f"({expression(r, depth + 1)} ** {r.choice(['2', '3', '0.5', '-1', '0'])})"


def statement(r: random.Random) -> str:
    one, other, right = r.choice(NAMES), r.choice(NAMES), expression(r)
    ways = [*[f"{one} = {right}"] * 5, f"{one}: float = {right}"]
    ways += [
        f"{one} {r.choice('+-*/%')}= {right}",
        f"{one}, {other} = {right}, {expression(r)}",
        f"{one} = {other} = {right}",
    ]
    ways += [f"{r.choice(PLACES)} {r.choice('+-*/')}= {right}", f"{one} = {r.choice(PLACES)} * {right}"]
    ways += [f"{r.choice(ATTRIBUTES)} = {right}", f"i_of = i * {r.randint(-3, 3)} - 1; {one} = {right} + i_of // 2"]
    return r.choice(ways)


def compare_random(seed: int, count: int) -> int:
    """Compare so many random texts; returns the number of their trips."""
    r = random.Random(seed)
    trips = 0
    for _ in range(count):
        body = [statement(r) for _ in range(r.randint(1, 6))]
        trips += len(compared(r.choice([work, at_module_level])(body), *(value(r) for _ in NAMES)))
    return trips


if __name__ == "__main__":
    print(compare_random(int(sys.argv[1]), int(sys.argv[2])))
