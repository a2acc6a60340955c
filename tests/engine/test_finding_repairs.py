"""Versions of a line for findings: put into the file, the audit finds nothing there any more; and runs to the end."""

from __future__ import annotations

from pathlib import Path

import pytest

from uneven_sum.check import check
from uneven_sum.client import Launch
from uneven_sum.client.finding_repairs import finding_repairs
from uneven_sum.client.keeping.ends import End, compared, to_the_end
from uneven_sum.client.keeping.proof import Mended
from uneven_sum.client.repairs import repairs
from uneven_sum.client.verify import Result

NP = "import numpy as np\n"
# A script with one finding; the rule, and for each repair what the script then prints.
CASES: dict[str, tuple[str, str, dict[str, str]]] = {
    "wrap": (
        NP + "a = np.array([30000, 20000], dtype=np.int16)\nb = a + a\nprint(b.tolist())\n",
        "wrap",
        {"widen to int64": "[60000, 40000]", "compute as float": "[60000.0, 40000.0]"},
    ),
    "wrap of a scalar": (
        NP + "n = np.int32(70000)\nm = n * n\nprint(m)\n",
        "wrap",
        {"widen to int64": "4900000000", "compute as float": "4900000000.0"},
    ),
    "texts": (
        "levels = ['1', '2']\ns = levels[0] + levels[1]\nprint(s)\n",
        "text-arithmetic",
        {"convert to float": "3.0", "convert to int": "3"},
    ),
    "equality": (
        "x = 0.1 + 0.2\nif x == 0.3:\n    print('same')\n",
        "float-equality",
        {"set a tolerance": "same", "compare rounded": "same"},
    ),
    "equality, with math": (
        "import math\nx = 0.1 + 0.2\nsame = x == 0.3\nprint(same)\n",
        "float-equality",
        {"use isclose": "True", "set a tolerance": "True", "compare rounded": "True"},
    ),
    "unsorted": (
        NP + "x = np.array([3.0, 2.0, 1.0])\ny = x * 2\nz = np.interp(1.5, x, y)\nprint(z)\n",
        "unsorted",
        {"sort first": "3.0", "turn round": "3.0"},
    ),
    "exp less one": (
        "import math\nx = 1e-12\ny = math.exp(x) - 1.0\nprint(y)\n",
        "cancellation",
        {"use expm1": "1.0000000000005e-12", "use a series": "1.0000000000005e-12"},
    ),
    "log of one and": (
        "import math\nx = 1e-12\ny = math.log(1.0 + x)\nprint(y)\n",
        "cancellation",
        {"use log1p": "9.999999999995e-13", "use a series": "9.999999999995e-13"},
    ),
    "one less cos": (
        "import math\nx = 1e-8\ny = (1.0 - math.cos(x)) / x**2\nprint(y)\n",
        "cancellation",
        {"use the half angle": "0.5", "use a series": "0.5"},
    ),
    "roots": (
        "import math\nx = 1e15\ny = math.sqrt(x + 1.0) - math.sqrt(x)\nprint(y)\n",
        "cancellation",
        {"multiply by the sum": "1.5811388300841893e-08", "use a series": "1.581138830084189e-08"},
    ),
    "quadratic": (
        "import math\na, b, c = 1.0, 1e8, 1.0\nr = (-b + math.sqrt(b*b - 4*a*c)) / (2*a)\nprint(r)\n",
        "cancellation",
        {"take the stable root": "-1e-08", "divide by the other": "-1e-08"},
    ),
}


async def audited(path: str) -> list:
    launch = Launch(path, cwd=str(Path(path).parent), audit=[], pause_on=set(), go_on=True, capture=True)
    return (await check(launch)).findings or []


@pytest.mark.parametrize("name", CASES)
async def test_each_repair_of_a_finding_mends_it(name: str, script) -> None:
    text, rule, wanted = CASES[name]
    path = script(text)
    finding = next(f for f in await audited(path) if f.rule == rule)
    found = finding_repairs(finding, text)
    assert [one.name for one in found] == list(wanted)
    for number, one in enumerate(found):
        mended = Mended(finding.line, finding.line, one.text).applied(text)
        end = await to_the_end(Launch(path, cwd=str(Path(path).parent)), {path: mended})
        assert end.lines == [wanted[one.name]], one
        after = await audited(script(mended, f"mended{number}.py"))
        assert rule not in [f.rule for f in after], one


async def test_no_repair_is_invented_for_other_findings(script) -> None:
    text = NP + "x = np.array([1.0])\ny = x\ny[0] = 2.0\nn = int(0.29 * 100)\nprint(x, y, n)\n"
    for finding in await audited(script(text)):
        assert finding_repairs(finding, text) == []


# -- to the end ---------------------------------------------------------------------------------------------

LATER = NP + (
    "heads = [0.4, -0.1, 0.3]\nflows = []\nfor head in heads:\n    flow = np.sqrt(head)\n    flows.append(flow)\n"
    "total = float(np.nansum(flows))\nworst = 1.0 / (np.min(flows) + 0.0)\nname = 'north'\nprint(total)\n"
)


async def test_a_repair_is_tried_to_the_end_beside_the_present_results(script) -> None:
    path = script(LATER)
    launch = Launch(path, cwd=str(Path(path).parent))
    (pause,) = (await check(launch)).pauses
    before = await to_the_end(launch, {})
    assert [facts.line for facts in before.trips] == [5]
    said = {}
    for one in repairs(pause, LATER):
        mended = Mended(pause.line, pause.end_line, one.text).applied(LATER)
        said[one.name] = compared(await to_the_end(launch, {path: mended}), before)
    assert "with 1 trip" in said["clamp to zero"][0]
    assert said["clamp to zero"][1].startswith("now also: inf created at line 8")
    assert "total = 0.86395, was 1.18018" in said["keep the sign"]
    assert said["leave missing"][1].startswith("now also: 1 nan among the 3 values of flows makes np.min(flows) nan")
    assert said["leave missing"][2:] == ["all results of the module are as before"]
    assert "worst = 1.82574, was nan" in said["leave the pass out"]
    assert Path(path).read_text() == LATER


async def test_a_try_that_does_not_reach_the_end_says_how(script) -> None:
    path = script("x = 1\nprint(x)\n")
    end = await to_the_end(Launch(path, cwd=str(Path(path).parent)), {path: "import sys\nsys.exit(3)\n"})
    assert end.failed == "it ends with status 3"
    assert compared(end, End(lines=["1"]))[0].startswith("not to its end: it ends with status 3")


async def test_standard_input_is_given_again(script) -> None:
    path = script("x = float(input())\nprint(x)\n")
    end = await to_the_end(Launch(path, cwd=str(Path(path).parent)), {}, given="2.5\n")
    assert end.lines == ["2.5"]
    assert end.results == {"x": "2.5"}


async def test_results_that_the_user_has_named_stand_beside_the_present_ones(script) -> None:
    path = script(LATER)
    launch = Launch(path, cwd=str(Path(path).parent))
    wanted = [Result("total"), Result("len(flows)"), Result("missing")]
    before = await to_the_end(launch, {}, wanted=wanted)
    now = await to_the_end(launch, {path: LATER.replace("np.sqrt(head)", "np.sqrt(abs(head))")}, wanted=wanted)
    said = compared(now, before)
    assert said[1:3] == ["total = 1.49641, was 1.18018", "len(flows) = 3, as before"]
    assert said[3].startswith("missing = not known: NameError") and said[3].endswith("as before")
    assert [one for one in said if one.startswith("total")] == said[1:2]


@pytest.mark.parametrize(
    "now, before, said",
    [
        (["a", "c"], ["a", "b"], "output line 2: c · was: b"),
        (["a"], ["a", "b"], "output line 2: missing · was: b"),
        (["a", "b"], ["a"], "output line 2: b · was: missing"),
    ],
)
def test_the_first_line_that_differs(now: list[str], before: list[str], said: str) -> None:
    assert compared(End(lines=now), End(lines=before))[-1] == said
