"""What trips, where, and who is the culprit: one script for each way a number can go wrong."""

from __future__ import annotations

import time

import pytest
from driving import running
from trips_cases import CASES

from uneven_sum.client import BadUse
from uneven_sum.host.launch import Limits


@pytest.mark.parametrize("name", CASES)
async def test_trip(name: str, script) -> None:
    source, wanted = CASES[name]
    async with running(script(source), go_on=True) as run:
        await run.client.write_input(None)
        assert await run.pause() is None
    assert not run.trouble
    got = [
        (
            f.reason,
            f.kind,
            f.line,
            f.function,
            f.culprit.text if f.culprit else None,
            f.loops[0].number if f.loops else None,
        )
        for f in run.trips
    ]
    assert len(got) == len(wanted), got
    for mine, theirs in zip(got, wanted):
        assert mine[:4] == theirs[:4]
        assert theirs[4] is None or mine[4] == theirs[4]
        assert theirs[5] is None or mine[5] == theirs[5]


async def test_first_bad_cell_and_its_operands(script) -> None:
    path = script(
        "import numpy as np\na = np.arange(12.0).reshape(3, 4)\nb = np.array([1.0, 1.0, 0.0, 1.0])\nc = a / b\n"
    )
    async with running(path) as run:
        facts = await run.pause()
    assert facts.culprit.cell == [0, 2]
    assert [(o.text, o.value) for o in facts.culprit.operands] == [("a", "2.0"), ("b", "0.0")]
    assert facts.culprit.reason == "a division by zero"
    root = facts.terms[0]
    assert (root.text, root.shape, root.dtype, root.nonfinite, root.culprit) == ("a / b", [3, 4], "float64", 3, True)


@pytest.mark.parametrize(
    ("text", "part", "cell", "value", "reason"),
    [
        ("x = np.array([1.0, 500.0, 2.0])\nr = sc.airy(x)", "part 3 of 4", [1], "500.0", "has no value for"),
        ("x = np.array([1.0, 0.0])\ny = sc.gamma(x)", "", [1], "0.0", "a pole"),
    ],
)
async def test_the_cell_of_a_function_that_gives_several_arrays(
    text: str, part: str, cell: list[int], value: str, reason: str, script
) -> None:
    async with running(script(f"import numpy as np\nimport scipy.special as sc\n{text}\n")) as run:
        facts = await run.pause()
    found = facts.culprit
    assert (found.part, found.cell, [o.value for o in found.operands]) == (part, cell, [value])
    assert reason in found.reason and part in facts.headline


async def test_calls_are_evaluated_once_and_without_consequences(script) -> None:
    path = script(
        "import numpy as np\nseen = []\ndef look(x):\n    seen.append(x)\n    print('look', x)\n    return x\n"
        "y = look(np.float64(3.0)) / np.float64(0.0)\n"
    )
    async with running(path) as run:
        facts = await run.pause()
        assert [t.value for t in facts.terms if t.text == "look(np.float64(3.0))"] == ["3.0"]
        assert await run.ask("len(seen)") == "1"
    assert run.out == "look 3.0\n"


async def test_second_evaluation_that_differs_is_told(script) -> None:
    path = script(
        "import itertools\nimport numpy as np\nc = itertools.count(0)\ndef draw():\n    return float(next(c))\ny = np.log(draw())\n"
    )
    async with running(path) as run:
        facts = await run.pause()
        assert facts.terms[0].value == "-inf", "what the statement really gave"
        assert facts.differs == "a second evaluation gave 0.0"
        assert await run.ask("next(c)") == "1", "the trial must not have drawn"


async def test_warning_of_a_term_is_quoted_not_paused_at_twice(script) -> None:
    path = script("import numpy as np\nx = np.float64(0.0)\ny = np.log(x)\nz = 1\n")
    async with running(path) as run:
        facts = await run.pause()
        assert facts.reason == "nonfinite"
        assert facts.warnings == ["RuntimeWarning: divide by zero encountered in log"]
        assert await run.step("on") is None


async def test_handled_outside_of_the_guards_is_told_after_the_fact(script) -> None:
    path = script("f = lambda k: {'a': 1.0}[k]\nprint(sorted(['b'], key=f))\n")
    async with running(path) as run:
        facts = await run.pause()
        assert (facts.line, facts.function) == (1, "<lambda>")
        assert [c.function for c in facts.trail] == ["<module>", "<lambda>"]
        assert await run.ask("k") == "'b'"


ENDS = {
    "waits": ("time.sleep(60)", "there it took longer than 1 s"),
    "ends": ("os._exit(3)", "there the trial ended its own process; the script is unharmed"),
    "dies": ("os.abort()", "there the copy crashed: SIGABRT; the script is unharmed"),
}


@pytest.mark.parametrize("how", ENDS)
async def test_terms_before_a_call_that_does_not_end_are_kept(how: str, script) -> None:
    line, why = ENDS[how]
    path = script(
        f"import os, time\nme = os.getpid()\ndef far(x):\n    if os.getpid() != me:\n        {line}\n    return x\n"
        "def half(x):\n    return x / 2\nu = 3.0\ny = half(u) + half(2 * u) + far(u) * (1e308 * u) + half(1 / u)\n"
    )
    async with running(path, limits=Limits(trial=1)) as run:
        facts = await run.pause()
        assert "Evaluated again as far as far(u); there" in facts.trial and why in facts.trial, facts.trial
        values = {t.text: t.value for t in facts.terms}
        assert (values["half(u)"], values["half(2 * u)"], values["half(u) + half(2 * u)"]) == ("1.5", "3.0", "4.5")
        assert values["far(u)"] == values["half(1 / u)"] == "not evaluated: a call"
        assert facts.culprit.text == "1e308 * u"
        assert await run.step("on") is None


async def test_a_call_that_is_refused_in_a_copy_hides_no_trip(script, tmp_path) -> None:
    path = script(
        "import sys\ndef noted(x):\n    with open(sys.argv[1], 'a') as f:\n        f.write(f'{x}\\n')\n    return x\n"
        "def half(x):\n    return x / 2\ny = noted(1e308) * 1e10\nz = half(2.0) + noted(3.0) * (1e308 * half(7.0)) + half(5.0)\n"
    )
    log = tmp_path / "log.txt"
    async with running(path, str(log)) as run:
        facts = await run.pause()
        assert (facts.line, facts.kind, facts.culprit.text) == (8, "created", "noted(1e308) * 1e10")
        assert "a second evaluation raised ForbiddenInCopy: A copy of the script does not write files" in facts.differs
        await run.client.go_on()
        facts = await run.pause()
        assert (facts.line, facts.culprit.text) == (9, "1e308 * half(7.0)")
        values = {t.text: t.value for t in facts.terms}
        assert (values["half(2.0)"], values["half(5.0)"]) == ("1.0", "2.5"), "what is beside the refused call"
        assert values["noted(3.0)"] == "a second evaluation raised ForbiddenInCopy"
        assert await run.step("on") is None
    assert log.read_text() == "1e+308\n3.0\n", "written once each, by the script"


async def test_what_polars_would_do_in_threads_is_not_waited_for(script) -> None:
    path = script(
        "import polars as pl\nd = pl.DataFrame({'head': [1.0, -2.0]})\n"
        "q = d.with_columns(flow=pl.col('head').sqrt()).filter(pl.lit(True))\n"
    )
    async with running(path, limits=Limits(trial=60)) as run:
        began = time.monotonic()
        facts = await run.pause()
        assert time.monotonic() - began < 55, "the limit of a trial"
        notes = [t.value for t in facts.terms if t.text.startswith("d.with_columns")]
        assert notes[-1] == "not evaluated: the threads of polars do not exist in a copy"
        assert [t.value for t in facts.terms if t.text == "pl.col('head')"] == ['the expression col("head")']


async def test_a_trial_that_waits_for_threads_says_why(script) -> None:
    path = script("import sys, time, types\nsys.modules['polars'] = types.ModuleType('polars')\nx = 1\nbreakpoint()\n")
    async with running(path, limits=Limits(trial=3.0)) as run:
        await run.pause()
        with pytest.raises(BadUse, match=r"longer than 3 s: the threads of polars do not exist in a copy\. Start with"):
            await run.ask("time.sleep(9)")
        assert await run.ask("x + 1") == "2"


WHY = {
    "nearest key": ("d = {'level': 1, 'flow': 2}\nx = d['levle']\n", "the nearest of its 2 keys: level"),
    "nearest number": ("d = {1: 1, 2: 2, 30: 3}\nk = 4\nx = d[k]\n", "the nearest of its 3 keys: 2, 1, 30"),
    "index and length": ("a = [1, 2, 3]\nk = 2\nx = a[k + 1]\n", "index 3 of length 3: the last is 2"),
    "shapes": ("import numpy as np\na = np.ones(3)\nb = np.ones((2, 4))\nc = a + b\n", "shapes (3,) and (2, 4)"),
    "types": ("a = 'x'\nb = 3\nc = a + b\n", "types str and int"),
    "nan in a solver": (
        "import numpy as np\nx = np.ones((5, 2))\nx[2, 1] = np.nan\nc = np.linalg.svd(x)\n",
        "x holds 1 non-finite cell",
    ),
    "nan in each": (
        "import numpy as np\nx, y = np.full((3, 2), np.nan), np.array([1.0, np.nan, np.nan])\nc = np.linalg.lstsq(x, y)\n",
        "x holds 6 non-finite cells and y holds 2 non-finite cells",
    ),
    "lengths in a TypeError": (
        "import numpy as np\nx, y = np.arange(3), np.arange(5)\nc = np.polyfit(x, y, 1)\n",
        "shapes (3,) and (5,)",
    ),
    "lines of a warning": (
        "import warnings\nwarnings.warn('no level\\n  at the weir', RuntimeWarning)\n",
        "no level at the weir, at line 2",
    ),
    "lines of a message": ("raise ValueError('no level\\nat the weir')\n", "no level at the weir"),
    "a column": (
        "import pandas as pd\nf = pd.DataFrame({'depth': [1.0]})\nx = f['dept']\n",
        "its only column is depth",
    ),
    "an axis": (
        "import numpy as np\nm = np.zeros((9, 5))\nk = 7\nx = m[2, k]\n",
        "k = 7, index 7 of axis 1 of length 5: the last is 4.",
    ),
    "an index of floats": ("import numpy as np\nm, k = np.zeros(9), 4.0\nx = m[k]\n", "k = 4.0, the index is a float."),
    "no such axis": (
        "import numpy as np\nm = np.zeros((9, 5))\nx = m.sum(axis=2)\n",
        "the array's shape is (9, 5).",
    ),
    "shapes in a list": (
        "import numpy as np\na, b = np.zeros(3), np.zeros(4)\nx = np.stack([a, b])\n",
        "shapes (3,) and (4,).",
    ),
    "uneven rows": (
        "import numpy as np\nrows = [[1, 2], [3, 4], [5]]\nx = np.array(rows)\n",
        "row 1 has 2 elements, row 2 has 1 element.",
    ),
    "equal rows": (
        "import numpy as np\na = np.array([[1.0, 2.0, 0.5], [0.0, 1.0, 3.0], [1.0, 2.0, 0.5]])\nx = np.linalg.inv(a)\n",
        "rows 0 and 2 are equal.",
    ),
    "a column of zeros": (
        "import numpy as np\na = np.array([[1.0, 0.0], [2.0, 0.0]])\nx = np.linalg.solve(a, a)\n",
        "column 1 holds zeros only",
    ),
    "a row label": (
        "import pandas as pd\nf = pd.DataFrame({'depth': [1.0, 2.0]}, index=['weir', 'mill'])\nx = f.loc['wier']\n",
        "with f = 2 rows x 1 column: depth, the nearest of its 2 row labels: weir.",
    ),
    "a column of loc": (
        "import pandas as pd\nf = pd.DataFrame({'depth': [1.0], 'flow': [2.0]})\nk = 'deph'\nx = f.loc[0, k]\n",
        "the nearest of its 2 columns: depth.",
    ),
    "several columns": (
        "import pandas as pd\nf = pd.DataFrame({'depth': [1.0], 'flow': [2.0]})\nx = f[['flow', 'dept']]\n",
        "the nearest of its 2 columns: depth.",
    ),
    "a store": (
        "import numpy as np\nv, w = np.zeros(6), np.ones(4)\nv[:3] = w\n",
        "Culprit: v[:3] with v = 6 cells float64, [0.0 0.0 0.0 0.0 0.0 0.0], w = 4 cells float64, [1.0 1.0 1.0 1.0].",
    ),
    "an unpacking": ("row = [1, 2, 3]\na, b = row\n", "a, b with row = [1, 2, 3], which has 3 elements."),
    "an unpacking of a part": (
        "rows, k = [(1, 2), (3,)], 1\na, (b, c) = k, rows[k]\n",
        "(b, c) with rows[k] = (3,), which has 1 element.",
    ),
    "an unpacking by a loop": (
        "rows = [(1, 2.0), (3, 4.0), (5, 6.0, 'late')]\nfor k, flow in rows:\n    pass\n",
        "Pass 3 of the loop over k, flow. Culprit: k, flow with rows[2] = (5, 6.0, 'late'), which has 3 elements.",
    ),
    "an unpacking of a part by a loop": (
        "rows = {'upper': (1, 2), 'lower': (3,)}\nfor name, (a, b) in rows.items():\n    pass\n",
        "(a, b) with part 1 of element 1 of rows.items() = (3,), which has 1 element.",
    ),
    "an unpacking of texts": (
        "gauges = ['upper', 'lower']\nfor n, name in gauges:\n    pass\n",
        "n, name with gauges[0] = 'upper', a text of 5 characters.",
    ),
    "an unpacking of rows": (
        "import numpy as np\ntable = np.ones((4, 3))\nfor level, flow in table:\n    pass\n",
        "level, flow with table[0] = 3 cells float64, [1.0 1.0 1.0], which has 3 elements.",
    ),
    "an unpacking by a comprehension": (
        "rows = [(1, 2), (3,)]\ntotal = sum([a * b for a, b in rows])\n",
        "a, b with rows[1] = (3,), which has 1 element.",
    ),
    "an unpacking of keys": (
        "gauges = {'upper': 1.0, 'lower': 2.0}\nfor name, level in gauges:\n    pass\n",
        "name, level with key 0 of gauges = 'upper', since a loop over a dictionary gives its keys; gauges.items() gives",
    ),
    "an unpacking of columns": (
        "import pandas as pd\nf = pd.DataFrame({'depth': [1.0]})\nfor day, row in f:\n    pass\n",
        "day, row with column name 0 of f = 'depth', since a loop over a frame gives its column names; f.iterrows()",
    ),
    "an unpacking of what cannot be read again": (
        "def rows():\n    yield 1, 2\n    yield 3\nfor a, b in rows():\n    pass\n",
        "Pass 2 of the loop over a, b. Culprit: a, b with rows() = generator rows, at line 1.",
    ),
    "a store by a loop": (
        "v = [1, 2]\nfor k, v[k + 5] in enumerate([1, 2]):\n    pass\n",
        "v[k + 5] with v = [1, 2], k + 5 = 5, index 5 of length 2: the last is 1.",
    ),
    "time zones": (
        "import pandas as pd\na = pd.Series(pd.to_datetime(['2031-01-01']))\nb = pd.Timestamp('2031-01-01', tz='UTC')\n"
        "x = a > b\n",
        "the second has a time zone (UTC), the first has none.",
    ),
    "a file": (
        "import os\nos.chdir(os.path.dirname(__file__))\nopen('levels.csv', 'w').close()\nx = open('level.csv')\n",
        ": levels.csv.",
    ),
    "a folder": ("import pandas as pd\nx = pd.read_csv('gauges/level.csv')\n", "there is no folder gauges in "),
    "several labels": (
        "import pandas as pd\nf = pd.DataFrame({'depth': [1.0], 'flow': [2.0]})\nx = f.loc[:, ['flow', 'dept']]\n",
        "the nearest of its 2 columns: depth.",
    ),
    "labels that are dropped": (
        "import pandas as pd\nf = pd.DataFrame({'depth': [1.0], 'flow': [2.0]})\nx = f.drop(columns=['dept'])\n",
        "the nearest of its 2 columns: depth.",
    ),
    "a column as an attribute": (
        "import pandas as pd\nf = pd.DataFrame({'depth': [1.0], 'flow': [2.0]})\nx = f.dept\n",
        "the nearest of its 2 columns: depth.",
    ),
    "a column of polars": (
        "import polars as pl\nf = pl.DataFrame({'depth': [1.0], 'flow': [2.0]})\nx = f.select('dept')\n",
        "the nearest of its 2 columns: depth.",
    ),
    "a coordinate": (
        "import xarray as xr\nx = xr.DataArray([1.0, 2.0], dims=('day',), coords={'day': [3, 7]})\ny = x.sel(day=5)\n",
        "day has 2 values: 3 … 7.",
    ),
    "a dimension": (
        "import xarray as xr\nx = xr.DataArray([1.0, 2.0], dims=('day',), name='level')\ny = x['dya']\n",
        "its only name is day.",
    ),
    "a place in a row of a frame": (
        "import pandas as pd\nf = pd.DataFrame({'depth': [1.0, 2.0, 3.0], 'flow': [2.0, 3.0, 4.0]})\nk = 5\nx = f.iloc[0, k]\n",
        "k = 5, index 5 of length 2: the last is 1.",
    ),
    "a function of a module": (
        "import numpy as np\nx = np.arrange(5)\n",
        "Culprit: np.arrange(5), the nearest name: arange.",
    ),
    "a method": (
        "import numpy as np\nv = np.ones(2)\nx = [v.mena() for k in range(2)]\n",
        "v.mena() with v = 2 cells float64, [1.0 1.0], the nearest name: mean.",
    ),
    "an attribute of its own": (
        "class Gauge:\n    def __init__(self):\n        self.level = 3.0\ng = Gauge()\nx = g.levle\n",
        "g.levle with g = Gauge(level=3.0), the nearest name: level.",
    ),
    "a variable": ("level = 3.0\nx = levle + 1\n", "Culprit: levle, the nearest name: level."),
    "a name of a module": ("from numpy import lingalg\n", "The nearest name: linalg."),
    "a module": ("import numpi as np\n", "No module named 'numpi'. The nearest name: numpy."),
    "a module that is not there": ("import pytset_of_levels\n", "It is not installed for /"),
    "a frame by place": (
        "import pandas as pd\nf = pd.DataFrame({'depth': [1.0], 'flow': [2.0]})\nx = f[:, 1:]\n",
        "rows and columns by place are f.iloc[:, 1:], by label .loc[…].",
    ),
    "a module of a package": ("import numpy.linlag\n", "No module named 'numpy.linlag'. The nearest name: linalg."),
    "a keyword": (
        "def area(width, depth=1.0):\n    return width * depth\nx = area(2.0, dept=3.0)\n",
        "Culprit: area(2.0, dept=3.0), the nearest keyword: depth.",
    ),
    "a keyword of a class": (
        "class Gauge:\n    def __init__(self, level, rate=1.0):\n        pass\ng = Gauge(2.0, rat=3.0)\n",
        "Culprit: Gauge(2.0, rat=3.0), the nearest keyword: rate.",
    ),
    "a keyword of a library's": (
        "import pandas as pd\nf = pd.DataFrame({'depth': [1.0]})\nx = f.to_csv(None, indx=False)\n",
        "the nearest keyword: index.",
    ),
    "a column of a query": (
        "import pandas as pd\nf = pd.DataFrame({'depth': [1.0]})\nx = f.query('dept > 0')\n",
        "its only column is depth.",
    ),
    "a function of a member": (
        "import datetime\nd = datetime.now()\n",
        "Culprit: datetime.now(), datetime is the module: its datetime has now.",
    ),
    "a key as an attribute": (
        "gauge = {'level': 3.0}\nx = gauge.level\n",
        "a value of a dictionary is read as gauge['level'].",
    ),
    "a name that hides a function": (
        "sum = 3.0\nx = sum([1.0, 2.0])\n",
        "sum([1.0, 2.0]), sum is 3.0, which hides the built-in function.",
    ),
    "a name that is no function": ("level = 3.0\nx = level(2)\n", "Culprit: level(2), level is 3.0."),
    "a name that hides the module's": (
        "total = 0.0\ndef add(levels):\n    for v in levels:\n        total += v\n    return total\nadd([1.0])\n",
        "the function assigns total, so it is not the module's: declare it global, or pass it.",
    ),
    "& before comparisons": (
        "import pandas as pd\nf = pd.DataFrame({'depth': [1.0], 'flow': [2.0]})\nx = f[f['depth'] > 1 & f['flow'] < 2]\n",
        "& comes before comparisons: put each of those in parentheses.",
    ),
    "a chain of comparisons": (
        "import numpy as np\nv = np.array([1.0, 2.0])\nx = v[0 < v < 2]\n",
        "a chain of comparisons needs one truth value: join two comparisons by &.",
    ),
    "and between arrays": (
        "import numpy as np\nv = np.array([1.0, 2.0])\nx = v[v > 0 and v < 2]\n",
        "`and` needs one truth value: & joins cell by cell.",
    ),
    "not before an array": (
        "import numpy as np\nv = np.array([True, False])\nx = v[not v]\n",
        "`not` needs one truth value: ~ turns each cell.",
    ),
    "a bracket without a root": (
        "from scipy.optimize import brentq\nf = lambda head: head * head + 1\nx = brentq(f, 0.0, 3.0)\n",
        "the function is 1.0 at 0.0 and 10.0 at 3.0.",
    ),
    "a matrix that is not positive": (
        "import numpy as np\na = np.array([[1.0, 2.0], [2.0, 1.0]])\nx = np.linalg.cholesky(a)\n",
        "its smallest eigenvalue is -1.",
    ),
    "a matrix that is not symmetric": (
        "import numpy as np\na = np.array([[2.0, 1.0], [0.5, -2.0]])\nx = np.linalg.cholesky(a)\n",
        "it is not symmetric: [0, 1] is 1, [1, 0] is 0.5.",
    ),
    "equal shapes in a product": (
        "import numpy as np\na, b = np.ones((2, 3)), np.ones((2, 3))\nx = a @ b\n",
        "shapes (2, 3) and (2, 3).",
    ),
    "a group": (
        "import pandas as pd\nf = pd.DataFrame({'gauge': ['upper', 'lower'], 'flow': [1.0, 2.0]})\n"
        "x = f.groupby('gauge').get_group('uper')\n",
        "the nearest of its 2 groups: upper.",
    ),
    "a column that the other has": (
        "import pandas as pd\na, b = pd.DataFrame({'day': [1], 'flow': [2.0]}), pd.DataFrame({'date': [1], 'rain': [0.0]})\n"
        "x = a.merge(b, on='day')\n",
        "the second has no column 'day': the nearest of its 2 columns: date.",
    ),
    "what does not increase": (
        "from scipy.interpolate import CubicSpline\nx = CubicSpline([0.0, 2.0, 1.0], [1.0, 2.0, 3.0])\n",
        "it does not increase: 2.0 at [1], 1.0 at [2].",
    ),
    "a label that stands twice": (
        "import pandas as pd\nf = pd.Series([1.0, 2.0, 3.0], index=['a', 'b', 'a'])\nx = f.reindex(['a', 'c'])\n",
        "label 'a' stands at rows 0 and 2.",
    ),
    "weights": (
        "import numpy as np\nx = np.random.default_rng(1).choice([1, 2], p=[0.5, 0.6])\n",
        "they sum to 1.1.",
    ),
    "a line of a file": (
        "import pandas as pd\np = __file__ + '.csv'\nopen(p, 'w').write('a,b\\n1,2\\n3,4,5\\n')\nx = pd.read_csv(p)\n",
        "line 3 is `3,4,5`.",
    ),
    "bytes of another encoding": (
        "p = __file__ + '.txt'\nopen(p, 'wb').write('Wehr Fluß\\n'.encode('cp1252'))\nx = open(p).read()\n",
        "in the encoding cp1252 it reads `Wehr Fluß`.",
    ),
    "a number in a column": (
        "import pandas as pd\nf = pd.Series(['1.0', 'n/a', '2.0', 'n/a'])\nx = f.astype(float)\n",
        "`n` at position 0 begins no number; first at [1], in 2 of 4 cells.",
    ),
    "a change in place": (
        "import numpy as np\nv = np.array([1, 2])\nv /= 2\n",
        "v stays int64 in place; v = v / 2 makes another array.",
    ),
    "a power of integers": (
        "import numpy as np\nv = np.array([1, 2])\nx = v ** -1\n",
        "floats have such powers, integers have none.",
    ),
    "types of constants": ("x = 'gauge ' + 3\n", "Culprit: 'gauge ' + 3, types str and int."),
    "a shape as two arguments": ("import numpy as np\nx = np.zeros(3, 4)\n", "is one argument: (3, 4)."),
    "arrays that are no list": (
        "import numpy as np\na, b = np.ones(3), np.ones(2)\nx = np.concatenate(a, b)\n",
        "the arrays are one argument: a list of them.",
    ),
    "math of an array": (
        "import math, numpy as np\na = np.ones(3)\nx = math.exp(a)\n",
        "math.exp takes one number: np.exp takes an array.",
    ),
    "the larger of arrays": (
        "import numpy as np\na = np.ones(3)\nx = max(a, 2.0)\n",
        "max compares whole arrays: np.maximum compares cell by cell.",
    ),
    "a truth value of cells": (
        "import numpy as np\na = np.array([1.0, -2.0, 3.0])\nif a > 0:\n    pass\n",
        "2 of its 3 cells are true.",
    ),
    "a count that is a float": ("n = 2.0\nx = range(n)\n", "n is a float: a count is an integer."),
    "a loop over a number": ("n = 2\nfor k in n:\n    pass\n", "Culprit: n = 2, it is one number: range(n) counts"),
    "a list times a float": ("q = [1, 2]\nx = q * 2.0\n", "a list has no arithmetic: np.array(q) has."),
    "a list joined with a number": ("q = [1, 2]\nx = q + 1\n", "a list has no arithmetic"),
    "a list with a text": ("q = [1, 2]\nx = q + 'a'\n", "types list and str."),
    "two indices of a list": ("q = [[1, 2]]\nx = q[0, 1]\n", "has an index of its own: q[0][1]."),
    "several indices of a list": ("q = [1, 2]\nx = q[[0, 1]]\n", "a list takes one index or a slice: np.array(q)"),
    "an array that is called": ("import numpy as np\na = np.ones(3)\nx = a(0)\n", "a holds values: square brackets"),
    "a value that is called": ("import numpy as np\na = np.ones(3)\nx = a.shape()\n", "leave the parentheses out."),
    "a number that is called": ("g = 9.81\nx = g(2)\n", "g is 9.81."),
    "a function that is indexed": ("def g(x): return x\nx = g[0]\n", "g is a function: parentheses call it."),
    "no self": ("class A:\n    def g(x): return x\nz = A().g(1)\n", "def g(self, x)."),
    "one argument too many": ("def g(x): return x\nz = g(1, 2)\n", "Culprit: g(1, 2)."),
    "a mean of texts": (
        "import pandas as pd\nf = pd.DataFrame({'q': [1.0], 'gauge': ['a']})\nx = f.mean()\n",
        "no numbers: gauge; numeric_only=True leaves them out.",
    ),
    "a power": ("x = 2.0 ^ 2\n", "^ works on bits: ** is the power."),
    "sorted in place": ("q = [2, 1].sort()\nx = q[0]\n", "q is None since line 1: sort changes in place and returns"),
    "printed": ("q = print(1)\nx = q + 1\n", "q is None since line 1: print returns nothing."),
    "in place of a frame": (
        "import pandas as pd\nf = pd.DataFrame({'q': [1.0]})\ng = f.dropna(inplace=True)\nx = g.shape\n",
        "g is None since line 3: dropna with inplace=True returns nothing.",
    ),
    "no return": (
        "def rate(h):\n    y = h * 2.0\nq = rate(1.0)\nx = q + 1\n",
        "line 3: rate has no return statement with a value.",
    ),
    "a return that was passed by": (
        "def rate(h):\n    if h > 2:\n        return h\nq = rate(1.0)\nx = q + 1\n",
        "q is None since line 4: rate returned None.",
    ),
    "None in a branch": (
        "def rate(h): return h\nq = None\nif q is not None:\n    q = rate(1.0)\nx = q + 1\n",
        "types NoneType and int.",
    ),
    "None as an argument": (
        "def rate(h):\n    pass\ndef flow(q=None, deep=False):\n    if deep:\n        q = rate(1.0)\n    return q + 1\nflow()\n",
        "types NoneType and int.",
    ),
    "a step that is a float": ("x = range(0, 2, 0.5)\n", "range counts by integers: np.arange takes other steps."),
    "a correlation of texts": (
        "import pandas as pd\nf = pd.DataFrame({'q': [1.0], 'gauge': ['a']})\nx = f.corr()\n",
        "no numbers: gauge; numeric_only=True leaves them out.",
    ),
    "a callback that is None": (
        "class A: rate = None\na = A()\nx = a.rate()\n",
        "'NoneType' object is not callable. Culprit: a.rate() with a = A object.",
    ),
    "another separator": (
        "import io\nimport pandas as pd\nf = pd.read_csv(io.StringIO('day;flow\\n1;2'))\nx = f['flow']\n",
        "its only column is 'day;flow': read the file with sep=';'.",
    ),
    "a blank in a name": (
        "import pandas as pd\nf = pd.DataFrame({'day': [1], ' flow': [2]})\nx = f['flow']\n",
        "the nearest of its 2 columns: ' flow'.",
    ),
    "an array of objects": (
        "import numpy as np\nclass Gauge:\n    def level(self): return 1.0\n"
        "g = np.array([[Gauge()]], dtype=object)\nx = g.level()\n",
        "each of its cells has level: g[0, 0].level.",
    ),
    "what JSON has no form for": (
        "import json, numpy as np\nx = json.dumps({'gauges': [1.0, {'flow': np.ones(2)}]})\n",
        "['gauges'][1]['flow'] is of type ndarray: .tolist() makes it plain.",
    ),
    "None among numbers": ("x = sorted([1, 2.5, None, 2])\n", "element [2] is None, most are of type int."),
    "a text among numbers": ("q = [1, 'a', 2]\nx = max(q)\n", "element [1] is 'a', most are of type int."),
    "times in a column": (
        "import pandas as pd\nf = pd.DataFrame({'day': pd.date_range('2026', periods=2), 'q': [1, 2]})\n"
        "x = f.resample('D').mean()\n",
        "times are in a column: on='day' takes them.",
    ),
    "a frame as a condition": (
        "import pandas as pd\nf = pd.DataFrame({'q': [1.0]})\nif f:\n    pass\n",
        "Culprit: f = 1 rows x 1 column: q, len(f) counts its rows.",
    ),
    "an array as a condition": (
        "import numpy as np\na = np.array([0.0, 2.0])\nwhile a:\n    pass\n",
        "1 of its 2 cells is true.",
    ),
    "a name that is assigned below": ("x = y\ny = 3\n", "Culprit: y, it is assigned below, at line 2."),
    "a function that is defined below": ("x = f()\ndef f(): pass\n", "Culprit: f, it is defined below, at line 2."),
    "a loop without a pass": ("for k in []:\n    pass\nx = k\n", "the loop at line 1 has had no pass."),
    "a branch that did not run": (
        "import sys\nif len(sys.argv) > 5:\n    q = 1\nx = q\n",
        "1 line assigns it, which did not run: 3.",
    ),
    "branches that did not run": (
        "def f(a):\n    if a > 3:\n        q = 1\n    elif a > 2:\n        q = 2\n    return q\nf(1)\n",
        "2 lines assign it, which did not run: 3 and 5.",
    ),
    "a deleted name": ("x = 1\ndel x\ny = x\n", "it was deleted at line 2."),
    "the name of an error": (
        "try:\n    1 / 0\nexcept ZeroDivisionError as e:\n    pass\nx = e\n",
        "it ends with its except clause, at line 3.",
    ),
    "the name of a comprehension": (
        "y = [k for k in range(3)]\nx = k\n",
        "it is a name of the comprehension at line 1 alone.",
    ),
    "a local name": ("def f():\n    q = 1\nf()\nx = q\n", "it is a local name of f, at line 2."),
    "a name of the function around": (
        "def f():\n    n = 0\n    def g():\n        n += 1\n    g()\nf()\n",
        "it belongs to f, the function around: declare it nonlocal.",
    ),
    "a name of the module": ("n = 0\ndef g():\n    n += 1\ng()\n", "so it is not the module's: declare it global"),
    "an attribute of another method": (
        "class A:\n    def read(self):\n        self.q = 1\n    def flow(self):\n        return self.q\nA().flow()\n",
        "read assigns it, at line 3, which has not run for it.",
    ),
    "an attribute of the objects": (
        "class A:\n    def __init__(self):\n        self.q = 1\nx = A.q\n",
        "its objects have it: __init__ assigns it, at line 3.",
    ),
    "a key that is a number": ("q = {1: 'a'}\nx = q['1']\n", "its key is the number 1."),
    "a key that is a text": ("q = {'1': 'a'}\nx = q[1]\n", "its key is the text '1'."),
    "a row that is not there": (
        "import pandas as pd\nf = pd.DataFrame({'q': [1.0, 2.0]})\nx = f.drop(5)\n",
        "the nearest of its 2 row labels: 1, 0.",
    ),
    "a column that is dropped as a row": (
        "import pandas as pd\nf = pd.DataFrame({'q': [1.0], 'day': [2]})\nx = f.drop('q')\n",
        "the nearest of its 2 columns: q.",
    ),
    "a column of groups": (
        "import pandas as pd\nf = pd.DataFrame({'q': [1.0], 'day': [2]})\nx = f.groupby('day').agg({'flow': 'sum'})\n",
        "its 2 columns are 'q', 'day'.",
    ),
    "a program that is not there": (
        "import subprocess\nx = subprocess.run(['no-such-program'])\n",
        "Culprit: subprocess.run(['no-such-program']).",
    ),
    "a generator by its place": (
        "g = (k for k in range(3))\nx = g[0]\n",
        "g gives its elements in turn: list(g) has indices.",
    ),
    "a set by its place": ("s = {1, 2}\nx = s[0]\n", "a set has no order: sorted(s) has one."),
    "the length of pairs": ("z = zip([1], [2])\nx = len(z)\n", "its length is not known before: list(z) has one."),
    "objects in arithmetic": (
        "import numpy as np\na = np.array([1, None])\nx = np.sqrt(a)\n",
        "its cells are objects: a.astype(float) makes numbers of them.",
    ),
    "texts in arithmetic": (
        "import numpy as np\na = np.array(['1', '2'])\nx = a * 2\n",
        "its cells are texts: a.astype(float) makes numbers of them.",
    ),
    "a decorator that raises": (
        "from dataclasses import dataclass\n@dataclass\nclass A:\n    q: list = []\n",
        "use default_factory.",
    ),
    "no such key": ("q = {'a': 1}.get('b')\nx = q + 1\n", "q is None since line 1: get has found nothing."),
    "an attribute that raises": (
        "import pandas as pd\nf = pd.DataFrame({'day': ['a']})\nx = f['day'].dt.year\n",
        "Culprit: f['day'].dt with f['day'] = day, 1 row str: a, it holds no times: pd.to_datetime makes them.",
    ),
    "bins": (
        "import numpy as np\na = np.array([2.0, 1.0])\nx = np.digitize(a, [3, 1, 2])\n",
        "it does not increase: 3 at [0], 1 at [1].",
    ),
    "points within a message": ("import datetime\nx = datetime.date(2020, 13, 1)\n", "month must be in 1..12"),
    "a misspelt function": ("x = rnage(3)\n", "Culprit: rnage, the nearest name: range."),
    "a name of Python 2": ("for k in xrange(3):\n    pass\n", "Python 3 has removed xrange: use range."),
    "a name like one of Python 2": ("files = ['a']\nfor f in file:\n    pass\n", "the nearest names: files, filter."),
    "a method of Python 2": ("d = {'q': 1}\nfor k, v in d.iteritems():\n    pass\n", "the new name: items."),
    "a key of Python 2": ("d = {}\nx = d.has_key('q')\n", "Python 3 has removed has_key: write key in d."),
    "a module of Python 2": ("import ConfigParser\n", "Python 3 has removed ConfigParser: use configparser."),
    "a class that has moved": ("from collections import Mapping\n", "use collections.abc.Mapping."),
    "a type that NumPy has removed": (
        "import numpy as np\nx = np.ones(3, dtype=np.float)\n",
        "NumPy has removed float: use float.",
    ),
    "a name that NumPy has changed": ("import numpy as np\nx = np.Inf\n", "the new name: inf."),
    "a method that pandas has removed": (
        "import pandas as pd\nf = pd.DataFrame({'q': [1.0]})\nf = f.append(f)\n",
        "pandas has removed append: use pd.concat([a, b]).",
    ),
    "a keyword that pandas has renamed": (
        "import io\nimport pandas as pd\npd.DataFrame({'q': [1.0]}).to_csv(io.StringIO(), line_terminator=' ')\n",
        "the new keyword: lineterminator.",
    ),
    "a keyword that pandas has removed": (
        "import pandas as pd\nx = pd.Series([1.0]).fillna(method='ffill')\n",
        "pandas has removed method: use .ffill() or .bfill().",
    ),
    "a keyword of a function of one's own": (
        "def to_csv(q): return q\nx = to_csv(1.0, line_terminator='')\n",
        "Culprit: to_csv(1.0, line_terminator='').",
    ),
    "a loop over nothing": ("levels = None\nfor level in levels:\n    pass\n", "Culprit: levels = None."),
    "a comprehension over nothing": ("levels = None\nx = [k for k in levels]\n", "Culprit: levels = None."),
    "a method of None": ("level = None\nx = level.mean()\n", "Culprit: level.mean() with level = None."),
    "a number": ("level = float('nan')\nx = int(level)\n", "Culprit: int(level) with level = nan."),
}


async def test_a_file_beside_the_script_is_named(script, tmp_path) -> None:
    (tmp_path / "runs").mkdir()
    (tmp_path / "stage.csv").write_text("1.0\n")
    path = script("import numpy as np\nx = np.loadtxt('stage.csv')\n")
    async with running(path, cwd=str(tmp_path / "runs")) as run:
        headline = (await run.pause()).headline
        assert f"it is in {tmp_path}, the folder of the script, which runs in {tmp_path / 'runs'}." in headline


@pytest.mark.parametrize("name", WHY)
async def test_errors_say_more_than_their_message(name: str, script) -> None:
    text, why = WHY[name]
    async with running(script(text)) as run:
        facts = await run.pause()
        assert why in facts.headline, facts.headline


async def test_why_is_asked_without_running_the_script(script) -> None:
    text = (
        "class Gauge:\n    asked = []\n    def __getattr__(self, name):\n        Gauge.asked.append(name)\n"
        "        raise AttributeError(name)\ng = Gauge()\nx = g.level\n"
    )
    async with running(script(text)) as run:
        assert (await run.pause()).line == 5
        assert await run.ask("Gauge.asked") == "['level']"


async def test_a_file_that_hides_a_library_is_named(script, tmp_path) -> None:
    script("LEVEL = 1.0\n", "json.py")
    for text in ("import json\nx = json.loads('1')\n", "from json import loads\n"):
        async with running(script(text)) as run:
            assert f"son is {tmp_path / 'json.py'}, which hides the library: rename it." in (await run.pause()).headline


async def test_a_name_that_is_missed_elsewhere_has_no_nearest(script) -> None:
    """One that a called function has asked for, and one that no other is like."""
    called = "class Gauge:\n    level = 1.0\nread = __import__('operator').attrgetter('levle')\nx = read(Gauge())\n"
    for text in (called, "import numpy as np\nx = np.linspace(0, 1).stages\n", "x = stage\n"):
        async with running(script(text)) as run:
            assert "nearest" not in (await run.pause()).headline


async def test_shapes_are_no_reason_for_another_error(script) -> None:
    text = "import numpy as np\na, b = np.ones((2, 2)), np.ones(2)\ndef f(a, b):\n    raise ValueError('no licence')\nf(a, b)\n"
    async with running(script(text)) as run:
        assert "shapes" not in (await run.pause()).headline


COUNTED = {  # how many cells were made bad here, beside those that were so
    "x = a * np.arange(3.0)": "1 non-finite cell created at line 6: x would hold 2 non-finite cells",
    "x = b / b": "2 non-finite cells created at line 6: x would hold 3 non-finite cells",
    "x = 1.0 / a": "",
    "x = 1.0 / c": "2 non-finite cells created at line 6: x would hold 2 non-finite cells",
}


@pytest.mark.parametrize("text", COUNTED)
async def test_a_headline_counts_what_was_made(text: str, script) -> None:
    head = "import numpy as np\nnp.seterr(all='ignore')\na = np.array([np.inf, np.nan, 1.0])\n"
    head += "b = np.array([np.nan, 0.0, 1.0, 0.0])\nc = np.array([0.0, 0.0, 1.0])\n"
    async with running(script(head + text + "\n"), go_on=True) as run:
        await run.pause()
    assert [t.headline.partition(".")[0] for t in run.trips] == [COUNTED[text]] * bool(COUNTED[text])


async def test_calls_in_a_comprehension_may_leave_cells_empty(script) -> None:
    text = "import pandas as pd\nrain = pd.Series([1.0, 2.0, 3.0])\n"
    text += "table = pd.concat({k: rain.shift(k) for k in range(3)}, axis=1)\nlags = [rain.diff(k) for k in (1, 2)]\n"
    async with running(script(text), go_on=True) as run:
        await run.pause()
    assert not run.trips


REFUSES = """
class Gauge:
    def __getattribute__(self, name):
        raise AssertionError(f"asked for {name}")

def rate(gauge, level):
    return 1.0 / level

rate(Gauge(), 0.0)
"""


async def test_a_class_that_refuses_every_look(script) -> None:
    async with running(script(REFUSES)) as run:
        facts = await run.pause()
        assert facts.exception.type == "ZeroDivisionError" and facts.function == "rate" and not run.trouble


SILENT_SCRIPT = "warnings.simplefilter('ignore')\n"
SILENT_NUMPY = "np.seterr(all='ignore')\n"
SILENCED = {  # what silences, the statements, and the line that pauses
    "an operand is tested elsewhere": (SILENT_SCRIPT, "t = np.log(v)\nw = np.where(v > 0, v, 1.0)\n", 5),
    "and so under seterr": (SILENT_NUMPY, "t = np.log(v)\nw = np.where(v > 0, v, 1.0)\n", 5),
    "the result is tested": (SILENT_SCRIPT, "t = np.log(v)\nw = np.where(v > 0, t, 1.0)\n", None),
    "its cells are set": (SILENT_NUMPY, "t = np.log(v)\nt[v <= 0] = 0.0\n", None),
    "here alone": ("", "with np.errstate(all='ignore'):\n    t = np.log(v)\nw = np.where(v > 0, v, 1.0)\n", None),
    "nothing is tested here": ("", "with np.errstate(all='ignore'):\n    t = np.log(v)\n", 5),
    "a decorator": (
        "@np.errstate(all='ignore')\ndef f(v):\n    t = np.log(v)\n    return t[np.isfinite(v)].sum()\n",
        "x = f(np.array([1.0, 0.0]))\n",
        None,
    ),
}


@pytest.mark.parametrize("name", SILENCED)
async def test_results_of_silenced_arithmetic_are_meant_where_they_are_tested(name: str, script) -> None:
    silence, statements, line = SILENCED[name]
    text = f"import warnings\nimport numpy as np\n{silence}v = np.array([1.0, 0.0, 2.0])\n{statements}"
    async with running(script(text)) as run:
        facts = await run.pause()
        assert (facts.line if facts is not None else None) == line


@pytest.mark.parametrize(
    ("statement", "line"),
    [
        ("change = rain.pct_change()", 3),
        ("change = rain.pct_change().fillna(0.0)", 3),
        ("change = rain[3:].pct_change()", None),
        ("change = rain.diff()", None),
        ("frame = rain.to_frame('rain').pct_change()", 3),
    ],
)
async def test_a_change_relative_to_zero_is_created_though_gaps_are_by_design(statement, line, script) -> None:
    text = f"import pandas as pd\nrain = pd.Series([0.0, 1.0, 0.0, 3.0, 4.0])\n{statement}\n"
    async with running(script(text)) as run:
        facts = await run.pause()
        assert (facts.line if facts is not None else None) == line
        if line is not None:
            assert "pct_change() at [1" in facts.headline and "a change relative to zero" in facts.headline
