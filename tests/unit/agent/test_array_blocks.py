"""Blocks of arithmetic on arrays: run plainly, statement by statement and at once, they come to the same."""

from __future__ import annotations

import copy
import itertools
import random
import warnings
from collections.abc import Callable
from typing import Any

import numpy as np
import pytest

from uneven_sum.agent.core.markers import MISSING
from uneven_sum.agent.engine.engine import Engine
from uneven_sum.agent.pause.facts import Pause
from uneven_sum.agent.probes import runtime
from uneven_sum.agent.reload.loader import Loader
from uneven_sum.agent.rewrite import blocks
from uneven_sum.agent.source import gates, registry
from uneven_sum.agent.source.sites import Options
from uneven_sum.agent.values import quick_look

NAMES = "abcd"
numbers = itertools.count()


class Silent:
    """A wire that nobody listens at."""

    def event(self, *args: object) -> None: ...
    def send(self, *args: object) -> None: ...


class Counted(np.ndarray):  # type: ignore[type-arg]  # of whatever shape
    """An array of the script's own, whose operations can be counted."""

    done = 0

    def __array_ufunc__(self, ufunc: Any, method: str, *inputs: Any, **named: Any) -> Any:
        Counted.done += 1
        out = named.pop("out", ())
        made = getattr(ufunc, method)(*map(np.asarray, inputs), out=tuple(map(np.asarray, out)) or None, **named)
        return out[0] if out else np.asarray(made).view(Counted)


def report(source: str, values: tuple[Any, ...], options: Options | None, monkeypatch: pytest.MonkeyPatch) -> Any:
    """What a script has seen or raised, the warnings that it showed, and its pauses."""
    engine = Engine(Silent())  # type: ignore[arg-type]  # it is never waited for
    engine.pauses_on = {"error", "warning", "nonfinite", "arrived", "carried"}
    shown: list[str] = []
    told: list[Any] = []

    def pause(found: Pause, apart: object = None) -> str:
        at = found.statement.line if found.statement is not None else 0
        actual = repr(copy.copy(found.actual)) if found.actual is not MISSING else ""  # a copy keeps no fill value
        told.append((at, found.kind, found.state, actual, list(found.warnings)))
        return ""

    def show(message: Any) -> None:
        shown.append(f"{message.lineno}: {message.category.__name__}: {message.message}")

    monkeypatch.setattr(engine, "pause", pause)
    monkeypatch.setattr(blocks, "LEAST_SAVED", -100)  # each run of statements has a fast form
    monkeypatch.setattr(engine, "_show", show, raising=False)
    monkeypatch.setattr(runtime, "listener", engine)
    Counted.done = 0
    space: dict[str, Any] = {"__name__": "arrays", "seen": [], "shown": shown}
    space |= {name: kept.copy() if isinstance(kept, np.ndarray) else kept for name, kept in zip(NAMES, values)}
    name = f"/arrays/{next(numbers)}.py"
    try:
        with warnings.catch_warnings():
            monkeypatch.setattr(warnings, "_showwarnmsg", show if options is None else engine._warned)
            if options is None:
                code: Any = compile(source, name, "exec", dont_inherit=True)
            else:
                loader = Loader(options)
                code = loader.compile("random.py", source.encode(), name)
                assert not loader.plain, loader.plain
            exec(code, space)
        result: Any = "ends"
    except Exception as e:
        result = type(e).__name__, str(e)
    finally:
        registry.files.clear()
        monkeypatch.undo()
        np.seterr(divide="warn", over="warn", under="ignore", invalid="warn")
        np.seterrcall(None)
    assert not [n for n in space if n.startswith("·")]
    return (result, repr(space["seen"])), shown, [*told, Counted.done]


def compared(source: str, values: tuple[Any, ...], monkeypatch: pytest.MonkeyPatch) -> None:
    plain = report(source, values, None, monkeypatch)
    precise = report(source, values, Options(blocks=False), monkeypatch)
    at_once = report(source, values, Options(), monkeypatch)
    assert plain[:2] == precise[:2] == at_once[:2], (source, values)
    assert precise[2] == at_once[2], (source, values)


def expression(r: random.Random, depth: int = 0) -> str:
    kind = r.random()
    if depth > 2 or kind < 0.3:
        return r.choice([*NAMES, *NAMES, *NAMES, *NAMES, "k", r.choice(["k", "box.x"])])
    if kind < 0.4:
        return r.choice(["0.5", "2", "1e200", "0.0", "3.0"])
    if kind < 0.5:
        call = r.choice(["np.sqrt({})", "np.exp({})", "abs({})", "np.log({})", "np.maximum({}, a)", "root({})"])
        return call.format(expression(r, depth + 1))
    if kind < 0.6:
        return r.choice(["(-{})", "({} ** 2)", "({} ** -1)", "({} > b)"]).format(expression(r, depth + 1))
    return f"({expression(r, depth + 1)} {r.choice('+-*/*+-+*-*')} {expression(r, depth + 1)})"


def statement(r: random.Random) -> str:
    target = r.choice([*NAMES, "t", "e"])
    ways = [f"{target} = {expression(r)}"] * 20
    ways += [f"{target} = {expression(r)}; {target} {r.choice(['+', '*', '-', '/', '//', '**'])}= {expression(r)}"]
    ways += [f"t += {expression(r)}", f"{r.choice(NAMES)} {r.choice('+*-')}= {expression(r)}"]
    ways += [f"box.x = {expression(r)}", f"a, b = b, {expression(r)}", f"e = {target} = {expression(r)}"]
    return r.choice(ways)


SEEN = "seen.append([repr(v) for v in (a, b, c, d, e, t, box.x)])"
BEGIN = "import numpy as np\nfrom numpy import sqrt as root\nclass Box:\n    x = 1.5\n"


def script(r: random.Random, settings: str) -> str:
    body = [statement(r) for _ in range(r.randint(2, 6))]
    if r.random() < 0.5:
        body.insert(r.randrange(len(body)), r.choice(["if k == 2: a = a * 0.0", "if k == 2: b = 1e308", "d = a"]))
    if r.random() < 0.3:
        state = r.choice(["all='ignore'", "all='raise'", "divide='call'", "over='ignore', invalid='raise'"])
        body.append(f"with np.errstate({state}): {statement(r)}; {statement(r)}; {statement(r)}")
        body.append(statement(r))
    lines = "".join(f"        {line}\n" for line in [*body, SEEN])
    start = f"    box, t, e = Box(), 0.0, 1.0\n    for k in range(1, 6):\n{lines}"
    if r.random() < 0.3:
        return f"{BEGIN}{settings}\n" + "\n".join(line.removeprefix("    ") for line in start.splitlines())
    return f"{BEGIN}{settings}\ndef work(a, b, c, d):\n{start}work(a, b, c, d)\n"


def values_for(r: random.Random) -> tuple[Any, ...]:
    """One for each name: in most scripts arrays of one shape and numbers, in the others anything."""
    if r.random() < 0.4:
        return tuple(value(r) for _ in NAMES)
    size = r.choice([3, 12])
    plain = [np.array([r.choice([0.5, 1.0, -2.5, 0.25, 3.0, 0.0]) for _ in range(size)]) for _ in NAMES]
    return tuple(r.choice([one, one, one, 1.5, 2, np.float64(0.75)]) for one in plain)


def value(r: random.Random) -> Any:
    shape: Any = r.choice([(3,), (3,), (3,), (12,), (1,), (0,), (2, 3), ()])
    made = np.array([r.choice([0.0, 1.0, -2.5, 0.25, 1e200, 3.0]) for _ in range(int(np.prod(shape)))]).reshape(shape)
    if made.size and r.random() < 0.15:
        made.flat[0] = r.choice([np.nan, np.inf, -np.inf])
    kinds: list[Callable[[], Any]] = [lambda: made] * 9
    kinds += [lambda: made.view(Counted), lambda: (made % 7).astype(int), lambda: np.ma.masked_less(made, 0.0)]
    kinds += [lambda: made.astype(np.float32), lambda: made.astype(object), lambda: made > 0]
    kinds += [lambda: np.float64(r.choice([0.0, 2.5])), lambda: r.choice([0.0, 1.5, 3, True]), lambda: 1e308]
    with np.errstate(all="ignore"):
        return r.choice(kinds)()


SETTINGS = [
    *[""] * 5,
    "import warnings; warnings.simplefilter('always')",
    "import warnings; warnings.simplefilter('error')",
    "import warnings; warnings.simplefilter('once')",
    "import warnings; warnings.simplefilter('module')",
    "import warnings; warnings.simplefilter('ignore')",
    "np.seterr(all='ignore')",
    "np.seterr(all='raise')",
    "np.seterrcall(lambda kind, flag: shown.append(kind)); np.seterr(all='call')",
]


@pytest.mark.parametrize("seed", range(40))
def test_random_arithmetic_comes_to_the_same(seed: int, monkeypatch: pytest.MonkeyPatch) -> None:
    r = random.Random(seed)
    for _ in range(10):
        source = script(r, r.choice(SETTINGS))
        compared(source, values_for(r), monkeypatch)


def run(source: str, monkeypatch: pytest.MonkeyPatch) -> tuple[list[Any], int]:
    """What a script has seen, and how many times a sum of squares told that an array is finite."""
    looks = itertools.count()
    quick_look.prepare(np)
    summed = quick_look.vdot

    def vdot(one: Any, other: Any) -> Any:
        next(looks)
        return summed(one, other)

    monkeypatch.setattr(runtime, "listener", runtime.Listener())
    runtime.check_result(np.ones(2), None, 0, ())  # it takes numpy's functions when it meets the first array
    monkeypatch.setattr(quick_look, "vdot", vdot)
    monkeypatch.setattr(runtime, "vdot", vdot)
    space: dict[str, Any] = {"__name__": "arrays", "seen": []}
    loader = Loader(Options())
    code = loader.compile("plain.py", source.encode(), f"/arrays/{next(numbers)}.py")
    assert not loader.plain, loader.plain
    exec(code, space)
    registry.files.clear()
    monkeypatch.undo()
    return space["seen"], next(looks)


ROUTED = """import numpy as np
def route(level, inflow, passes):
    time = 0.0
    for k in range(passes):
        time += 0.5
        head = level - 0.25
        outflow = 0.6 * np.sqrt(head) + 0.1 * head
        level = level + (inflow - outflow) * 0.01
    return level
seen.append(route(np.full(30, 2.0), np.full(30, 1.5), PASSES))
"""


def test_one_look_for_several_statements(monkeypatch: pytest.MonkeyPatch) -> None:
    _, few = run(ROUTED.replace("PASSES", "10"), monkeypatch)
    _, many = run(ROUTED.replace("PASSES", "110"), monkeypatch)
    assert many - few == 100


ALONE = """import numpy as np
def work(level, inflow):
    for k in range(6):
        a = level * 2.0
        b = a - inflow
        c = np.sqrt(b) + a
        a.resize(7)
        b.resize(8)
        c.resize(3)
    return c
seen.append(work(np.ones(40), np.ones(40)))
"""


@pytest.mark.parametrize("in_module", [False, True])
def test_no_array_is_held_that_the_script_let_go(in_module: bool, monkeypatch: pytest.MonkeyPatch) -> None:
    """`resize` refuses an array that something else refers to."""
    source = ALONE
    if in_module:
        source = source.replace("def work(level, inflow):", "level, inflow = np.ones(40), np.ones(40)\nif True:")
        source = source.replace("    return c\n", "").replace("work(np.ones(40), np.ones(40))", "c")
    seen, _ = run(source, monkeypatch)
    assert seen[0].tolist() == [3.0, 3.0, 3.0]


@pytest.mark.parametrize("value", ["np.ones(30)", "2.0"])
def test_a_file_that_a_name_held_is_closed_with_its_warning(
    value: str, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    source = (
        "import numpy as np, warnings\nwarnings.simplefilter('always')\ndef work(a, b, path):\n"
        "    for k in range(4):\n        c = open(path)\n        d = a * b\n        c = d + 1.0\n        d = c - a\n"
        f"    return d\nseen.append(work({value}, {value}, {__file__!r}) * 1.0)\n"
    )
    plain = report(source, (), None, monkeypatch)
    at_once = report(source, (), Options(), monkeypatch)
    assert len(plain[1]) == len(at_once[1]) == 4 and plain[0] == at_once[0]
    assert not capsys.readouterr().err, "no error within the closing of the file"


def test_what_works_in_place_stays_in_place(monkeypatch: pytest.MonkeyPatch) -> None:
    source = (
        "import numpy as np\ndef work(a, b):\n    same = a\n    for k in range(4):\n        c = a * 2.0\n"
        "        d = c + b\n        a += d\n        seen.append(same is a)\n    return same.sum()\n"
        "seen.append(work(np.ones(20), np.ones(20)))\n"
    )
    seen, _ = run(source, monkeypatch)
    assert seen[:4] == [True] * 4 and seen[4] == 20 * 121.0


def test_numpy_calls_the_scripts_function_once_for_an_error(monkeypatch: pytest.MonkeyPatch) -> None:
    """Also where the script sets that while its loop runs."""
    source = (
        "import numpy as np\ncalls = []\nnp.seterrcall(lambda kind, flag: calls.append(kind))\n"
        "def work(a, b):\n    t = 0.0\n    for k in range(6):\n        if k == 3: change()\n        c = a * 2.0\n"
        "        d = c - k\n        e = 1.0 / d\n    return e\n"
        "def change():\n    np.seterr(divide='call')\nnp.seterr(divide='ignore')\n"
        "work(np.array([2.0, 2.5, 9.0]), 1.0)\nseen.append(list(calls))\n"
    )
    plain = report(source, (), None, monkeypatch)
    assert plain[0][1].count("divide by zero") == 2
    assert report(source, (), Options(), monkeypatch)[0] == plain[0]


def test_the_random_scripts_reach_the_fast_form(monkeypatch: pytest.MonkeyPatch) -> None:
    passed = itertools.count()

    def all_finite(value: object) -> bool:
        fine = quick_look.all_finite(value)
        if fine:
            next(passed)
        return fine

    monkeypatch.setitem(runtime.PROBES, "all_finite", all_finite)
    r = random.Random(3)
    with pytest.MonkeyPatch.context() as own:
        for _ in range(60):
            report(script(r, ""), values_for(r), Options(), own)
    assert next(passed) > 100


def test_a_function_that_the_script_has_replaced_runs_once(monkeypatch: pytest.MonkeyPatch) -> None:
    source = (
        "import numpy as np\ncalls = []\nreal = np.sqrt\ndef mine(value):\n    calls.append(1)\n    return real(value)\n"
        "np.sqrt = FUNCTION\ndef work(a, b):\n    for k in range(4):\n        c = a * b\n        d = np.sqrt(c) * 0.0\n"
        "        e = d / d\n    return e\nwith np.errstate(all='ignore'):\n    work(np.ones(20), np.ones(20))\n"
        "np.sqrt = real\nseen.append(len(calls))\n"
    )
    assert run(source.replace("FUNCTION", "mine"), monkeypatch)[0] == [4]
    assert run(source.replace("FUNCTION", "np.frompyfunc(mine, 1, 1)"), monkeypatch)[0] == [80]


def test_many_results_that_are_not_finite_end_it(monkeypatch: pytest.MonkeyPatch) -> None:
    source = ROUTED.replace("np.full(30, 2.0)", "np.array([2.0] * 29 + [np.nan])").replace("PASSES", "400")
    first = len(gates.gates)
    run(source, monkeypatch)
    assert any(gate.off for gate in gates.gates[first:])
    assert max(gate.doubts for gate in gates.gates[first:]) <= gates.MOST_DOUBTS + gates.OF_ARRAYS


def test_numbers_are_not_arrays_of_the_scripts_own() -> None:
    np.ones(2) * 2.0
    quick_look.prepare(np)
    assert quick_look.are_arrays(np.ones(3), 2.0, 3, np.float64(1.0), np.ones((2, 3), dtype=int))
    for other in (np.ones(3).view(Counted), np.array([None]), np.ones(quick_look.AT_ONCE + 1), "text", [1.0], True):
        assert not quick_look.are_arrays(np.ones(3), other)
    for state, fits in (("ignore", True), ("raise", True), ("call", False), ("print", False), ("log", False)):
        with np.errstate(divide=state):  # type: ignore[arg-type]  # one of its words
            assert quick_look.are_arrays(1.0) is fits


def test_an_empty_result_tells_nothing() -> None:
    quick_look.prepare(np)
    for fine in (np.ones(3), np.ones((4, 5)), 2.0, 3, True, np.bool_(True), np.float64(2.0), np.ones(3) > 0):
        assert quick_look.all_finite(fine)
    for unclear in (np.ones(0), np.array([1.0, np.nan]), np.nan, np.float64(np.inf), 1j, np.ones((2, 0)), "text"):
        assert not quick_look.all_finite(unclear)
