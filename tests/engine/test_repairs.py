"""Versions of a line for each known reason: each is tried at its pause, and put into the file it runs."""

from __future__ import annotations

import pytest
from driving import running

from uneven_sum.check import check
from uneven_sum.client import Launch
from uneven_sum.client.repairs import repairs

NP = "import numpy as np\n"
LOOP = "out = []\nfor k, x in enumerate({}):\n    y = {}\n    out.append(y)\nprint(len(out))\n"
# A script, and the names of its repairs with what each gives: text of the value, or None where the pass is left out.
CASES: dict[str, tuple[str, dict[str, str | None]]] = {
    "power": (
        NP + LOOP.format("np.array([2.0, -0.5, 1.0])", "3.0 * x ** 1.5"),
        {"clamp to zero": "0.0", "leave missing": "nan", "leave the pass out": None, "keep the sign": "-1.06066"},
    ),
    "root of an array": (
        NP + "x = np.array([4.0, -9.0])\ny = np.sqrt(x) + 1.0\nprint(y.sum())\n",
        {
            "clamp to zero": "2 cells float64, [3.0 1.0]",
            "leave missing": "2 cells float64, [3.0 nan]",
            "keep the sign": "2 cells float64, [3.0 -2.0]",
        },
    ),
    "logarithm": (
        NP + LOOP.format("np.array([2.0, 0.0, 1.0])", "np.log(x) * 2.0"),
        {"set a lower limit": "-55.262", "add one": "0.0", "leave missing": "nan", "leave the pass out": None},
    ),
    "division": (
        LOOP.format("[2.0, 0.0, 1.0]", "1.0 / x"),
        {"count as zero": "0.0", "leave missing": "nan", "leave the pass out": None, "set a lower limit": "1e+12"},
    ),
    "division of arrays": (
        NP + "x = np.array([4.0, 0.0])\ny = 2.0 / x\nprint(y.sum())\n",
        {
            "count as zero": "2 cells float64, [0.5 0.0]",
            "leave missing": "2 cells float64, [0.5 nan]",
            "set a lower limit": "2 cells float64, [0.5 2e+12]",
        },
    ),
    "exponential": (
        NP + "x = np.float64(800.0)\ny = np.exp(x)\nprint(y)\n",
        {"set an upper limit": "1.01423e+304", "leave missing": "nan"},
    ),
    "arc": (
        NP + "x = np.float64(1.0000001)\ny = np.arccos(x)\nprint(y)\n",
        {"clamp to -1 … 1": "0.0", "leave missing": "nan"},
    ),
    "index": (
        "xs = [1.0, 2.0]\n" + LOOP.format("xs + [0.0]", "xs[k] * 2.0"),
        {"leave the pass out": None, "take the last": "4.0", "begin again": "2.0"},
    ),
    "key": (
        "level = {'north': 1.0, 'south': 2.0}\ny = level['nroth']\nprint(y)\n",
        {"take north": "1.0", "take south": "2.0"},
    ),
    "an index that is a float": (
        NP + "xs, k = np.array([1.0, 2.0, 4.0]), 1.6\ny = xs[k]\nprint(y)\n",
        {"make it an integer": "2.0", "round it": "4.0"},
    ),
    "indices that are floats": (
        NP + "xs, k = np.array([1.0, 2.0, 4.0]), np.array([0.0, 2.0])\ny = xs[k]\nprint(y)\n",
        {"make them integers": "2 cells float64, [1.0 4.0]"},
    ),
    "a list of slices": (
        NP + "xs, k = np.ones((4, 4)), [slice(0, 2), slice(1, 2)]\ny = xs[k]\nprint(y.shape)\n",
        {"make it a tuple": "2 x 1 cells float64, 1.0 … 1.0, mean 1.0"},
    ),
    "a name of a file": (
        "import os\nos.chdir(os.path.dirname(__file__))\nopen('levels.csv', 'w').write('4.5')\ny = open('level.csv').read()\nprint(y)\n",
        {"read levels.csv": "'4.5'"},
    ),
    "text beside a number": (
        "x = '3'\ny = x + 1\nprint(y)\n",
        {"convert to float": "4.0", "convert to int": "4", "join as texts": "'31'"},
    ),
    "shapes": (
        NP + "a = np.ones(3)\nb = np.ones((3, 4))\nc = a * b\nprint(c.shape)\n",
        {"make a a column": "3 x 4 cells float64", "turn b": "4 x 3 cells float64"},
    ),
    "lengths": (
        NP + "a = np.ones(3)\nb = np.ones(4)\nc = a - b\nprint(c.shape)\n",
        {"make a a column": "3 x 4 cells float64", "cut to one length": "3 cells float64"},
    ),
    "swapped axes": (
        NP + "a = np.ones((3, 4))\nb = np.ones((4, 3))\nc = a - b\nprint(c.shape)\n",
        {"turn a": "4 x 3 cells float64", "turn b": "3 x 4 cells float64"},
    ),
    "sum of exponentials": (
        NP + "x = np.array([1000.0, 1001.0])\ns = np.log(np.sum(np.exp(x)))\nprint(s)\n",
        {"take the largest out": "1001.31", "set an upper limit": "700.693", "leave missing": "nan"},
    ),
    "squares": (
        NP + "a = np.float64(1e200)\nb = 2.0\nh = np.sqrt(a**2 + b**2)\nprint(h)\n",
        {"use hypot": "1e+200", "scale by the larger": "1e+200"},
    ),
    "total": (
        NP + "flow = np.array([2.0, np.nan, 4.0])\nm = 2.0 * np.mean(flow)\nprint(m)\n",
        {"leave nan out": "6.0"},
    ),
    "total of a method": (
        NP + "flow = np.array([[2.0, np.nan], [4.0, 5.0]])\nm = flow.sum(axis=None)\nprint(m)\n",
        {"leave nan out": "11.0", "count as zero": "11.0"},
    ),
    "state": (
        NP + "volume = 1.0\nfor q in np.array([2.0, np.nan, 4.0]):\n    volume += q\nprint(volume)\n",
        {"leave the pass out": None, "count as zero": "3.0"},
    ),
    "total of pairs": (
        NP
        + "day = np.arange(4.0)\nflow = np.array([0.0, np.nan, 4.0, 6.0])\nline = np.polyfit(day, flow, 1)\nprint(line)\n",
        {"leave pairs out": "2 cells float64, [2.0 "},
    ),
    "text": (
        LOOP.format("['1.5', '2,5']", "float(x) * 2.0"),
        {"read the comma as a point": "5.0", "leave missing": "nan", "leave the pass out": None},
    ),
    "a misspelt function": (
        NP + "x = np.arrange(3)\nprint(x.sum())\n",
        {"take arange": "3 cells int64, [0 1 2]"},
    ),
    "a key as an attribute": ("gauge = {'level': 3.0}\nx = gauge.level\nprint(x)\n", {"read the key": "3.0"}),
    "a chain of comparisons": (
        NP + "v = np.array([1.0, 2.0])\nx = v[0 < v < 2]\nprint(x)\n",
        {"compare by cell": "1 cell float64, [1.0]"},
    ),
    "and between arrays": (
        NP + "v = np.array([1.0, 2.0])\nx = v[v > 0 and v < 2]\nprint(x)\n",
        {"compare by cell": "1 cell float64, [1.0]"},
    ),
    "not before an array": (
        NP + "v = np.array([True, False])\nx = v[not v]\nprint(x)\n",
        {"compare by cell": "1 cell bool, 0 true"},
    ),
    "& before comparisons": (
        NP + "v, w = np.array([1.0, 2.0]), np.array([3.0, 1.0])\nx = v[v > 1 & w < 2]\nprint(x)\n",
        {"compare by cell": "1 cell float64, [2.0]"},
    ),
    "a product of equal shapes": (
        NP + "a, b = np.ones((2, 3)), np.ones((2, 3))\nx = a @ b\nprint(x)\n",
        {"turn a": "3 x 3 cells float64", "turn b": "2 x 2 cells float64"},
    ),
    "another encoding": (
        "p = __file__ + '.txt'\nopen(p, 'wb').write('Flu\\xdf'.encode('cp1252'))\nx = open(p).read()\nprint(len(x))\n",
        {"read cp1252": "'Fluß'"},
    ),
    "a power of integers": (
        NP + "v = np.array([1, 2])\nx = v ** -1\nprint(x)\n",
        {"use floats": "2 cells float64, [1.0 0.5]"},
    ),
    "a frame by place": (
        "import pandas as pd\nf = pd.DataFrame({'depth': [1.0], 'flow': [2.0]})\nx = f[:, 1:]\nprint(x)\n",
        {"take by place": "1 rows x 1 column: flow"},
    ),
    "several columns": (
        "import pandas as pd\nf = pd.DataFrame({'depth': [1.0], 'flow': [2.0]})\nx = f['flow', 'depth']\nprint(x)\n",
        {"take the columns": "1 rows x 2 columns: flow, depth"},
    ),
    "a misspelt name": ("level = 3.0\nx = levle * 2\nprint(x)\n", {"take level": "6.0"}),
    "a condition on cells": (
        NP + "a = np.array([1.0, -2.0])\nif a > 0:\n    print(1)\n",
        {"ask for all": "False", "ask for any": "True"},
    ),
    "a choice by cells": (
        NP + "a = np.array([1.0, -2.0])\nx = a if a > 0 else 0.0\nprint(x)\n",
        {"choose by cell": "2 cells float64, [1.0 0.0]"},
    ),
    "the larger of arrays": (
        NP + "a = np.array([1.0, -2.0])\nx = max(a, 0.0)\nprint(x)\n",
        {"use np.maximum": "2 cells float64, [1.0 0.0]"},
    ),
    "a shape": (NP + "x = np.ones(2, 1)\nprint(x)\n", {"make it a shape": "2 x 1 cells float64"}),
    "arrays to join": (
        NP + "a, b = np.ones(1), np.zeros(1)\nx = np.concatenate(a, b)\nprint(x)\n",
        {"put them in a list": "2 cells float64, [1.0 0.0]"},
    ),
    "math of an array": (
        NP + "import math\na = np.zeros(2)\nx = math.exp(a)\nprint(x)\n",
        {"use np.exp": "2 cells float64, [1.0 1.0]"},
    ),
    "a frame as a condition": (
        "import pandas as pd\nf = pd.DataFrame({'q': [1.0]})\nif f:\n    print(1)\n",
        {"ask for rows": "True"},
    ),
    "a generator by its place": (
        "g = (k * 2.0 for k in range(3))\nx = g[1]\nprint(x)\n",
        {"make it a list": "2.0"},
    ),
    "objects in arithmetic": (
        NP + "a = np.array([1, 4], dtype=object)\nx = np.sqrt(a) * 2\nprint(x)\n",
        {"make them floats": "2 cells float64, [2.0 4.0]"},
    ),
    "a half": ("for k in range(5 / 2):\n    print(k)\n", {"divide to integers": "range"}),
    "a count": ("n = 2.0\nfor k in range(n):\n    print(k)\n", {"make it an integer": "range"}),
    "a loop over a number": ("n = 2\nfor k in n:\n    print(k)\n", {"count up to it": "range"}),
    "a list in arithmetic": (NP + "q = [1, 2]\nx = q * 0.5\nprint(x)\n", {"make it an array": "2 cells float64"}),
    "two indices of a list": ("q = [[1, 2]]\nx = q[0, 1]\nprint(x)\n", {"index twice": "2"}),
    "a mask of a list": (NP + "q = [1, 2]\nx = q[[0, 1]]\nprint(x)\n", {"make it an array": "2 cells int64"}),
    "an array that is called": (NP + "a = np.ones(3)\nx = a(0)\nprint(x)\n", {"take by index": "1.0"}),
    "a value that is called": (NP + "a = np.ones(3)\nx = a.shape()\nprint(x)\n", {"leave () out": "(3,)"}),
    "a function that is indexed": ("def g(x): return x\nx = g[2]\nprint(x)\n", {"call it": "2"}),
    "a mean of texts": (
        "import pandas as pd\nf = pd.DataFrame({'q': [1.0], 'gauge': ['a']})\nx = f.mean()\nprint(x)\n",
        {"leave texts out": "1 row float64"},
    ),
    "a power": ("x = 2.0 ^ 2 + 1\nprint(x)\n", {"take the power": "5.0"}),
    "a name of Python 2": ("for k in xrange(3):\n    print(k)\n", {"take range": "range"}),
    "a name that has changed": (NP + "x = np.product([2, 3])\nprint(x)\n", {"take prod": "6"}),
    "a keyword that has changed": (
        "import io\nimport pandas as pd\nx = pd.DataFrame({'q': [1.0]}).to_csv(None, line_terminator=';')\nprint(x)\n",
        {"take lineterminator": "',q;0,1.0;'"},
    ),
    "a key in a condition": (
        "d = {'stage': 2.0}\nk = 1\nif k < 0:\n    pass\nelif d['stgae'] > k:\n    print(k)\n",
        {"take stage": "True"},
    ),
    "a key in the head of a loop": (
        "d = {'stage': [2.0]}\nfor q in d['stgae']:\n    print(q)\n",
        {"take stage": "[2.0]"},
    ),
    "a misspelt keyword": (
        "def area(width, depth=1.0):\n    return width * depth\nx = area(2.0, dept=3.0)\nprint(x)\n",
        {"take depth": "6.0"},
    ),
}


@pytest.mark.parametrize("name", CASES)
async def test_each_repair_gives_what_it_says(name: str, script) -> None:
    text, wanted = CASES[name]
    path = script(text)
    async with running(path, pause_on={"error", "nonfinite"}) as run:
        facts = await run.pause()
        found = repairs(facts, text)
        assert [one.name for one in found] == list(wanted), facts.headline
        for one in found:
            tried = (await run.client.try_change(0, None, one.text))["tried"]
            assert not tried["failed"], (one, tried)
            last = tried["statements"][-1]
            value = last["terms"][0]["value"] if last["terms"] else last["value"]
            expected = wanted[one.name]
            assert value.startswith("does not run: the pass is left out" if expected is None else expected), (
                one,
                value,
            )


@pytest.mark.parametrize("name", CASES)
async def test_each_repaired_script_runs_to_its_end(name: str, script) -> None:
    text, _ = CASES[name]
    (pause,) = (await check(Launch(script(text), pause_on={"error", "nonfinite"}))).pauses
    lines = text.split("\n")
    for number, one in enumerate(repairs(pause, text)):
        old = lines[pause.line - 1]
        indent = old[: len(old) - len(old.lstrip())]
        new = [indent + line for line in one.text.split("\n")]
        mended = "\n".join([*lines[: pause.line - 1], *new, *lines[pause.line :]])
        outcome = await check(Launch(script(mended, f"mended{number}.py"), pause_on={"error", "nonfinite"}))
        if one.name == "leave missing" and outcome.pauses:  # later steps do not skip nan: that is said
            assert [p.culprit.reason_kind for p in outcome.pauses] == ["lost-total"]
            continue
        assert outcome.exit_status == 0, (one, outcome.pauses)
        assert not outcome.pauses, (one, outcome.pauses[0].headline)


async def test_a_pass_of_a_while_loop_is_not_left_out(script) -> None:
    """`continue` would leave out the step to the next pass, too."""
    text = "k, y = 3, 0.0\nwhile k > -2:\n    y = y + 1.0 / k\n    k = k - 1\n"
    (pause,) = (await check(Launch(script(text)))).pauses
    assert [one.name for one in repairs(pause, text)] == ["count as zero", "leave missing", "set a lower limit"]


async def test_no_repair_is_invented(script) -> None:
    for text in ("x = [1.0]\nx.sort(key=3)\n", "x = {}\nx[[]] = 1\n", "raise ValueError('no')\n"):
        (pause,) = (await check(Launch(script(text)))).pauses
        assert repairs(pause, text) == []
