"""A total that a few missing values make nan: the first of a run pauses, where nothing non-finite has paused before."""

from __future__ import annotations

import pytest
from driving import running

from .test_deserved import pauses

GAPPED = "flow = np.arange(10.0)\nflow[3:5] = np.nan\n"
READ = "table = pd.read_csv(io.StringIO('day,flow\\n1,2.0\\n2,\\n3,4.0\\n4,1.0\\n'))\nflow = table['flow'].values\n"

LOST = {  # a statement, and how the headline begins
    GAPPED + "m = flow.mean()": "2 nan among the 10 values of flow make flow.mean() nan",
    GAPPED + "print(np.sum(flow ** 2))": "2 nan among the 10 values of flow make np.sum(flow ** 2) nan",
    GAPPED + "m = flow @ np.ones(10)": "2 nan among the 10 values of flow make flow @ np.ones(10) nan",
    GAPPED + "m = flow[2:6].max()": "2 nan among the 4 values of flow[2:6] make flow[2:6].max() nan",
    GAPPED
    + "m = sum(q * 2.0 for q in flow) / len(flow)": "2 nan among the 10 values of flow make sum(q * 2.0 for q in flow) nan",
    GAPPED + "m = sum(flow.tolist())": "2 nan among the 10 values of flow make sum(flow.tolist()) nan",
    GAPPED
    + "def score(x):\n    return 1 - np.sum((x - x.mean()) ** 2)\nm = score(flow)": "2 nan among the 10 values of x make x.mean() nan",
    READ + "m = np.mean(flow)": "1 nan among the 4 values of flow makes np.mean(flow) nan",
    READ
    + "line = np.polyfit(table['day'], flow, 1)": "1 nan among the 4 values of flow makes np.polyfit(table['day'], flow, 1) nan",
    READ
    + "m = np.mean(flow)\nk = np.sum(flow)\ndepth = flow / 3\nd = depth.sum()": "1 nan among the 4 values of flow makes np.mean(flow)",
    "levels = [1.0, math.nan, 2.0]\nm = math.fsum(levels)": "1 nan among the 3 values of levels makes math.fsum(levels) nan",
    GAPPED + "known = np.nanmean(flow)\nm = flow.std()": "2 nan among the 10 values of flow make flow.std() nan",
}
OF_OTHER_KINDS = {
    "import functools, operator\nq = [1.0, math.nan]\nm = functools.reduce(operator.add, q)": "1 nan among the 2 values of q",
    "import itertools\nq = [1.0, math.nan]\nm = list(itertools.accumulate(q))[-1]": "1 nan among the 2 values of q makes",
    "import xarray as xr\nlevel = xr.DataArray([1.0, np.nan])\nm = float(level.sum(skipna=False))": "1 nan among the 2 values",
    GAPPED + "volume = np.cumsum(flow)": "2 nan among the 10 values of flow make the end of np.cumsum(flow) nan",
    GAPPED + "volume = flow.cumsum()": "2 nan among the 10 values of flow make the end of flow.cumsum() nan",
    GAPPED + "left = 80.0 - 2.0 * flow.cumsum()": "2 nan among the 10 values of flow make the end of flow.cumsum() nan",
    "import xarray as xr\nmelt = xr.DataArray([np.nan, 1.0, 2.0], dims='day')\nleft = 80.0 - melt.cumsum('day', skipna=False)": (
        "1 nan among the 3 values of melt makes the end of melt.cumsum('day', skipna=False) nan"
    ),
    "level = pd.Series([1.0, math.nan])\nm = sum(level)": "1 nan among the 2 values of level makes sum(level) nan",
    "finance = float(math.nan)\ntotal = 1.0\ntotal += finance": "finance is nan and makes total nan",
    "k = float(math.nan)\nflow = np.linspace(0, 1, 5) * k": "k is nan and makes all of np.linspace(0, 1, 5) * k nan",
    "import polars as pl\nlevel = pl.Series([1.0, math.nan])\nm = level.mean()": "1 nan among the 2 values of level makes",
    "flow = np.array([1.0, np.nan], dtype=np.float32)\nm = flow.mean()": "1 nan among the 2 values of flow makes flow.mean()",
    "wave = np.array([1j, complex(math.nan, 0)])\nm = wave.sum()": "1 nan among the 2 values of wave makes wave.sum() nan",
    "weights = np.array([1.0, np.nan])\nm = np.average(np.ones(2), weights=weights)": "1 nan among the 2 values of weights",
    "level = np.array([1.0, np.nan, 2.0])\nr = np.corrcoef(level, np.arange(3))[0, 1]": "1 nan among the 3 values of level",
    "table = pd.DataFrame({'a': [1.0, None], 'b': [1.0, 2.0]})\nm = table.to_numpy().sum()": "1 nan among the 4 values",
}


@pytest.mark.parametrize("text", OF_OTHER_KINDS)
async def test_totals_of_other_kinds(text: str, script) -> None:
    (found,) = await pauses(script, text + "\n")
    assert found.kind == "gaps" and found.headline.startswith(OF_OTHER_KINDS[text])


LOOP = GAPPED + "total = level = 0.0\nvolume = np.zeros(10)\n"
STATES = {  # in a loop over the days: a step, and how the headline begins
    "total += flow[day]": "flow[day] is nan and makes total nan, at line 10. Pass 4 of 10",
    "total = total + flow[day]": "flow[day] is nan and makes total nan",
    "volume[day] = volume[day - 1] + flow[day] - 0.1": "flow[day] is nan and makes volume[day] nan",
    "q = flow[day]\n    level = 0.9 * level + q": "q is nan and makes level nan",
    "total -= flow[day] * 2.0": "flow[day] is nan and makes total nan",
    "sums['all'] = sums['all'] + flow[day]": "flow[day] is nan and makes sums['all'] nan",
    "sums['all'] += flow[day]": "flow[day] is nan and makes sums['all'] nan",
    "levels.append(levels[-1] + flow[day])": "flow[day] is nan and makes levels nan",
    "lake.volume += flow[day]": "flow[day] is nan and makes lake.volume nan",
}
STATES_MEANT = [
    "volume[day] = flow[day] * 2.0",
    "volume[day] += flow[day]",
    "volume[day] = volume[day] + flow[day]",
    "level = flow[day]",
    "level = 2.0 * flow[day]",
    "if not np.isnan(flow[day]):\n        total += flow[day]",
    "total += flow[day]\n    if np.isnan(total):\n        total = 0.0",
    "total += np.nan_to_num(flow[day])",
    "levels.append(flow[day] * 2.0)",
    "volume = np.ones(3) * np.nan",
    "NODATA = math.nan\n    volume = np.ones(3) * NODATA",
]


MEANT = [  # the result is tested or filled, or nothing is lost
    "m = np.nanmean(flow)",
    "m = flow.mean()\nif np.isnan(m):\n    m = 0.0",
    "m = flow.mean()\nif m != m:\n    m = 0.0",
    "sums = [flow[:k].sum() for k in (2, 4)]\nkept = [s for s in sums if s == s]",
    "sums = [np.array([k, np.nan]).sum() for k in (2, 4)]\nkept = [s for s in sums if s == s]",
    "def first(*given):\n    return next(v for v in given if not math.isnan(v))\nm = first(np.mean(flow), 1.0)",
    "def safe(f):\n    r = f()\n    return 0.0 if np.isnan(r) else r\nm = safe(lambda: flow.mean())",
    "means = np.array([flow[k : k + 3].mean() for k in range(7)])",
    "means = np.zeros(7)\nfor k in range(7):\n    means[k] = np.median(flow[k : k + 3])",
    "def mean(x):\n    return np.mean(x)\nm = mean(flow)\nok = math.isnan(m)",
    "means = []\nfor k in range(3):\n    means.append(flow[k : k + 2].mean())\nm = np.nanmax(means)",
    "means = {k: flow[k:].mean() for k in range(8)}\nm = pd.Series(means)\nbest = np.nanmax(list(means.values()))",
    "if np.isnan(np.sum(flow)):\n    print('gaps')",
    "level = flow * 2\nhead = np.interp(3.0, np.arange(10), flow)",
    "m = flow[~np.isnan(flow)].mean()",
    "m = pd.Series(flow).mean()",
    "m = np.full(3, np.nan).mean()",
    "k = flow[3]\nm = pd.Series(flow).mean() * k\nn = np.mean(pd.Series(flow)) + k",
    "m = flow[3] * 2\nk = float(flow[4])",
]


@pytest.mark.parametrize("text", LOST)
async def test_the_first_is_a_pause(text: str, script) -> None:
    (found,) = await pauses(script, "import io\n" + text + "\n")
    assert (found.reason, found.kind) == ("nonfinite", "gaps")
    assert found.headline.startswith(LOST[text])
    assert found.culprit.text in LOST[text] and [t.text for t in found.terms if t.culprit] == [found.culprit.text]


@pytest.mark.parametrize("text", MEANT)
async def test_what_is_meant_is_none(text: str, script) -> None:
    assert not await pauses(script, GAPPED + text + "\n")


STEPS = "import types\nlake = types.SimpleNamespace(volume=1.0); sums = {'all': 0.0}; levels = [1.0]\nfor day in range(10):\n    "


@pytest.mark.parametrize("step", STATES)
async def test_the_first_step_whose_state_is_lost_is_a_pause(step: str, script) -> None:
    (found,) = await pauses(script, LOOP.replace("\ntotal", "; total") + STEPS.replace("\n", "; ", 1) + step + "\n")
    assert (found.reason, found.kind, found.loops[0].number) == ("nonfinite", "gaps", 4)
    assert found.headline.startswith(STATES[step].partition(", at")[0])


@pytest.mark.parametrize("step", STATES_MEANT)
async def test_a_step_that_loses_no_state_is_none(step: str, script) -> None:
    assert not await pauses(script, LOOP + STEPS + step + "\n")


async def test_a_state_that_the_caller_tests_is_none(script) -> None:
    text = "def add(xs):\n    total = 0.0\n    for x in xs:\n        total += x\n    return total\n"
    assert not await pauses(script, GAPPED + text + "t = add(flow)\nok = np.isnan(t)\n")
    (found,) = await pauses(script, GAPPED + text + "t = add(flow)\n")
    assert found.headline.startswith("x is nan and makes total nan")


async def test_after_another_pause_there_is_none(script) -> None:
    (found,) = await pauses(script, GAPPED + "flow[5] = 1.0 / np.float64(0.0)\nm = flow.mean()\n")
    assert found.kind == "created"


async def test_a_place_is_asked_a_few_times_only(script) -> None:
    text = "import numpy as np\nhalf = np.full(4, np.nan)\nwhole = np.arange(4.0)\n"
    text += "for k in range(1000):\n    m = half.sum()\nprint('end')\n"
    async with running(script(text)) as run:
        assert await run.pause() is None
        assert run.out == "end\n"
