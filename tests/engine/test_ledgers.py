"""Ledgers of every kind of pass, against what the plain script prints; branches, line counts, running loops."""

from __future__ import annotations

import io
import subprocess
import tracemalloc

import pytest
from driving import running
from recorded import all_runs, texts

from uneven_sum.agent.recording.recorder import Recorder
from uneven_sum.app.plotting.charts import line
from uneven_sum.app.plotting.number_format import Format
from uneven_sum.app.shell.theme import PALETTES
from uneven_sum.charts import write_plot
from uneven_sum.client import BadUse
from uneven_sum.client.ledger import write_csv

# A script whose SHOW prints what a pass must have recorded: the columns named in `names`.
KINDS = {
    "elements": ("q = [SHOW(a * b, a, b) for a in range(3) for b in (4, 5) if a != b - 4]\nprint(q)\n", 1, ["a", "b", "element"]),
    "a dict's elements": ("d = {k: SHOW(k / 3, k) for k in range(4)}\nprint(d)\n", 1, ["k", "element"]),
    "a generator's elements": (
        "def f(n):\n    g = (SHOW(k * n, k) for k in range(n))\n    h = (x + 1 for x in g)\n    return sum(h)\nprint(f(4), f(2))\n",
        2,
        ["k", "element"],
    ),
    "unpacked elements": ("print({SHOW(a - b, a, b) for a, (b, _) in zip((3, 4), ((1, 2), (5, 6)))})\n", 1, ["a", "b", "element"]),
    "calls": (
        "def rate(h, c=2.0):\n    if h < 0:\n        return SHOW(0.0, h, c)\n    return SHOW(c * h ** 1.5, h, c)\n"
        "print([rate(h) for h in (0.5, -1.0, 2.0)], rate(1.0, c=3.0))\n",
        1,
        ["h", "c", "returned"],
    ),
    "a method's calls": (
        "class Gauge:\n    def rate(self, h):\n        return SHOW(h + 1, h)\nprint(Gauge().rate(2), Gauge().rate(h=3.5))\n",
        2,
        ["h", "returned"],
    ),
    "recursive calls": (
        "def fac(n):\n    if n < 2:\n        return SHOW(1, n)\n    return SHOW(n * fac(n - 1), n)\nprint(fac(6))\n",
        1,
        ["n", "returned"],
    ),
    "a callback's calls": (
        "from functools import reduce\ndef step(total, x):\n    total = total + x\n    return SHOW(total, total - x, x)\n"
        "print(reduce(step, [1.0, 2.5, 4.0]))\n",
        2,
        ["total", "x", "returned"],
    ),
    "async calls": (
        "import asyncio\nasync def f(k):\n    await asyncio.sleep(0)\n    return SHOW(k * 2, k)\nasync def main():\n"
        "    print([await f(k) for k in range(3)])\nasyncio.run(main())\n",
        2,
        ["k", "returned"],
    ),
    "async for": (
        "import asyncio\nasync def g():\n    for k in range(4):\n        yield k * 1.5\nasync def main():\n    t = 0\n"
        "    async for k in g():\n        t += k\n        SHOW(t, k, t)\n    print(t)\nasyncio.run(main())\n",
        7,
        ["k", "t", "t"],
    ),
    "elements of an array": (
        "def f():\n    flow = [0.0] * 5\n    for day in range(5):\n        flow[day] = day / 4\n        flow[day] += 1\n"
        "        SHOW(flow[day], day)\n    return flow\nprint(f())\n",
        3,
        ["day", "flow[day]"],
    ),
    "an element of another index": (
        "flow = [1.0] * 6\nday = 0\nwhile day < 4:\n    flow[day + 1] = flow[day] * 2\n    SHOW(flow[day + 1], day + 1)\n    day += 1\n",
        3,
        ["day", "flow[day + 1]"],
    ),
    "attributes": (
        "class Lake:\n    level = 1.0\ndef f(lake):\n    for k in range(4):\n        lake.level = lake.level / 2 + k\n"
        "        lake.level -= 0.25\n        SHOW(lake.level, k)\nf(Lake())\n",
        4,
        ["k", "lake.level"],
    ),
    "locals seen": (
        "def f():\n    flow = {}\n    for k in range(3):\n        flow[k] = k * k\n        SHOW(flow[k], k)\n    return sorted(locals())\nprint(f())\n",
        3,
        ["k", "flow[k]"],
    ),
}  # fmt: skip
SHOW = "import sys\ndef SHOW(value, *names):\n    sys.stderr.write(' '.join(map(repr, (*names, value))) + '\\n')\n    return value\n"
QUIET = "def SHOW(value, *names):\n    return value\n"


@pytest.mark.parametrize("name", KINDS)
async def test_every_kind_of_pass_is_recorded_as_the_plain_script_prints(script, interpreter: str, name: str) -> None:
    text, line, names = KINDS[name]
    plain = subprocess.run([interpreter, script(SHOW + text, "plain.py")], capture_output=True, text=True, check=True)
    path = script(QUIET + text)
    at = line + QUIET.count("\n")
    async with running(path, python=interpreter, pause_on={"start"}, pause_at_end=True) as run:
        await run.pause()
        (told,) = await run.client.record([{"file": path, "line": at}])
        assert told.message == "", "nothing has run yet: all of it is recorded"
        facts = await run.step("on")
        assert facts.reason == "end" and not run.trouble
        runs = await all_runs(run.client, path, at)
        found = []
        for one in runs:
            columns = {c.name: c for c in one.columns}
            found += [" ".join(columns[n].text(row) for n in names) for row in range(one.rows)]
        assert found == plain.stderr.splitlines()
        if name == "recursive calls":
            columns = {c.name: c.values for c in runs[0].columns}
            assert columns["depth"] == columns["call"] == [6, 5, 4, 3, 2, 1]
        assert await run.step("on") is None and not run.err and run.out == plain.stdout


NESTED = """
def route(weirs, days):
    total = 0.0
    for weir in range(weirs):
        level = float(weir)
        for day in range(days + weir):
            level = level / 2 + day
            if level > 2.0:
                total += level
            elif level > 1.0:
                total -= 0.5
            else:
                continue
            try:
                total += 1 / (day - 1)
            except ZeroDivisionError:
                total += 100.0
    return total


for year in (1, 2):
    print(route(2, 3))
"""


async def test_nested_loops_relate_to_the_outer_pass_and_tell_their_branches(script) -> None:
    path = script(NESTED)
    async with running(path, pause_on={"start"}, pause_at_end=True) as run:
        await run.pause()
        found = await run.client.record([{"file": path, "line": 7, "around": True, "times": True}])
        assert [(o.line, o.kind) for o in found] == [(4, "loop"), (6, "loop")]
        await run.step("on")
        inner = await all_runs(run.client, path, 6)
        assert [(r.told.run, r.told.passes) for r in inner] == [(1, 3), (2, 4), (3, 3), (4, 4)]
        around = [[(a["line"], a["pass"]) for a in r.told.runs[r.told.run - 1].around] for r in inner]
        assert around == [[(4, 1), (21, 1)], [(4, 2), (21, 1)], [(4, 1), (21, 2)], [(4, 2), (21, 2)]]
        columns = {c.name: c for c in inner[1].columns}
        assert columns["level"].values == [0.5, 1.25, 2.625, 4.3125]
        branches = [columns["branches"].text(r) for r in range(4)]
        assert branches == ["13 else", "11, 17 except", "9", "9"]
        assert all(0 < s < 1 for s in columns["seconds"].values)
        outer = {c.name: c for c in (await run.client.passes(path, 4)).columns}
        assert [outer["branches"].text(r) for r in range(2)] == ["9, 13 else", "9, 11, 13 else, 17 except"]
        out = io.StringIO()
        assert write_csv(inner, out) == 14
        assert out.getvalue().splitlines()[0].startswith("run,outer pass,pass,day,level,total,branches")
        assert out.getvalue().splitlines()[4].startswith("2,2,1,0,0.5,")
        assert not run.trouble


async def test_the_runs_that_are_kept_are_bounded_and_keep_their_outer_pass(script) -> None:
    path = script(
        "def f(n):\n    for outer in range(n):\n        for k in range(9):\n            t = outer + k / 10\n    return t\nprint(f(3000))\n"
    )
    async with running(path, pause_on={"start"}, pause_at_end=True) as run:
        await run.pause()
        await run.client.record([{"file": path, "line": 4, "around": True}])
        await run.step("on")
        last = await run.client.passes(path, 3)
        assert last.told.begun == 3000 and len(last.told.runs) == 200
        assert last.told.runs[-1].around[0]["pass"] == 3000 and last.told.runs[99].around[0]["pass"] == 100
        assert last.columns[1].values == [2999 + k / 10 for k in range(9)]


# -- a loop that runs already ------------------------------------------------------------------------

LATE = {
    "a function's": "def f():\n    t = 0\n    for k in range(8):\n        t += k\n        u = [t]\n    return t\nprint(f())\n",
    "a module's": "t = 0\nu = 0\nfor k in range(8):\n    t += k\n    u = [t]\nprint(t)\n",
    "a while": "def f():\n    t = k = 0\n    while t < 20:\n        k += 1\n        t += k\n    return t\nprint(f())\n",
    "with continue": "def f():\n    t = 0\n    for k in range(8):\n        t += k\n        if k % 2:\n            continue\n        u = t\n    return t\nprint(f())\n",
    "left by return": "def f():\n    t = 0\n    for k in range(8):\n        t += k\n        if k == 6:\n            return t\nprint(f())\n",
    "left by an error": "def f():\n    t = 0\n    for k in range(8):\n        t += k\n        if k == 6:\n            raise ValueError\ntry:\n    f()\nexcept ValueError:\n    pass\n",
    "left by break": "def f():\n    t = 0\n    for k in range(8):\n        t += k\n        if k == 6:\n            break\n    else:\n        t = 99\n    return t\nprint(f())\n",
}


@pytest.mark.parametrize("name", LATE)
async def test_a_running_loop_is_recorded_from_its_present_pass_on(script, interpreter: str, name: str) -> None:
    path = script(LATE[name])
    async with running(path, python=interpreter, breakpoints={path: [4]}, pause_on=set(), pause_at_end=True) as run:
        await run.pause()
        for _ in range(3):
            await run.step("on")
        await run.client.set_breakpoints(path, [])
        (told,) = await run.client.record([{"file": path, "line": 3}])
        assert "is recorded from pass 4 on; it runs slower until it ends" in told.message
        facts = await run.step("on")
        assert facts.reason == "end" and not run.trouble
        one = await run.client.passes(path, 3)
        columns = {c.name: c.values for c in one.columns}
        k = columns["k"]
        assert one.numbers == list(range(4, 4 + len(k))) and one.told.base == 3
        if name == "a while":
            assert k == [4, 5, 6] and columns["t"] == [10, 15, 21]
        else:
            last = 8 if name in ("a function's", "a module's", "with continue") else 7
            assert k == list(range(3, last)) and columns["t"] == [sum(range(n + 1)) for n in range(3, last)]
        assert "from pass 4 on" in one.told.kept and await run.step("on") is None


async def test_every_loop_of_the_users_code(script) -> None:
    path = script("import helper\nfor k in range(3):\n    t = helper.total(k)\nprint(t)\n")
    script(
        "def total(n):\n    s = 0\n    for j in range(n):\n        s += j\n    while s < 2:\n        s += 1\n    return s\n",
        "helper.py",
    )
    async with running(path, pause_on={"start"}, pause_at_end=True) as run:
        await run.pause()
        await run.client.record([], always={})
        await run.step("on")
        found, always = await run.client.ledgers()
        assert always and [(o.line, o.begun) for o in found] == [(2, 1), (3, 3), (5, 3)]
        assert (await run.client.passes(path, 2)).columns[1].values == [2, 2, 2]
        assert await run.step("on") is None and run.out == "2\n" and not run.trouble


async def test_many_names_and_strange_values(script) -> None:
    names = "\n".join(f"        n{n} = k * {n}" for n in range(520))
    text = (
        "class Odd:\n    def __repr__(self): raise RuntimeError('no')\n    __len__ = __iter__ = None\n"
        f"def f():\n    for k in range(2000):\n{names}\n        odd = Odd()\n        big = 10 ** (k + 300)\n        text = 'x' * k * 1000\nf()\n"
    )
    path = script(text)
    async with running(path, pause_on={"start"}, pause_at_end=True) as run:
        await run.pause()
        (told,) = await run.client.record([{"file": path, "line": 5}])
        assert len(told.names) == 500
        (told,) = await run.client.record([{"file": path, "line": 5, "names": ["n1", "odd", "big", "text"]}])
        await run.step("on")
        one = await run.client.passes(path, 5)
        columns = {c.name: c for c in one.columns}
        assert columns["odd"].text(7) == "Odd" and columns["n1"].text(7) == "7"
        assert columns["big"].text(0) == repr(10**300) and columns["text"].text(1) == "str of 1000"
        assert columns["big"].text(1900).startswith("int of ") and not run.trouble


# -- branches and counts -----------------------------------------------------------------------------

BRANCHES = """
import math


def rate(level, kind):
    if level < 0:
        return 0.0
    elif level > 100:
        level = 100
        level += 1
    else:
        level = level * 2
    for k in range(int(level)):
        if k > 3:
            break
    else:
        level = -1
    for nothing in ():
        level = 5
    try:
        level = level / 1
    except ZeroDivisionError:
        level = 7
    match kind:
        case "weir":
            level = 3
        case "gate":
            level = 4
    if kind:
        return level
    return 9


def unused():
    return 1


while math.pi < 3:
    x = 1
print(rate(3, "weir"), rate(5, "weir"))
if math.e > 2:
    y = 2
"""


async def test_branches_that_never_ran_while_their_surroundings_did(script, interpreter: str) -> None:
    path = script(BRANCHES)
    async with running(path, python=interpreter, pause_on=set(), pause_at_end=True) as run:
        assert (await run.pause()).reason == "end"
        notes = {n.line: n.text for n in await run.client.notes(0)}
        never = sorted(line for line, text in notes.items() if text == "never ran")
        assert never == [7, 9, 10, 17, 19, 23, 28, 31, 39]
        assert {line for line, text in notes.items() if text == "never called"} == {34}


async def test_never_ran_is_said_only_once_the_decision_was_made(script) -> None:
    path = script(
        "def f(n):\n    for k in range(n):\n        t = 1 / (k - 3)\n        if t > 5:\n            t = 5\n    return t\nf(9)\n"
    )
    async with running(path) as run:
        assert (await run.pause()).line == 3
        assert {n.line for n in await run.client.notes(0) if n.text == "never ran"} == {5}
    path = script(
        "def f(n):\n    for k in range(n):\n        t = 1 / k\n        if t > 5:\n            t = 5\n    return t\nf(9)\n"
    )
    async with running(path) as run:
        await run.pause()
        assert not [n for n in await run.client.notes(0) if n.text == "never ran"], "nothing was decided yet"


async def test_lines_are_counted(script, interpreter: str) -> None:
    text = (
        "def f(n):\n    t = 0\n    for k in range(n):\n        if k % 3:\n            t += 1\n            continue\n        t -= 1\n"
        "    return t\nx = [f(4) for _ in range(5)]\ntry:\n    y = 1 / 0\n    z = 2\nexcept ZeroDivisionError:\n    y = 0\n"
    )
    path = script(text)
    async with running(path, python=interpreter, pause_on={"start"}, pause_at_end=True) as run:
        await run.pause()
        on, _ = await run.client.counts(True)
        assert on
        await run.step("on")
        _, counts = await run.client.counts()
        assert counts[path] == {1: 1, 2: 5, 3: 5, 4: 20, 5: 10, 6: 10, 7: 10, 8: 5, 9: 1, 10: 1, 11: 1, 12: 0, 14: 1}
        notes = {n.line: n for n in await run.client.notes(0)}
        assert notes[5].count == 10 and notes[12].count == 0 and not run.trouble
        await run.client.counts(False)
        assert all(n.count is None for n in await run.client.notes(0))


async def counted_to_the_end(path: str) -> dict[int, int]:
    async with running(path, pause_on={"start"}, pause_at_end=True) as run:
        await run.pause()
        await run.client.counts(True)
        await run.step("on")
        _, counts = await run.client.counts()
        return counts[path]


async def test_lines_are_counted_where_an_if_stands_alone_in_an_else_and_where_an_else_breaks(script) -> None:
    text = (
        "def f(n):\n    t = 0\n    for k in range(n):\n        if k == 0:\n            t = 1\n        else:\n"
        "            if k > 1:\n                t += 1\n        for j in range(2):\n            t += j\n        else:\n"
        "            if k == 3:\n                break\n        t += 1\n    return t\nf(9)\n"
    )
    counted = await counted_to_the_end(script(text))
    assert {line: counted.get(line) for line in (4, 5, 7, 8, 9, 10, 12, 13, 14, 15)} == {
        4: 4,
        5: 1,
        7: 3,
        8: 2,
        9: 4,
        10: 8,
        12: 4,
        13: 1,
        14: 3,
        15: 1,
    }


async def test_lines_after_a_try_or_a_class_that_raised_are_not_counted(script) -> None:
    text = (
        "def f(k):\n    try:\n        t = 1 / k\n    except ZeroDivisionError:\n        t = 1 % k\n    t += 1\n    class Gauge:\n"
        "        zero = 1 / (k - 2)\n    return t\nfor k in range(4):\n    try:\n        f(k)\n    except ZeroDivisionError:\n        pass\n"
    )
    counted = await counted_to_the_end(script(text))
    assert {line: counted.get(line) for line in (2, 3, 5, 6, 7, 9, 12, 14)} == {
        2: 4,
        3: 4,
        5: 1,
        6: 3,
        7: 3,
        9: 2,
        12: 4,
        14: 2,
    }


async def test_recent_passes_beside_a_pause(script) -> None:
    path = script("def f():\n    for k in range(9):\n        t = k * 2.0\n        u = 1 / (6 - k)\n    return u\nf()\n")
    async with running(path, pause_on={"start", "error"}) as run:
        await run.pause()
        assert (await run.client.recent()).line == 0
        await run.client.record([{"file": path, "line": 2}])
        facts = await run.step("on")
        assert facts.line == 4
        recent = await run.client.recent(count=3)
        assert recent.line == 2 and recent.numbers == [4, 5, 6]
        values = {v.name: (v.texts, v.now) for v in recent.values}
        assert values["t"] == (["6.0", "8.0", "10.0"], "12.0") and values["k"] == (["3", "4", "5"], "6")
        notes = {n.line: n for n in await run.client.notes(0)}
        assert notes[3].spark and notes[3].text == "t 12.0" and notes[2].text == "pass 7 of 9"


async def test_a_generator_that_is_looped_over_is_not_consumed_for_its_length(script) -> None:
    path = script(
        "taken = []\ndef g():\n    for n in range(4):\n        taken.append(n)\n        yield n\n\nfor k in g():\n    t = k\n"
    )
    async with running(path, breakpoints={path: [8]}) as run:
        facts = await run.pause()
        assert await run.ask("len(taken)") == "1" and facts.loops[0].of is None
        assert {n.line: n.text for n in await run.client.notes(0)}[7] == "pass 1"


async def test_filters_and_runs_are_asked_for(script) -> None:
    path = script(
        "def f(n):\n    for k in range(n):\n        if k:\n            t = 1.0 / k\n        u = 'deep' if k > 4 else 2\nf(3)\nf(7)\n"
    )
    async with running(path, pause_on={"start"}, pause_at_end=True) as run:
        await run.pause()
        await run.client.record([{"file": path, "line": 2}])
        await run.step("on")
        one = await run.client.passes(path, 2, filter="t < 0.3")
        assert one.numbers == [5, 6, 7] and (one.told.filter.of, one.told.filter.failed) == (7, 1)
        assert one.told.filter.why == "in pass 1: t is not assigned"
        assert (await run.client.passes(path, 2, run=1)).rows == 3
        for bad, why in (({"filter": "t <"}, "is not an expression"), ({"run": 3}, "There is no run 3: 2 are kept")):
            with pytest.raises(BadUse, match=why):
                await run.client.passes(path, 2, **bad)
        assert texts(await run.client.passes(path, 2, filter="u == 'deep'"), "u") == [["deep"], ["deep"]]


async def test_files_of_a_ledger(script, tmp_path) -> None:
    parquet = pytest.importorskip("pyarrow.parquet")
    text = (
        "import math\nimport numpy as np\nimport pyarrow\ndef f():\n    a = np.arange(12.0)\n    for k in range(6):\n"
        "        a = a / (k - 3) if k != 4 else a * np.nan\n        t = math.inf if k == 2 else k / 3\n        u = 'dry' if k else None\n"
        "    return a\nwith np.errstate(all='ignore'):\n    f()\n"
    )
    path = script(text)
    async with running(path, pause_on={"start"}, pause_at_end=True) as run:
        await run.pause()
        await run.client.record([{"file": path, "line": 6, "names": ["k", "a", "t", "u"]}])
        await run.step("on")
        told = await run.client.export_passes(path, 6, str(tmp_path / "passes.parquet"))
        table = parquet.read_table(tmp_path / "passes.parquet").to_pydict()
        assert told["rows"] == 6 and table["pass"] == [1, 2, 3, 4, 5, 6] and table["k"] == [0, 1, 2, 3, 4, 5]
        assert table["t"][:3] == [0.0, 1 / 3, float("inf")] and table["u"] == [None] + ["dry"] * 5
        assert table["a.nonfinite"] == [0, 0, 0, 12, 12, 12] and table["a.max"][0] == 0.0
        with pytest.raises(BadUse, match="could not be written"):
            await run.client.export_passes(path, 6, "/nowhere/p.parquet")
        # Bad passes are marked: of an array by the sign of its mean, in a plot below the line.
        one = await run.client.passes(path, 6)
        columns = {c.name: c for c in one.columns}
        assert columns["a.mean"].facts.marks == "...!!!" and columns["a.mean"].facts.first_bad == 4
        assert columns["t"].facts.marks == "..!..." and columns["t"].facts.high == 6
        data = one.plot(["t", "a.mean"], "value", 100)
        assert [s["marks"] for s in data["series"]] == ["...nnn", "..+..."] and data["x"] == "pass"
        ratio = one.series(columns["k"], "ratio")
        assert ratio[2:] == [2.0, 1.5, 4 / 3, 1.25] and ratio[1] == float("inf")
        write_plot("line", {**data, "at": 5}, str(tmp_path / "t.pdf"), "t by pass")
        assert (tmp_path / "t.pdf").read_bytes().startswith(b"%PDF")
        drawn = line(data, 60, 16, PALETTES["slate"], Format())
        assert "^" in "".join(s.text for strip in drawn.canvas.strips("#000000", "#ffffff") for s in strip)
        assert await run.step("on") is None and not run.trouble


@pytest.mark.parametrize("kind", ["many names", "arrays", "many runs", "texts"])
def test_memory_is_bounded(kind: str) -> None:
    np = pytest.importorskip("numpy")
    names = {"many names": 500, "arrays": 12, "many runs": 4, "texts": 3}[kind]
    recorder = Recorder("f", (1, 0), tuple(f"n{n}" for n in range(names)))
    cells = np.arange(5.0)
    tracemalloc.start()
    try:
        for _ in range(220 if kind == "many runs" else 1):
            run = recorder.begin()
            for k in range({"many names": 2_000, "arrays": 8_000, "many runs": 2_000, "texts": 12_000}[kind]):
                if kind == "arrays":
                    row = [cells] * names
                elif kind == "texts":
                    row = [f"{k} " + "x" * 150] * names
                else:
                    row = [k * 1.5 + n for n in range(names)]
                run.put(row)
        _, peak = tracemalloc.get_traced_memory()
    finally:
        tracemalloc.stop()
    assert run.passes >= 2_000 and len(run.rows()) > 100
    assert peak < 64e6, f"{peak / 1e6:.1f} MB"
