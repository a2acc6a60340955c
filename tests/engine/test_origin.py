"""Where a value came from: the chain, as it was worked out by hand, and what is said where there is none."""

from __future__ import annotations

import asyncio

import pytest
from origin_cases import CASES

from uneven_sum.check.origin import Asked, as_text, origin
from uneven_sum.client import BadUse, Launch
from uneven_sum.client.origin.chain import Chain, Searches, follow
from uneven_sum.protocol.origin import Place

EVERYWHERE = ("scalar in a loop", "slices", "argument and return", "closure", "recursion", "made by a class", "frame")


async def chain_of(path: str, of: str, python: str | None = None, steps: int = 40, **where) -> Chain:
    return await origin(Launch(path, python=python, cwd=path.rpartition("/")[0]), Asked(of, **where), steps)


def steps_of(chain: Chain) -> list[tuple[int, int, str]]:
    return [(step.line, step.number, step.target) for step in chain.steps]


@pytest.mark.parametrize("name", CASES)
async def test_the_chain_is_the_one_worked_out_by_hand(name: str, script) -> None:
    text, of, wanted = CASES[name]
    chain = await chain_of(script(text), of)
    assert steps_of(chain) == wanted and chain.said and not chain.note


@pytest.mark.interpreters
@pytest.mark.parametrize("name", EVERYWHERE)
async def test_the_chain_is_the_same_in_each_interpreter(name: str, interpreter: str, script) -> None:
    text, of, wanted = CASES[name]
    assert steps_of(await chain_of(script(text), of, interpreter)) == wanted


LOOP = """
import numpy as np
stage = np.linspace(3.0, 1.0, 20)
flow = np.zeros(20)
total = 0.0
for day in range(20):
    head = stage[day] - 2.0
    flow[day] = head ** 0.5
    total += flow[day]
print(total)
"""


async def test_values_are_those_of_the_pass(script) -> None:
    chain = await chain_of(script(LOOP), "head", line=8, time=12, steps=1)
    (step,) = chain.steps
    assert (step.line, step.number, step.value.text[:5], step.before.text[:5]) == (7, 12, "-0.15", "-0.05")
    assert [(one.text, one.value) for one in step.operands] == [("stage[day]", "1.84211")]
    assert step.operands[0].place.text == "stage[11]"


async def test_at_a_trip_the_value_is_asked_for_before_the_statement(script) -> None:
    chain = await chain_of(script(LOOP), "flow[day]", pause=True)
    assert steps_of(chain) == [(4, 0, "flow[10]")] and chain.steps[0].value.text == "0.0"


async def test_later_passes_that_only_carry_nan_are_counted_not_followed(script) -> None:
    chain = await chain_of(script(LOOP), "total")
    assert [(s.line, s.number, s.later) for s in chain.steps] == [(9, 11, 9), (8, 11, 0)]
    assert chain.said == "nan is created at line 8, pass 11: no operand was nan or infinite."
    text = as_text(chain)
    assert "script.py:8, pass 11: flow[day] = head ** 0.5" in text and "9 later writes left it not finite" in text


FILES = """
import csv
import numpy as np
{more}
levels = np.loadtxt("levels.txt")
depth = levels[3, 1] - 1.0
rows = []
with open("gauge.csv", newline="") as f:
    for row in csv.DictReader(f):
        rows.append(float(row["flow"]))
flow = rows[2]
with open("gauge.csv") as f:
    lines = [line.split(",")[1] for line in f]
word = lines[1]
"""


@pytest.fixture
def gauges(script, tmp_path):
    (tmp_path / "levels.txt").write_text("# stage rain\n1 2\n3 4\n\n5 6\n7 8.25\n")
    (tmp_path / "gauge.csv").write_text("date,flow\n2031-01-01,1.5\n2031-01-02,\n2031-01-03,nan\n2031-01-04,4\n")
    return lambda more="": script(FILES.replace("{more}", more))


@pytest.mark.parametrize(
    ("of", "said"),
    [
        ("depth", "levels[3, 1] came from np.loadtxt at line 5: row 4 (line 6, field 2) of levels.txt."),
        ("word", "lines[1] came from line 2 of gauge.csv, read at line 13."),
    ],
)
async def test_a_value_from_a_file_has_its_line(of: str, said: str, gauges) -> None:
    path = gauges()
    text = FILES.replace("{more}", "").replace("        rows.append(float(row", "        rows.append(len(row")
    with open(path, "w") as f:
        f.write(text)
    assert (await chain_of(path, of)).said == said


async def test_a_row_of_a_reader_has_its_line(gauges, tmp_path) -> None:
    (tmp_path / "gauge.csv").write_text("date,flow\n2031-01-01,1.5\n2031-01-02,2\n2031-01-03,nan\n2031-01-04,4\n")
    chain = await chain_of(gauges(), "flow")
    assert chain.said == "row['flow'] came from line 4 of gauge.csv, read at line 9."
    assert [s.line for s in chain.steps] == [11, 10, 9] and chain.steps[-1].kind == "read"


async def test_a_cell_of_a_table_has_its_row_and_column(gauges) -> None:
    path = gauges("import pandas as pd\ntable = pd.read_csv('gauge.csv')\nlate = table[table['date'] > '2031-01-02']\n")
    chain = await chain_of(path, "late['flow'].iloc[0]", line=8)
    assert chain.said.endswith("came from pd.read_csv at line 5: row 3 (line 4, column flow) of gauge.csv.")


ACROSS = """
def area(level):
    return 3.0 * level
levels = [1.0, 2.0, 2.5]
offset = levels[1] - 2.6
levels[2] = offset * 100.0
total = 0.0
for k, level in enumerate(levels):
    total = total + area(level)
mean = total / 3
"""


async def test_a_finite_value_that_breaks_what_is_expected_is_followed_as_nan_is(script) -> None:
    path = script(ACROSS)
    chain = await origin(Launch(path), Asked("mean"), 40, expected="value >= 0")
    wanted = [(10, 0, "mean"), (9, 3, "total"), (3, 3, "area(level)"), (9, 3, "level"), (8, 3, "level")]
    assert steps_of(chain) == [*wanted, (6, 0, "levels[2]"), (5, 0, "offset")]
    assert chain.said == "-0.6 is created at line 5: it breaks value >= 0, and no operand did."
    assert "value > is no condition" in (await origin(Launch(path), Asked("mean"), 40, expected="value >")).said


ELEMENTS = """
import pandas as pd
rain = pd.DataFrame({"mm": [1.0, 2.0, 4.0]})
xs, ys = [1.0, 2.0, 3.0], [4.0, 5.0, 6.0]
for n, (x, y) in enumerate(zip(xs, ys)):
    a = y
for i, row in rain.iterrows():
    b = row["mm"]
for pair in {"one": 1.0, "two": 2.0}:
    c = pair
for p, q in [(1.0, 2.0), (3.0, 4.0)]:
    d = q
"""


@pytest.mark.parametrize(("of", "operand"), [("a", "ys[2]"), ("b", "rain.iloc[2]['mm']"), ("c", ""), ("d", "")])
async def test_the_element_of_a_pass_is_an_operand(of: str, operand: str, script) -> None:
    chain = await chain_of(script(ELEMENTS), of, steps=2)
    assert [one.text for one in chain.steps[1].operands] == ([operand] if operand else [])


async def test_where_a_value_is_used_next(script) -> None:
    text = "flow = [1.0, 2.0, 3.0]\nx = flow[1] * 2.0\nflow[0] = x\ny = flow[0]\nz = max(flow)\nflow = x\nw = flow\n"
    path = script(text)
    for of, lines in (("flow[1]", [2, 5]), ("flow[0]", [4, 5]), ("flow", [2, 4, 5])):
        chain = await origin(Launch(path), Asked(of, line=2), 9, forward=True)
        assert [step.line for step in chain.steps] == lines, of
    chain = await origin(Launch(script(LOOP)), Asked("head", line=8, time=3), 9, forward=True)
    assert [(s.line, s.number) for s in chain.steps] == [(8, 3)]


async def test_from_a_line_of_the_output(script) -> None:
    path = script(
        "for k in range(3):\n    v = k * 2.0\n    print('value', end=' ')\n    print(v)\nprint('end', end='')\n"
    )
    chain = await origin(Launch(path), Asked("", printed=3), 9)
    assert [(s.line, s.number, s.kind) for s in chain.steps][:2] == [(4, 3, "printed"), (2, 3, "write")]
    chain = await origin(Launch(path), Asked("", printed=4), 9)
    assert [s.line for s in chain.steps] == [5]
    with pytest.raises(BadUse, match="line 9 of the output"):
        await origin(Launch(path), Asked("", printed=9), 9)


# -- bad input -----------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("of", "said"),
    [
        ("1 +", "is no expression"),
        ("missing", "There is no name missing here"),
        ("total + 1", "worked out anew each time"),
        ("flow[stage]", "cannot be followed. Ask for one element"),
    ],
)
async def test_what_is_no_place_is_refused(of: str, said: str, script) -> None:
    with pytest.raises(BadUse, match=said.replace(".", r"\.")):
        await chain_of(script(LOOP), of)


async def test_a_line_that_does_not_run_is_said(script) -> None:
    with pytest.raises(BadUse, match="Line 8 did not run 50 times"):
        await chain_of(script(LOOP), "head", line=8, time=50)
    with pytest.raises(BadUse, match="Nothing tripped"):
        await chain_of(script("x = 1.0\n"), "x", pause=True)
    with pytest.raises(BadUse, match="ended with status 3, so its names are gone"):
        await chain_of(script("import sys\nx = 1.0\nsys.exit(3)\n"), "x")


async def test_what_is_alike_each_time_is_not_called_otherwise(script) -> None:
    text = (
        "import pathlib\nhere = pathlib.Path(__file__)\nnames = set('north south brook lake sill'.split())\nc = names\n"
    )
    path = script(text)
    for of in ("here", "names", "c"):
        chain = await chain_of(path, of)
        assert chain.steps and not chain.note and "uneven-sum-" not in as_text(chain)


async def test_a_script_that_runs_otherwise_each_time_is_said(script) -> None:
    chain = await chain_of(script("import time\nx = time.perf_counter_ns()\ny = x\n"), "y")
    assert "does not run alike each time" in chain.note


async def test_a_script_that_ends_its_own_process_gives_a_sentence(script) -> None:
    path = script("import os\nx = 1.0\nif os.environ.get('AGAIN'):\n    os._exit(3)\nfor k in range(3):\n    y = x\n")
    searches = Searches(Launch(path, env={"AGAIN": "1"}))
    await searches.start()
    try:
        chain = await follow(searches, Place(path, "", "x", "x"), {})
    finally:
        await searches.close()
    assert chain.said == "x: the script ended its own process before it came to this place."


async def test_a_search_can_be_cancelled_and_leaves_no_process(script) -> None:
    path = script("import time\nx = 1.0\nwhile True:\n    time.sleep(0.01)\n    y = x\n")
    searches = Searches(Launch(path))
    await searches.start()
    try:
        asked = asyncio.ensure_future(follow(searches, Place(path, "", "y", "y"), {}))
        while not asked.done():  # it may not have begun yet
            searches.cancel()
            await asyncio.wait([asked], timeout=0.3)
        assert "it was cancelled" in (await asked).said
    finally:
        await searches.close()


@pytest.mark.parametrize(
    ("text", "of", "wanted"),
    [
        ("x = y = 2.0\nz = x\n", "z", [(2, 0, "z"), (1, 0, "x")]),
        ("a, a = 1.0, 2.0\nb = a\n", "b", [(2, 0, "b"), (1, 0, "a")]),
        ("exec('k = 3.0')\nm = k\n", "m", [(2, 0, "m")]),
        ("try:\n    v = 1 / 0\nexcept ZeroDivisionError as e:\n    v = -1.0\nw = v\n", "w", [(5, 0, "w"), (4, 0, "v")]),
        ("for n in range(3):\n    pass\nlast = n\n", "last", [(3, 0, "last"), (1, 3, "n")]),
        ("if (n := 4) > 3:\n    pass\nlast = n\n", "last", [(3, 0, "last")]),
        ("def f(x, y=2.0):\n    return x * y\nz = f(3.0)\n", "z", [(3, 0, "z"), (2, 0, "f(3.0)")]),
        ("a = [1.0, 2.0]\na[0], a[1] = 5.0, 6.0\na[0], a[1] = a\n", "a[0]", [(3, 0, "a[0]"), (2, 0, "a[0]")]),
        ("a = [1.0]\nb = a\nb.append(4.0)\nc = len(a)\n", "a", [(3, 0, "a")]),
    ],
)
async def test_ways_to_write_a_name(text: str, of: str, wanted: list, script) -> None:
    assert steps_of(await chain_of(script(text), of)) == wanted


async def test_the_scripts_own_folder_and_output_stay_as_they_are(script, tmp_path, capfd) -> None:
    path = script("print('once')\nopen('out.txt', 'a').write('x')\nv = 2.0\nw = v\n")
    chain = await chain_of(path, "w")
    assert [s.line for s in chain.steps] == [4, 3] and not (tmp_path / "out.txt").exists()
    assert "once" not in capfd.readouterr().out
