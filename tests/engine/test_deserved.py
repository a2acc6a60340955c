"""Non-finite values and warnings that deserve a pause, and those that do not."""

from __future__ import annotations

import pytest
from driving import running

HEAD = "import warnings\nimport math\nimport numpy as np\nimport pandas as pd\n"
INFINITIES = {
    "x = inf - inf": "inf minus inf",
    "x = (a - np.inf)[0]": "inf minus inf",
    "x = 0 * a": "zero times infinity",
    "x = a / a": "infinity divided by infinity",
    "x = a % 2": "the remainder of infinity",
    "x = np.sin(a)": "infinity has no angle",
    "x = np.array([np.inf, -np.inf]).sum()": "",
}
MEANT = [
    "x = a + 1",
    "x = inf + 1",
    "x = min(inf, 3.0)",
    "x = np.maximum(a, 0.0)",
    "x = a.max()",
    "x = -a",
    "best = inf\nfor c in (3.0, 1.0):\n    best = min(best, c)",
]


async def pauses(script, text: str, **options) -> list:
    async with running(script(HEAD + text + "\n"), go_on=True, **options) as run:
        assert await run.pause() is None
    assert not run.trouble
    return run.trips


@pytest.mark.parametrize("text", INFINITIES)
async def test_nan_from_infinities_is_created(text: str, script) -> None:
    found = await pauses(script, f"inf = math.inf\na = np.array([np.inf, 1.0, 2.0])\n{text}")
    assert [(p.reason, p.kind) for p in found] == [("nonfinite", "created")]
    assert INFINITIES[text] in found[0].headline


@pytest.mark.parametrize("text", MEANT)
async def test_infinities_that_are_meant(text: str, script) -> None:
    assert not await pauses(script, f"inf = math.inf\na = np.array([np.inf, 1.0, 2.0])\n{text}")


GUARD = "rain = np.array([0.0, 2.0, 0.0])\nflow = np.array([1.0, 2.0, 0.0])\ndef f():\n    with np.errstate(all='ignore'):\n        r = flow / rain\n"
GUARDED = {
    "mask": "    r[~np.isfinite(r)] = 0.0\n    return r\nf()",
    "where": "    return np.where(rain > 0, r, 0)\nf()",
    "overwritten": "    r[rain == 0] = 0.0\n    return r\nf()",
}


@pytest.mark.parametrize("name", GUARDED)
async def test_guarded_arithmetic_is_meant_where_it_is_masked(name: str, script) -> None:
    assert not await pauses(script, GUARD + GUARDED[name])


async def test_guarded_arithmetic_pauses_where_it_escapes(script) -> None:
    found = await pauses(script, GUARD + "    s = r * 2\n    return s\nf()")
    assert [(p.reason, p.line) for p in found] == [("nonfinite", 11)]
    assert "created at line 9, where NumPy ignores such errors, leave the function" in found[0].headline


async def test_a_filter_guards_too(script) -> None:
    text = "warnings.simplefilter('ignore')\ndef f():\n    x = np.log(np.zeros(2))\n    x[np.isinf(x)] = 0\n    return x\nf()\n"
    assert not await pauses(script, text)
    found = await pauses(script, text + "z = np.log(np.zeros(2))")
    assert [p.line for p in found] == [11]


GAPS = (
    "a = pd.DataFrame({'k': [1, 2, 3], 'x': [1.0, 2.0, 3.0]})\nb = pd.DataFrame({'k': [1, 2], 'y': [5.0, 6.0]})\n"
    "def f():\n    m = a.merge(b, how='left', on='k')\n"
)


@pytest.mark.parametrize(
    "rest",
    [
        "    return m\n",
        "    m['z'] = m['x'] * m['y'].fillna(0)\n",
        "    m['z'] = m['x'] * m['y']\n    return m.dropna()\n",
        "    y = m['y']\n    m['z'] = m['x'] * y.fillna(0)\n",
        "    y = m['y']\n    z = m['x'] * y\n    return m['y'].isna(), z\n",
        "    y = m['x']\n    m['z'] = m['x'] * y\n",
    ],
)
async def test_gaps_that_are_handled_do_not_pause(rest: str, script) -> None:
    assert not await pauses(script, GAPS + rest + "f()")


async def test_gaps_pause_where_they_enter_arithmetic(script) -> None:
    found = await pauses(script, GAPS + "    m['z'] = m['x'] * m['y']\n    w = m['z'] + m['y']\nf()")
    assert [(p.kind, p.line) for p in found] == [("gaps", 9)]
    assert "1 empty cell left by a.merge(b, how='left', on='k') at line 8" in found[0].headline
    assert "enters the arithmetic by m['y']" in found[0].headline


@pytest.mark.parametrize("column", ["m['y']", "m.y", "m['y'][1:]", "m.loc[:, 'y']"])
async def test_a_column_with_gaps_has_a_name_of_its_own(column: str, script) -> None:
    found = await pauses(script, GAPS + f"    y = {column}\n    w = y * 2.0\nf()")
    assert [(p.kind, p.line) for p in found] == [("gaps", 10)]
    assert "1 empty cell left by a.merge(b, how='left', on='k')" in found[0].headline
    assert "enters the arithmetic by y" in found[0].headline


HANDED = """def scaled(flow, by=2.0):
    w = flow * by
    return w
class Gauge:
    def rate(self, level, *, slope):
        return slope * level
def both(one):
    return scaled(one)
"""


@pytest.mark.parametrize(
    ("call", "line", "name"),
    [
        ("scaled(m['y'])", 6, "flow"),
        ("scaled(by=3.0, flow=m['y'])", 6, "flow"),
        ("y = m.y; z = scaled(y) + 1.0", 6, "flow"),
        ("Gauge().rate(m['y'], slope=2.0)", 10, "level"),
        ("both(m['y'])", 6, "flow"),
        ("scaled(m['x']); scaled(m['y'])", 6, "flow"),
    ],
)
async def test_a_column_with_gaps_is_handed_to_a_function(call: str, line: int, name: str, script) -> None:
    found = await pauses(script, HANDED + GAPS + f"    {call}\nf()")
    assert [(p.kind, p.line) for p in found] == [("gaps", line)]
    assert f"enters the arithmetic by {name}" in found[0].headline


@pytest.mark.parametrize(
    "rest",
    [
        "    return scaled(m['x'])\n",
        "    return scaled(m['y'].fillna(0))\n",
        "    m['z'] = scaled(m['y'])\n    return m.dropna()\n",
        "    y = m['y']\n    z = scaled(y)\n    return z[y.notna()]\n",
    ],
)
async def test_a_caller_handles_the_gaps_that_it_hands_on(rest: str, script) -> None:
    assert not await pauses(script, HANDED + GAPS + rest + "f()")


async def test_a_function_handles_the_gaps_that_it_is_handed(script) -> None:
    text = HANDED.replace("    return w\n", "    return np.where(np.isnan(flow), 0.0, w)\n")
    assert not await pauses(script, text + GAPS + "    return scaled(m['y'])\nf()")
    text = HANDED.replace("    w = flow", "    flow = flow.iloc[:2]\n    w = flow")
    assert not await pauses(script, text + GAPS + "    return scaled(m['y'])\nf()")


async def test_a_chain_over_lines_leaves_gaps(script) -> None:
    found = await pauses(
        script,
        GAPS.replace("a.merge(b", "(a\n        .merge(b").replace("on='k')", "on='k'))") + "    w = m['y'] + 1\nf()",
    )
    assert [p.kind for p in found] == ["gaps"]
    assert "left by a.merge(b, how='left', on='k')" in found[0].headline


async def test_gaps_are_reported_and_can_pause(script) -> None:
    path = script(HEAD + GAPS + "    return m\nf()\n")
    async with running(path) as run:
        assert await run.pause() is None
    assert "1 empty cell left by a.merge(b, how='left', on='k') at line 8" in run.err + run.out
    async with running(path, pause_on={"start", "nonfinite"}) as run:
        await run.pause()
        await run.client.session.request("setExceptionBreakpoints", {"filters": ["nonfinite", "gaps"]})
        facts = await run.step("on")
        assert (facts.kind, facts.line) == ("gaps", 8)


async def test_a_join_without_any_partner_is_created(script) -> None:
    found = await pauses(
        script, "a = pd.DataFrame({'x': [1.0]}, index=[1])\nb = pd.DataFrame({'y': [2.0]}, index=[9])\nm = a.join(b)"
    )
    assert [(p.kind, p.line) for p in found] == [("created", 7)]


LIBRARY = (
    "import warnings\nclass SlowPathPerformanceWarning(UserWarning): pass\n"
    "class FitConvergenceWarning(UserWarning): pass\n"
    "def style(): warnings.warn('No frequency given, so it is inferred.')\n"
    "def speed(): warnings.warn('copied', SlowPathPerformanceWarning)\n"
    "def fit(): warnings.warn('The fit did not converge.')\n"
    "def known(): warnings.warn('x', FitConvergenceWarning)\n"
    "def both():\n    warnings.warn('No style here.', RuntimeWarning)\n    warnings.warn('invalid value', RuntimeWarning)\n"
)


@pytest.fixture
def library(tmp_path):
    """A package that is installed somewhere else than the script."""
    home = tmp_path / "lib" / "site-packages"
    (home / "gauges").mkdir(parents=True)
    (home / "gauges" / "__init__.py").write_text(LIBRARY)
    return str(home)


@pytest.mark.parametrize(("call", "pauses_"), [("style", False), ("speed", False), ("fit", True), ("known", True)])
async def test_warnings_of_advice(call: str, pauses_: bool, script, library: str) -> None:
    found = await pauses(script, f"import sys; sys.path.append({library!r})\nimport gauges\ngauges.{call}()")
    assert [p.reason for p in found] == (["warning"] if pauses_ else [])
    if pauses_:
        assert "(gauges/__init__.py:" in found[0].headline  # the library's own line


async def test_warnings_about_numbers_come_first(script, library: str) -> None:
    found = await pauses(script, f"import sys; sys.path.append({library!r})\nimport gauges\ngauges.both()")
    assert found[0].warnings[0].startswith("RuntimeWarning: ")


async def test_an_own_warning_pauses(script) -> None:
    assert [p.reason for p in await pauses(script, "warnings.warn('my own')")] == ["warning"]


@pytest.mark.parametrize("what", ["calls of depth", "values of level"])
async def test_a_callee_and_a_name_can_be_accepted(what: str, script, library: str) -> None:
    with open(f"{library}/gauges/__init__.py", "a") as f:
        f.write("def depth(x):\n    return float('nan') if x > 1 else x\n")
    text = f"import sys; sys.path.append({library!r})\nimport gauges\nlevel = gauges.depth(2.0)\nlevel = gauges.depth(3.0)\nx = math.inf - math.inf\n"
    async with running(script(HEAD + text)) as run:
        facts = await run.pause()
        assert (facts.line, facts.accepts) == (7, ["calls of depth", "values of level"])
        await run.client.accept_as(what)
        assert (await run.step("on")).line == 9


async def test_a_conversion_makes_no_nan(script) -> None:
    text = "class Missing:\n    def __array__(self, dtype=None, copy=None):\n        return np.array([np.nan])\nm = Missing()\nx = [m]\n"
    assert not await pauses(script, text)


async def test_a_float_of_an_infinity_quotes_its_warning(script) -> None:
    found = await pauses(script, "a, b = 1.0, 0.0\ny = float(np.float64(a) / b)")
    assert [(p.reason, p.kind) for p in found] == [("nonfinite", "created")]
    assert "divide by zero" in found[0].headline


async def test_only_what_raised_the_first_time_is_the_culprit(script) -> None:
    """A second evaluation that raises is mentioned; it is no culprit."""
    text = "import itertools\nn = itertools.count()\ndef once():\n    return 1.0 / (1 - next(n))\ny = np.log(once() - 1.0)\n"
    async with running(script(HEAD + text)) as run:
        facts = await run.pause()
        assert facts.reason in ("nonfinite", "warning") and facts.line == 9
        assert facts.culprit is None or facts.culprit.text != "once()"
        assert "a second evaluation raised ZeroDivisionError" in facts.differs


async def test_names_around_are_not_those_of_the_second_evaluation(script) -> None:
    async with running(script("q = 1\nx = 1 / len([n for n in globals() if n == 'nothing'])\n")) as run:
        facts = await run.pause()
        assert all("_uneven_sum" not in t.value for t in facts.terms)


READS = "class Fit:\n    params = {'level': 0.5, 'trend': math.nan}\nfit = Fit()\nnames = ['level', 'trend']\n"


async def test_items_that_are_only_read_are_no_finding(script) -> None:
    assert not await pauses(script, READS + "x = [fit.params[name] for name in names]")
    assert not await pauses(script, READS + "x = [fit.params[name] for name in names] + [0.5]")
    (found,) = await pauses(
        script, READS + "x = [fit.params[name] * np.log(k - 2.0) for k in (1.0, 3.0) for name in ['level']]"
    )
    assert found.kind == "created"


@pytest.mark.parametrize(
    "line",
    [
        "np.testing.assert_equal(np.log(np.array([-1.0])), np.nan)",
        "np.testing.assert_almost_equal(np.log(z), [-np.inf, -np.inf])",
        "pd.testing.assert_series_equal(pd.Series(z) / 0, pd.Series([np.nan, np.nan]))",
        "assert np.complex128('nan+nanj') != 1.0",
    ],
)
async def test_what_an_assertion_expects_does_not_pause(line: str, script) -> None:
    assert not await pauses(script, f"warnings.simplefilter('ignore')\nz = np.zeros(2)\n{line}\n")
    assert await pauses(script, "warnings.simplefilter('ignore')\nz = np.log(np.zeros(2))\n")


async def test_an_assertion_that_fails_pauses(script) -> None:
    found = await pauses(script, "np.testing.assert_equal(np.log(np.ones(1)), np.nan)\n")
    assert [p.reason for p in found] == ["error"]


IN_PLACE = """def work(flow, factor):
    flow[0:] *= factor * 2.0
    return flow
work(np.array([np.nan, 1.0, 2.0, 1e308]), np.array([1.0, 3.0, 1.0, 50.0]))
"""


@pytest.mark.parametrize("change", ["flow[0:] *= factor * 2.0", "flow *= factor * 2.0", "flow[:4] *= 2.0 * factor"])
async def test_the_cell_that_a_change_in_place_has_made_bad(change: str, script) -> None:
    found = await pauses(script, IN_PLACE.replace("flow[0:] *= factor * 2.0", change))
    assert [(p.kind, p.line) for p in found] == [("created", 6)]
    assert found[0].culprit.cell == [3]
    assert found[0].headline.startswith("1 non-finite cell created at line 6: flow")
    assert "would hold 2 non-finite cells" in found[0].headline and "at [3]" in found[0].headline


async def test_a_change_in_place_pauses_where_its_warning_is_ignored_too(script) -> None:
    text = "warnings.simplefilter('ignore')\n" + IN_PLACE.replace("* 2.0", "* STAGE[0]") + "\n"
    found = await pauses(script, text.replace("def work", "STAGE = [2.0, 1.0]\ndef work"))
    assert [(p.kind, p.line, p.culprit.cell) for p in found] == [("created", 8, [3])]
