"""Recorded loops: what is kept, against what the plain script prints; the thinning; the table."""

from __future__ import annotations

import asyncio
import csv
import itertools
import math
import subprocess
import sys

import pytest
from driving import running
from hypothesis import given, settings
from hypothesis import strategies as st
from recorded import all_runs, texts

from uneven_sum.agent.recording import retention
from uneven_sum.agent.recording.recorder import CHUNK, Recorder, Run
from uneven_sum.agent.recording.retention import FIRST, LAST, Kept
from uneven_sum.agent.values.snapshot import Cells
from uneven_sum.client import BadUse

LOOPS = {
    "a function's for": "def f():\n    t = 0.0\n    for k in range(7):\n        t += k / 3\n        SHOW\nf()\n",
    "a module's for": "t = 0.0\nfor k in [5, 3, 8]:\n    t = t * 2 + k\n    SHOW\n",
    "while": "def f():\n    k, t = 0, 1.0\n    while k < 9:\n        k += 1\n        t = t / k\n        SHOW\nf()\n",
    "a module's while": "k, t = 0, 1\nwhile k < 5:\n    k += 1\n    t *= k\n    SHOW\n",
    "break": "def f():\n    for k in range(99):\n        t = k * k\n        SHOW\n        if t > 30:\n            break\n    else:\n        print('never')\nf()\n",
    "continue": "def f():\n    t = 0\n    for k in range(6):\n        if k % 2:\n            SHOW\n            continue\n        t += k\n        SHOW\nf()\n",
    "else": "def f():\n    for k in (1, 2):\n        t = -k\n        SHOW\n    else:\n        t = 99\nf()\n",
    "return": "def f():\n    for k in range(9):\n        t = k + 0.5\n        SHOW\n        if k == 4:\n            return t\nf()\n",
    "an exception": "def f():\n    for k in range(3, -3, -1):\n        t = 5\n        SHOW\n        t = 1 / k\ntry:\n    f()\nexcept ZeroDivisionError:\n    pass\n",
    "a generator": "def g():\n    for k in range(4):\n        t = k ** 3\n        SHOW\n        yield t\nprint(sum(g()))\n",
    "over a generator": "def f():\n    for k in (n * n for n in range(5)):\n        t = str(k)\n        SHOW\nf()\n",
    "nested": "def f():\n    for o in range(3):\n        for k in range(o + 1):\n            t = o * 10 + k\n            SHOW\nf()\n",
    "recursion": "def f(n):\n    for k in range(n):\n        t = n * 100 + k\n        if n > 1 and k == 0:\n            f(n - 1)\n        SHOW\nf(3)\n",
    "tuples and walrus": "def f():\n    for k, (u, t) in enumerate([(1, 2), (3, 4)]):\n        if (w := u + t) > 3:\n            pass\n        SHOW\nf()\n",
    "a class": "class A:\n    for k in range(3):\n        t = k\n        SHOW\n",
    "a method": "class A:\n    def f(self):\n        for k in range(3):\n            t = k * 1j\n            SHOW\nA().f()\n",
    "a finally": "def f():\n    for k in range(3):\n        try:\n            t = k\n            if k == 1:\n                continue\n        finally:\n            t = k * 10\n            SHOW\nf()\n",
    "locals seen": "def f():\n    for k in range(3):\n        t = len([n for n in locals() if n in 'kt'])\n        SHOW\nf()\n",
}


def head(text: str) -> int:
    """The innermost loop that holds SHOW."""
    lines = text.split("\n")
    shown = next(n for n, line in enumerate(lines) if "SHOW" in line)
    found = [n for n in range(shown) if lines[n].lstrip().startswith(("for ", "while "))]
    return max(found, key=lambda n: len(lines[n]) - len(lines[n].lstrip())) + 1


def plainly(script, text: str, python: str) -> list[list[str]]:
    """The values at the end of each pass, as the plain script prints them."""
    path = script("import sys\n" + text.replace("SHOW", "sys.stderr.write(f'{k!r} {t!r}\\n')"), "plain.py")
    done = subprocess.run([python, path], capture_output=True, text=True, check=True)
    return [[part.strip("'") for part in line.split(" ", 1)] for line in done.stderr.splitlines()]


@pytest.mark.parametrize("name", LOOPS)
async def test_recorded_as_the_plain_script_prints(script, interpreter: str, name: str) -> None:
    text = LOOPS[name]
    wanted = plainly(script, text, interpreter)
    path = script(text.replace("SHOW", "pass"))
    loop = {"file": path, "line": head(text), "names": ["k", "t"]}
    async with running(path, python=interpreter, pause_on={"start"}, pause_at_end=True) as run:
        await run.client.end()
        run.__init__(type(run.client)(run.client.launch))
        await run.client.start(record=[loop])
        await run.pause()
        facts = await run.step("on")
        assert facts.reason == "end" and not run.trouble
        runs = await all_runs(run.client, path, loop["line"])
        found = [row for one in runs for row in texts(one)]
        if name == "an exception":  # the plain one shows each pass before its last line
            wanted = [[k, repr(1 / int(k)) if int(k) else "5"] for k, _ in wanted]
        if name == "recursion":
            assert sorted(found) == sorted(wanted) and runs[0].told.begun == len(runs)
        else:
            assert found == wanted
        assert all(one.numbers == list(range(1, one.rows + 1)) for one in runs)
        assert await run.step("on") is None


TANK = """\
class Tank:
    def __init__(self, level):
        self.level, self.through, self.log = level, 0.0, []
    def step(self, rain):
        self.level += rain
        self._drain()
    def _drain(self):
        self.through = 0.1 * self.level
        self.level -= self.through
    @property
    def volume(self):
        raise KeyboardInterrupt  # nobody asks
def advance(s, k):
    s["m"] = s["m"] * 0.5 + k
def main():
    tank, state, sill = Tank(2.0), {"m": 1.0}, 0.5
    for day in range(6):
        tank.step(0.3)
        advance(state, day)
    return tank.level
print(main())
"""


async def test_a_loop_that_advances_objects_records_what_they_change(script) -> None:
    path = script(TANK)
    async with running(path, pause_on={"start"}, pause_at_end=True) as run:
        await run.pause()
        await run.client.record([], watches=["tank.level - sill", "tank.volume", "tank.step(1)", "nothing.here"])
        (told,) = await run.client.record([{"file": path, "line": 17}])
        changed = ["tank.level", "tank.through", 'state["m"]']
        assert told.names == ["day", *changed, "tank.level - sill", "tank.volume"]
        await run.step("on")
        one = await run.client.passes(path, 17)
        column = {c.name: c.values for c in one.columns}
        level, levels = 2.0, []
        for _ in range(6):
            level = (level + 0.3) - 0.1 * (level + 0.3)
            levels.append(level)
        assert column["tank.level"] == levels and column["tank.level - sill"] == [v - 0.5 for v in levels]
        assert column['state["m"]'] == [0.5, 1.25, 2.625, 4.3125, 6.15625, 8.078125]
        assert one.told.unread == ["tank.volume"]
    assert not run.trouble and run.out.split()[-1] == repr(levels[-1])


DEFAULTS = """\
from collections import defaultdict
class Rows:
    def __getitem__(self, key):
        raise KeyboardInterrupt
def fill(totals, rows, k):
    if k > 2:
        totals["wet"] = k
        rows["wet"] = 1
def main():
    totals, rows = defaultdict(float), Counted()
    for k in range(5):
        fill(totals, rows, k)
        print(len(totals))
class Counted(Rows):
    def __setitem__(self, key, value):
        pass
main()
"""


async def test_what_is_read_changes_nothing(script) -> None:
    """No default is made in a dictionary, and no method of a class of the script's is called."""
    path = script(DEFAULTS)
    async with running(path, pause_on={"start"}, pause_at_end=True) as run:
        await run.pause()
        (told,) = await run.client.record([{"file": path, "line": 11}])
        assert told.names == ["k", 'totals["wet"]', 'rows["wet"]']
        await run.step("on")
        one = await run.client.passes(path, 11)
        assert one.told.unread == ['rows["wet"]']
        assert [one.columns[1].text(n) for n in range(5)] == ["", "", "", "3", "4"]
    assert run.out.split() == ["0", "0", "0", "1", "1"] and not run.trouble


def test_values_of_objects_as_a_table(script, tmp_path, interpreter: str) -> None:
    path = script(TANK)
    words = ["--python", interpreter, "--loop", "17", "--values", 'tank.level, state["m"] * 2, tank.height', path]
    done = command(*words, cwd=str(tmp_path))
    rows = list(csv.DictReader(done.stdout.splitlines()))
    assert [float(row['state["m"] * 2']) for row in rows] == [1.0, 2.5, 5.25, 8.625, 12.3125, 16.15625]
    assert len(rows) == 6 and "tank.height could be read in no pass." in done.stderr


CHANGING = """
import numpy as np
def f():
    held = np.zeros(12)
    for k in range(5):
        if k == 0:
            v = 1.5
        elif k == 1:
            v = held
        elif k == 2:
            v = "weir"
        elif k == 3:
            late = [1, 2]
            v = late
        held[0] = np.nan if k > 3 else k
        inner = held
f()
"""


async def test_values_that_change_their_kind(script) -> None:
    path = script(CHANGING)
    async with running(path, pause_on={"start"}, pause_at_end=True) as run:
        await run.pause()
        (told,) = await run.client.record([{"file": path, "line": 5}])
        assert (told.line, told.kind, told.head, told.message) == (5, "loop", "for k in range(5):", "")
        assert told.names == ["k", "v", "late", "inner", "held[0]", "branches"]
        await run.step("on")
        one = await run.client.passes(path, 5)
        column = {c.name: c for c in one.columns}
        assert [column["v.shape"].text(r) for r in range(5)] == ["1.5", "12", "weir", "2", "2"]
        assert [column["late[1]"].text(r) for r in range(5)] == ["", "", "", "2", "2"]
        assert column["inner.max"].values == [0.0, 1.0, 2.0, 3.0, 0.0], "an array as it was in its pass"
        assert [column["held[0]"].text(r) for r in range(5)] == ["0", "1", "2", "3", "nan"]
        assert column["inner.nonfinite"].values == [0, 0, 0, 0, 1] and column["inner.mean"].facts.first_bad == 5
        assert [column["branches"].text(r) for r in range(5)] == ["7", "9", "11", "13", ""]


@pytest.mark.parametrize(
    ("line", "names", "why"),
    [
        (4, [], "is not the head of a loop, comprehension or function; there is one at line 5"),
        (5, ["held"], "does not assign `held`"),
        (5, ["lat"], "Is `late` meant"),
        (5, ["hold[0]"], "Is `held.0.` meant"),
        (5, ["len(late)"], "does not assign"),
    ],
)
async def test_what_cannot_be_recorded(script, line: int, names: list[str], why: str) -> None:
    path = script(CHANGING)
    async with running(path, pause_on={"start"}) as run:
        await run.pause()
        with pytest.raises(BadUse, match=why):
            await run.client.record([{"file": path, "line": line, "names": names}])
        with pytest.raises(BadUse, match="is not recorded"):
            await run.client.passes(path, 5)


async def test_an_endless_loop_is_interrupted_and_read(script) -> None:
    path = script("def f():\n    n = 0\n    while True:\n        n += 1\nf()\n")
    async with running(path, pause_on={"start"}) as run:
        await run.pause()
        await run.client.record([{"file": path, "line": 3}])
        await run.client.go_on()
        for _ in range(60):
            await asyncio.sleep(0.6)
            await run.client.interrupt()
            facts = await run.pause()
            assert facts.headline.startswith("Interrupted at line") and facts.line in (2, 3, 4, 5), facts.headline
            if facts.loops and facts.loops[0].number > 2_000_000:
                break
            await run.client.go_on()
        one = await run.client.passes(path, 3)
        assert one.told.passes >= 2_000_000 and one.rows < 61_600
        assert "; kept: the first 500, the last 500, one in" in one.told.kept
        assert one.columns[0].values == one.numbers and one.numbers[-1] == one.told.passes


# -- the thinning ------------------------------------------------------------------------------------

TEXTS = st.text(max_size=60)  # longer ones are cut
VALUES = st.one_of(st.floats(allow_nan=True, allow_infinity=True), st.integers(-(10**20), 10**20), st.none(), TEXTS)


def put(run: Run, row: tuple) -> None:
    """As the end of a body does."""
    run.waiting.extend(row)
    if run.slow:
        run.settle()


def recorded(values: list, names: tuple[str, ...] = ("x",)) -> Run:
    run = Recorder("f", (1, 0), names).begin()
    for value in run.over(values):
        put(run, (value,))
    return run


@settings(max_examples=60, deadline=None)
@given(st.lists(VALUES, min_size=1, max_size=30), st.integers(1, 400))
def test_extremes_and_first_bad_ones_are_exact(values: list, times: int) -> None:
    values = values * times
    run = recorded(values)
    rows = dict(run.rows())
    (column,) = run.facts().columns
    assert run.passes == len(values) and all(
        row[0] is values[n - 1] or row[0] == values[n - 1] for n, row in rows.items()
    )
    numbers = [
        (float(v), n) for n, v in enumerate(values, 1) if isinstance(v, (int, float)) and not isinstance(v, bool)
    ]
    fine = [(v, n) for v, n in numbers if math.isfinite(v)]
    bad = [n for v, n in numbers if not math.isfinite(v)]
    if fine:
        low, high = min(v for v, _ in fine), max(v for v, _ in fine)
        assert (column.low, column.high) == (low, high)
        assert column.low_at == min(n for v, n in fine if v == low) and column.low_at in rows
        assert column.high_at == min(n for v, n in fine if v == high) and column.high_at in rows
    assert column.bad == len(bad) and column.first_bad == (bad[0] if bad else 0)
    assert not bad or bad[0] in rows


@settings(max_examples=25, deadline=None)
@given(st.integers(1, 400_000), st.sampled_from([1, 40, 500]))
def test_what_is_kept_is_even_and_bounded(passes: int, names: int) -> None:
    run = Recorder("f", (1, 0), tuple(f"n{n}" for n in range(names))).begin()
    row = (1.0,) * names
    passes = min(passes, 20_000) if names > 1 else passes
    for _ in run.over(range(passes)):
        put(run, row)
    numbers = [n for n, _ in run.rows()]
    assert numbers[0] == 1 and numbers[-1] == passes and run.passes == passes
    assert numbers[: min(FIRST, passes)] == list(range(1, min(FIRST, passes) + 1))
    assert numbers[-min(LAST, passes) :] == list(range(passes - min(LAST, passes) + 1, passes + 1))
    between = [n for n in numbers if FIRST + run.facts().stride < n <= passes - LAST and n not in run.facts().special]
    gaps = {b - a for a, b in itertools.pairwise(between)}
    assert gaps <= {run.facts().stride}, "thinned evenly"
    assert len(between) <= max(200, 60_000 // names) + CHUNK // names
    assert (run.facts().stride == 1) == (f"all {passes} passes" in run.sentence())


def test_iterables_are_taken_one_by_one_and_their_errors_come_through() -> None:
    taken: list[int] = []

    def endless():
        for n in range(3 * CHUNK):
            taken.append(n)
            yield n
        raise ValueError("the source is dry")

    run = Recorder("f", (1, 0), ("x",)).begin()
    over = run.over(endless())
    for n in range(3):
        assert next(over) == n == taken[-1]
    with pytest.raises(ValueError, match="dry"):
        for n in over:
            put(run, (n,))


def test_arrays_are_told_by_their_figures() -> None:
    np = pytest.importorskip("numpy")
    held = np.array([1.0, np.nan, *[3.0] * 10])
    run = Recorder("f", (1, 0), ("held", "n")).begin()
    for n in run.over(range(3)):
        held[0] = n
        put(run, (held, np.float32(0.1)))
    cells = [row[0] for _, row in run.rows()]
    assert cells == [Cells((12,), float(n), (n + 30) / 11, 3.0, 1) for n in range(3)]
    assert str(cells[0]) == "12 cells 0 … 3, mean 2.72727, 1 not finite" and run.facts().columns[0].first_bad == 1


async def test_small_vectors_have_a_column_for_each_element(script) -> None:
    text = "import numpy as np\nx = np.array([1.0, -2.0])\nfor k in range(4):\n    x = x * 2 if k < 3 else x * [1, np.inf]\n    pair = (k, k / 2)\n"
    path = script(text)
    async with running(path, pause_on={"start"}, pause_at_end=True) as run:
        await run.pause()
        await run.client.record([{"file": path, "line": 3}])
        await run.step("on")
        one = await run.client.passes(path, 3)
        assert [c.name for c in one.columns] == ["k", "x[0]", "x[1]", "pair[0]", "pair[1]"]
        column = {c.name: c for c in one.columns}
        assert column["x[0]"].values == [2.0, 4.0, 8.0, 8.0] and column["pair[1]"].values == [0.0, 0.5, 1.0, 1.5]
        assert column["x[1]"].facts.marks == "...!" and column["x[1]"].facts.first_bad == 4
        assert column["x[0]"].facts.first_bad == 0
        one = await run.client.passes(path, 3, filter="x.max > 3")
        assert one.numbers == [2, 3, 4]
        assert await run.client.course(one, "x[0]") == []


def test_nothing_of_it_warns_the_script(recwarn) -> None:
    np = pytest.importorskip("numpy")
    values = [np.float64("inf"), np.float64("-inf"), np.float32(3e38), np.float64("nan"), np.int64(2)] * CHUNK
    with np.errstate(all="raise"):
        run = recorded(values)
        assert len(run.rows()) > 1000
    (column,) = run.facts().columns
    assert not recwarn.list and (column.bad, column.first_bad, column.low) == (3 * CHUNK, 1, 2.0)


# -- the command -------------------------------------------------------------------------------------


def command(*args: str, cwd: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        [sys.executable, "-m", "uneven_sum", "passes", *args], capture_output=True, text=True, cwd=cwd
    )


def test_the_table_from_the_command_line(script, tmp_path) -> None:
    text = "import numpy as np\na = np.ones(12)\nfor k in range(4):\n    a = a * 2\n    t = 1 / (3 - k)\n    name = 'x,y'\n"
    script(text)
    done = command("--loop", "script.py:3", "--out", "passes.csv", "script.py", cwd=str(tmp_path))
    assert done.returncode == 3 and "ZeroDivisionError at line 5" in done.stderr
    rows = list(csv.DictReader((tmp_path / "passes.csv").open()))
    assert [r["a.max"] for r in rows] == ["2.0", "4.0", "8.0"] and rows[1]["a.nonfinite"] == "0"
    assert [r["t"] for r in rows] == ["0.3333333333333333", "0.5", "1.0"] and rows[0]["name"] == "x,y"
    done = command("--loop", "3", "--values", "k", "script.py", cwd=str(tmp_path))
    assert done.stdout.splitlines()[:2] == ["run,pass,k", "1,1,0"]
    script("for k in range(3):\n    t = k\nprint(t)\n")
    done = command("--loop", "1", "script.py", cwd=str(tmp_path))
    assert done.returncode == 0 and done.stdout == "run,pass,k,t\n1,1,0,0\n1,2,1,1\n1,3,2,2\n"
    assert done.stderr == "2\nThe loop at line 1 of script.py: all 3 passes are kept.\n"


@pytest.mark.parametrize(
    ("args", "why"),
    [
        (
            ["--loop", "2", "script.py"],
            "Line 2 of script.py is not the head of a loop, comprehension or function; there is",
        ),
        (["--loop", "x.py:1", "script.py"], "There is no file x.py."),
        (["--loop", "there", "script.py"], "--loop takes FILE:LINE"),
        (["--loop", "1", "--values", "tt", "script.py"], "does not assign `tt`. Is `t` meant?"),
        (["--loop", "1", "--out", "/nowhere/p.csv", "script.py"], "There is no folder /nowhere"),
        (["--loop", "1", "gone.py"], "There is no file gone.py"),
    ],
)
def test_bad_use_of_the_command(script, tmp_path, args: list[str], why: str) -> None:
    script("for k in range(3):\n    t = k\n")
    done = command(*args, cwd=str(tmp_path))
    assert done.returncode == 2 and why in done.stderr and "Traceback" not in done.stderr


class Tick(Exception):
    """What a signal's handler of the script's raises in the midst of ours."""


def interrupted(kept: Kept, cells: list[float], after: int) -> bool:
    """Adds the cells, with an exception at so many of its lines; False when it has fewer."""
    left = after

    def line(frame, event, _):
        nonlocal left
        if frame.f_code.co_filename != retention.__file__ or frame.f_code.co_name == "add":
            return line
        left -= event == "line"
        if left < 0:
            raise Tick
        return line

    before = sys.gettrace()
    sys.settrace(line)
    try:
        kept.add(cells)
    except Tick:
        return True
    finally:
        sys.settrace(before)
    return False


@pytest.mark.parametrize("odd", [1.0, math.nan, "dry", Cells((2,), 0.0, 1.0, 2.0, 1)])
def test_a_piece_that_is_interrupted_is_added_whole_or_not_at_all(odd: object) -> None:
    pieces = [[float(k * 7 % 11), odd if k % 50 == 3 else -float(k)] * 40 for k in range(60)]
    smooth, rough = Kept(2), Kept(2)
    smooth.room = rough.room = 400
    times = 0
    for cells in pieces:
        smooth.add(list(cells))
        after = times % 90
        while interrupted(rough, list(cells), after):
            after, times = after + 37, times + 1
            assert rough.passes == smooth.passes - 40
    assert times > 60 and smooth.stride > 1
    assert rough.rows() == smooth.rows()
    assert [c.places for c in rough.columns] == [c.places for c in smooth.columns]


def test_passes_that_cannot_be_kept_leave_the_others_their_numbers(monkeypatch: pytest.MonkeyPatch) -> None:
    recorder = Recorder("gauge.py", (1, 0), ("k",))
    run = recorder.begin()
    run.slow = False
    plain = Kept._figures

    def resists(kept: Kept, cells: list[object], before: int) -> bool:
        if cells == [2.0]:
            raise MemoryError
        return plain(kept, cells, before)

    monkeypatch.setattr(Kept, "_figures", resists)
    for k in (1.0, 2.0, 3.0):
        run.waiting.append(k)
        run.work_up()
    assert run.rows() == [(1, (1.0,)), (2, ("·missing",)), (3, (3.0,))]
    assert run.sentence() == "all 3 passes (1 could not be kept) are kept"


async def test_a_recorded_masked_value_gives_the_script_no_warning(script) -> None:
    text = "import numpy as np\na = np.ma.masked\nfor k in range(3):\n    c = a\n    d = np.ma.array([1.0, 5.0], mask=[1, 0])\nprint(k)\n"
    path = script(text)
    async with running(path, start={"always": {"branches": False}}) as run:
        assert await run.pause() is None
    assert run.err == ""
