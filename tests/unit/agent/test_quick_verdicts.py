"""What is judged at once, without a further look, is judged as it would be with one."""

from __future__ import annotations

import ast
import itertools
import random
import warnings
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from uneven_sum.agent.diagnosis import provenance
from uneven_sum.agent.engine.engine import Engine
from uneven_sum.agent.pause.facts import Pause
from uneven_sum.agent.probes import runtime
from uneven_sum.agent.reload.loader import Loader
from uneven_sum.agent.source import registry
from uneven_sum.agent.source.sites import Options
from uneven_sum.agent.values import nonfinite, quick_look

NAN, INF = float("nan"), float("inf")
FLOATS = st.sampled_from([0.0, 1.0, -2.5, 1e200, -1e300, 5e-324, NAN, INF, -INF])
KINDS = [np.float64, np.float32, np.float16, np.longdouble, np.complex64, np.complex128, np.int64, np.bool_, ">f8"]
numbers = itertools.count()


def arrays(values: list[float]) -> Any:
    return np.array(values)


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("shape", [(), (0,), (3,), (40,), (6, 7), (10_001,), (3, 7_000)])
@pytest.mark.parametrize("value", [1.0, 1e200, 1e30, 0.0, NAN, INF, -INF])
def test_arrays_of_each_kind_are_looked_at_without_a_warning(kind: Any, shape: tuple[int, ...], value: float) -> None:
    with np.errstate(all="ignore"), warnings.catch_warnings():
        warnings.simplefilter("ignore")
        made = np.ones(shape).astype(kind)
        if made.size:
            made.flat[made.size - 1] = value if np.dtype(kind).kind in "fc" else 1
    nonfinite.count(np.ones(1))
    with warnings.catch_warnings():
        warnings.simplefilter("error")
        for one in (made, made.T, made[::-1] if made.ndim else made, made[..., ::2] if made.ndim else made):
            assert nonfinite.any_bad(one) is not bool(np.isfinite(one).all())
            assert not quick_look.is_fine(one) or np.isfinite(one).all()


def operands_of(node: str, **names: Any) -> provenance.Operands:
    return provenance.Operands(ast.parse(node, mode="eval").body, names)  # type: ignore[arg-type]  # a mapping will do


@given(st.lists(st.tuples(FLOATS, FLOATS, FLOATS), min_size=1, max_size=6))
def test_what_operands_explain_at_once_they_explain(cells: list[tuple[float, float, float]]) -> None:
    value, a, b = (np.array(column) for column in zip(*cells, strict=True))
    for one, other in ((a, b), (a, float(b[0])), (float(a[0]), b), (a, b[0])):
        if quick_look.carries(value, (one, other)):
            assert nonfinite.any_bad(value)
            assert provenance.explained(value, operands_of("a * b", a=one, b=other))
    for number in (float(value[0]), value[0]):
        if not np.isfinite(number) and quick_look.carries_float(number, (float(a[0]), b[0])):
            assert provenance.explained(number, operands_of("a * b", a=float(a[0]), b=b[0]))


def test_what_is_explained_at_once() -> None:
    nonfinite.count(np.ones(1))
    gaps, whole = np.array([1.0, NAN, INF]), np.array([1.0, 2.0, 3.0])
    assert quick_look.carries(gaps * whole, (gaps, whole)) and quick_look.carries(gaps * whole, (whole, gaps))
    assert not quick_look.carries(gaps * whole, (whole,)) and not quick_look.carries(whole, (gaps,))
    assert not quick_look.carries(np.array([1.0, NAN, NAN]), (gaps,)), "inf - inf"
    assert not quick_look.carries(np.array([INF, NAN, INF]), (gaps,))
    assert quick_look.carries(np.array([NAN]), (NAN,)) and not quick_look.carries(np.array([NAN]), (INF,))
    assert not quick_look.carries(gaps, (gaps[:2],)) and not quick_look.carries(np.array(NAN), (np.array(NAN),))
    assert quick_look.carries_float(NAN, (1.0, NAN)) and not quick_look.carries_float(NAN, (INF, 1.0, 3))
    assert quick_look.carries_float(INF, (NAN,)) and quick_look.carries_float(INF, (np.float64(INF),))
    assert quick_look.carries_float(NAN, (gaps,)) and not quick_look.carries_float(NAN, (np.array([INF]),))


class Silent:
    """A wire that nobody listens at."""

    def event(self, *args: object) -> None: ...
    def send(self, *args: object) -> None: ...


def pauses_of(source: str, at_once: bool, monkeypatch: pytest.MonkeyPatch) -> tuple[list[Any], int]:
    """Each pause of a script that runs on after it; and how many values were judged at once."""
    engine, told, quickly = Engine(Silent()), [], []  # type: ignore[arg-type]  # it is never waited for
    engine.pauses_on = {"error", "warning", "nonfinite", "arrived"}
    engine.has_paused = True  # so that no total that is lost is looked for

    def pause(found: Pause, apart: object = None) -> str:
        assert found.statement is not None
        told.append((found.statement.line, found.kind, found.expression and ast.unparse(found.expression)))
        return ""

    carried = engine.carried

    def judged_at_once(*args: Any) -> bool:
        if at_once and carried(*args):
            quickly.append(args)
            return True
        return False

    monkeypatch.setattr(engine, "pause", pause)
    monkeypatch.setattr(engine, "carried", judged_at_once)
    monkeypatch.setattr(runtime, "listener", engine)
    loader = Loader(Options())
    try:
        code = loader.compile("random.py", source.encode(), f"/quick/{next(numbers)}.py")
        assert not loader.plain
        with warnings.catch_warnings(record=True):  # where they are ignored, bad cells are meant
            warnings.simplefilter("always")
            exec(code, {"__name__": "quick"})
    finally:
        registry.files.clear()
    return told, len(quickly)


def random_script(seed: int) -> str:
    """A loop over floats, arrays, elements and attributes, some of which are bad from a pass on."""
    made = random.Random(seed)
    floats = [
        "x",
        "y",
        "z",
        "box.level",
        "stage[k - 1]",
        "stage[0]",
        "stage[k * 2 % 5]",
        "rows[k % 2][1]",
        "grid[k % 3, 1]",
    ]
    fields = ["flow", "head", "scale", "grid[1]", "grid[:, 0]"]

    def number(depth: int = 2) -> str:
        if depth == 0 or made.random() < 0.3:
            return made.choice([*floats, "0.5", "2.0", "float(k)"])
        if made.random() < 0.15:
            return made.choice(["max({}, {})", "half({}, {})", "half({}, np.max(flow) + {})"]).format(
                number(0), number(0)
            )
        return f"({number(depth - 1)} {made.choice('+-*/')} {number(depth - 1)})"

    def field(depth: int = 2) -> str:
        if depth == 0 or made.random() < 0.3:
            return made.choice([*fields, *fields, "x"])
        if made.random() < 0.25:
            return made.choice(["np.sqrt({})", "np.exp(-{})", "np.abs({})", "twice({})"]).format(field(depth - 1))
        return f"({field(depth - 1)} {made.choice('+-*/')} {field(depth - 1)})"

    body = []
    for _ in range(made.randint(4, 8)):
        kind = made.random()
        if kind < 0.4:
            body.append(f"{made.choice('xyz')} {made.choice(['=', '=', '+=', '*='])} {number()}")
        elif kind < 0.5:
            places = ["stage[k]", "box.level", "rows[k % 2][1]", "grid[k % 3, 1]", "grid[0, k % 4]"]
            body.append(f"{made.choice(places)} = {number()}")
        elif kind < 0.56:
            changed = made.choice(["grid[2]", "grid[1:, 3]", "flow[1:]", "stage[k]", "rows[1][0]"])
            body.append(f"{changed} {made.choice('+-*/')}= {number() if changed[0] in 'sr' else field()}")
        elif kind < 0.85:
            body.append(f"{made.choice([*fields[:3], 'grid[2]', 'grid[1:, 3]'])} = {field()}")
        else:
            bad = made.choice(["np.nan", "np.inf", "1.0"])
            body.append(f"if k == {made.randint(0, 5)}: {made.choice(fields[:4])}[{made.randint(0, 3)}] = {bad}")
    text = "\n        ".join(
        f"try:\n            {line}\n        except (ArithmeticError, LookupError, TypeError, ValueError): pass"
        for line in body
    )
    return (
        "import numpy as np\nclass Box:\n    level = 0.5\nbox = Box()\nscale = np.array([0.0, 1.0, 2.0, 4.0])\n"
        "def half(a, b):\n    return a * 0.5 + b\ndef twice(a):\n    return a + a\n"
        f"def work(x, y, z):\n    stage = [0.0, {made.choice(['float(`nan`)', '1.0', 'float(`inf`)'])}] * 5\n"
        "    flow = np.array([1.0, 2.0, 3.0, 0.5])\n    head = flow - 1.0\n    scale = flow * 2.0\n"
        "    rows, grid = [[1.0, 2.0], [0.5, 4.0]], np.array([flow, head, scale])\n"
        f"    for k in range(1, 8):\n        {text}\nwork(1.0, 0.0, {made.choice(['float(`nan`)', '2.0'])})\n"
    ).replace("`", "'")


GAPS = """
import numpy as np
import pandas as pd
gauges = pd.DataFrame({"name": ["weir", "ford", "mill"]})
levels = pd.DataFrame({"name": ["weir", "ford"], "level": [1.0, 2.0]})
frame = gauges.merge(levels, how="left")
cells = np.array([1.0, np.nan])
def work(level, rain):
    for k in range(4):
        level = level * 0.5 + k
        rain = rain * 2.0
        if k == 2:
            total = ENTERS
    return level
work(float("nan"), cells)
"""


@pytest.mark.parametrize(
    "enters",
    ["frame.level * 2.0", "frame['level'] * level", "-frame.level + rain[0]", "np.sqrt(frame.level) + level"],
)
def test_a_gap_enters_arithmetic_where_other_values_are_bad_as_well(enters: str, monkeypatch: Any) -> None:
    source = GAPS.replace("ENTERS", enters)
    slowly, _ = pauses_of(source, False, monkeypatch)
    quickly, count = pauses_of(source, True, monkeypatch)
    assert quickly == slowly and [kind for _, kind, _ in slowly] == ["gaps"] and count >= 6


@pytest.mark.parametrize("seed", range(60))
def test_random_scripts_pause_where_they_did(seed: int, monkeypatch: pytest.MonkeyPatch) -> None:
    source = random_script(seed)
    slowly, none = pauses_of(source, False, monkeypatch)
    quickly, _ = pauses_of(source, True, monkeypatch)
    assert none == 0 and quickly == slowly, source


def test_carried_values_are_judged_at_once(monkeypatch: pytest.MonkeyPatch) -> None:
    judged = [pauses_of(random_script(seed), True, monkeypatch) for seed in range(20)]
    assert sum(count for _, count in judged) > 50 and sum(len(told) for told, _ in judged) > 5
