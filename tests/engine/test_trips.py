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
        "its only key is depth",
    ),
}


@pytest.mark.parametrize("name", WHY)
async def test_errors_say_more_than_their_message(name: str, script) -> None:
    text, why = WHY[name]
    async with running(script(text)) as run:
        facts = await run.pause()
        assert why in facts.headline, facts.headline


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
