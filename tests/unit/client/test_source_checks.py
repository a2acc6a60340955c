"""What is found in a script's text before it runs."""

from __future__ import annotations

import pytest

from uneven_sum.client.before import KINDS, findings
from uneven_sum.demo import CASES, find


def kinds(text: str, off: frozenset[str] = frozenset()) -> list[tuple[int, str, bool]]:
    return [(f.line, f.kind, f.error) for f in findings(text.encode(), "script.py", off)]


USED = frozenset({"unused"})


@pytest.mark.parametrize(
    ("text", "line", "said"),
    [
        ("x = (1 +\n", 1, "the `(` is never closed: its `)` is missing"),
        ("x = 1)\n", 1, "this `)` closes nothing that was opened"),
        ("x = [1, (2]\n", 1, "`]` cannot close the `(`"),
        ("for k in range(3)\n    pass\n", 1, "a `:` is missing here"),
        ("if 1:\nx = 2\n", 2, "the `if` statement of line 1 has no indented block under it"),
        ("x = 1\n  y = 2\n", 2, "indented more than its block"),
        ("if 1:\n        x = 1\n    y = 2\n", 3, "fits no block around it"),
        ("x = 'abc\n", 1, "its closing quote is missing"),
        ("if x = 3:\n    pass\n", 1, "is `==` meant here?"),
        ("x = 1\0\n", 1, ""),
    ],
)
def test_syntax_errors_in_plain_words(text: str, line: int, said: str) -> None:
    (found,) = findings(text.encode(), "script.py")
    assert (found.kind, found.error, found.line) == ("syntax", True, line) and said in found.text


def test_names_and_their_nearest() -> None:
    text = (
        "import os\nlevel = 1.0\ndef f(stage):\n    unused = stage\n    return levle + stgae\nprint(f(2), lenn([1]))\n"
    )
    found = findings(text.encode(), "script.py")
    errors = [f.text for f in found if f.error]
    assert errors == [
        "`levle` is not defined; is `level` meant?",
        "`stgae` is not defined; is `stage` meant?",
        "`lenn` is not defined; is `len` meant?",
    ]
    assert [f.text for f in found if not f.error] == [
        "`os` is imported and never used",
        "`unused` is assigned and never used",
    ]
    assert found[: len(errors)] == [f for f in found if f.error], "errors first, hints apart"


SLIPS = {
    "x == np.nan": ("nan", True),
    "x != float('nan')": ("nan", True),
    "x < math.nan": ("nan", True),
    "x is np.nan": ("nan", False),
    "np.isnan(x)": None,
    "x == 0.1": ("equality", False),
    "x / 3 == y": ("equality", False),
    "math.sqrt(x) != y": ("equality", False),
    "x == 0.0": None,
    "x == 0.25": None,
    "x == 1e3": None,
    "x / 2 == math.inf": None,
    "x == y": None,
    "x == 'abc'": None,
    "x % 2 == 1": None,
    "(x / 'stage.csv') == y": None,
    "x <= 0.1": None,
}


@pytest.mark.parametrize("text", SLIPS)
def test_comparisons(text: str) -> None:
    source = f"import math\nimport numpy as np\nfrom somewhere import x, y\nprint(math, np)\nprint({text})\n"
    wanted = SLIPS[text]
    assert kinds(source, USED) == ([(5, *wanted)] if wanted else [])


def test_names_that_are_given_floats() -> None:
    text = "a = 1.5\nb = a / 7\nc = b * 2\nd = 3\nprint(c == a, d == 3, a == d)\nfor a in (1, 2):\n    pass\n"
    assert kinds(text) == [(5, "equality", False)], "a is a float only as long as nothing else is given to it"


RANGES = {
    "for i in range(len(a)):\n    s += a[i + 1]\n": [(5, True)],
    "for i in range(len(a)):\n    s += b[i + 1]\n": [(5, False)],
    "n = len(a)\nfor i in range(n):\n    s += a[i + 1] - a[i]\n": [(6, True)],
    "for i in range(a.size):\n    s += a[i - 1]\n": [(5, False)],
    "for i in range(a.shape[0]):\n    s += a[i + LAG, 0]\n": [(5, True)],
    "for i in range(len(a) - 1):\n    s += a[i + 1]\n": [],
    "for i in range(1, len(a)):\n    s += a[i] - a[i - 1]\n": [],
    "for i in range(1, len(a)):\n    s += a[i] - a[i - 2]\n": [(5, False)],
    "for i in range(len(a) + 1):\n    s += a[i - 1]\n": [(5, False)],
    "for i in range(len(a) - LAG):\n    s += a[i + LAG]\n": [],
    "for i in range(len(a)):\n    if i + 1 < len(a):\n        s += a[i + 1]\n": [],
    "for i in range(len(a)):\n    if i == 0:\n        continue\n    s += a[i - 1]\n": [],
    "for i in range(len(a)):\n    if a[i] < 1:\n        continue\n    s += a[i + 1]\n": [(7, True)],
    "for i in range(len(a)):\n    s += a[i + 1] if i < 5 else 0\n": [],
    "for i in range(len(a)):\n    try:\n        s += a[i + 1]\n    except IndexError:\n        break\n": [],
    "for i in range(10):\n    s += a[i + 1]\n": [],
    "for i in range(len(a)):\n    s += a[2 + i]\n": [(5, True)],
}


@pytest.mark.parametrize("text", RANGES)
def test_subscripts_that_leave_their_loop(text: str) -> None:
    source = "LAG = 2\nfrom somewhere import a, b\ns = 0\n" + text + "print(a, b, s, LAG)\n"
    assert [(line, sure) for line, kind, sure in kinds(source) if kind == "range"] == RANGES[text]


SWALLOWED = {
    "except:\n    pass": True,
    "except Exception:\n    continue": True,
    "except (ValueError, Exception):\n    x = float('nan')": True,
    "except Exception as e:\n    print(e)": False,
    "except ValueError:\n    pass": False,
    "except Exception:\n    raise": False,
    "except BaseException:\n    x = -9999": True,
}


@pytest.mark.parametrize("text", SWALLOWED)
def test_an_except_that_swallows_everything(text: str) -> None:
    handler = "\n".join("    " + line for line in text.split("\n"))
    source = f"for line in open('stage.csv'):\n    try:\n        x = float(line)\n{handler}\n    print(x)\n"
    assert ("swallow" in [k for _, k, _ in kinds(source)]) is SWALLOWED[text]


def test_each_kind_can_be_turned_off() -> None:
    text = "import os\nx = 0.1\nprint(x == 0.3, y, x == float('nan'))\n"
    assert {k for _, k, _ in kinds(text)} == {"unused", "equality", "undefined", "nan"}
    assert kinds(text, frozenset(KINDS)) == []
    assert {k for _, k, _ in kinds(text, frozenset({"unused", "nan"}))} == {"equality", "undefined"}


def test_strange_texts() -> None:
    assert kinds("") == [] and kinds("# -*- coding: latin-1 -*-\nx = 1\n") == []
    assert findings("ü = 1\nprint(ü)\n".encode("utf-16"), "x")[0].kind == "syntax"
    assert findings(b"x = 1\n" * 500_000, "x")[0].text.startswith("the text is longer than 2 MB")
    assert [f.kind for f in findings(b"print('\\d')\n", "x")] == ["other"]
    deep = "x = " + "(" * 3000 + ")" * 3000
    assert findings(deep.encode(), "x")[0].error


def test_the_demo_cases_say_what_can_be_seen() -> None:
    found = {name: findings(find(name).read_bytes(), name) for name in CASES}
    assert [(n, f.line, f.kind) for n, fs in found.items() for f in fs] == [
        ("lagged", 28, "range"),
        ("logger", 19, "swallow"),
    ]


@pytest.mark.parametrize(
    ("text", "found"),
    [
        ("df.fillna(0)\n", ["result"]),
        ("xs = [3, 1]\nsorted(xs)\nprint(xs)\n", ["result"]),
        ("total = 1\ntotal == 2\nprint(total)\n", ["result"]),
        ("df.fillna(0, inplace=True)\nname = ' a '.strip()\nprint(name)\n", []),
        ("grid = [[0] * 3] * 4\nprint(grid)\n", ["shared"]),
        ("row = [0] * 4\nline = '-' * 9\ngrid = [[0] * 3 for _ in range(4)]\nprint(row, line, grid)\n", []),
        ("def add(x, out=[]):\n    out.append(x)\n    return out\nadd(1)\n", ["shared"]),
        ("def show(x, names=[]):\n    print(x, names)\nshow(1)\n", []),
        ("import numpy as np\na = np.zeros(1)\nfor k in range(9):\n    a = np.append(a, k)\nprint(a)\n", ["growing"]),
        (
            "import numpy as np\nparts = []\nfor k in range(9):\n    parts.append(k)\na = np.array(parts)\nprint(a)\n",
            [],
        ),
    ],
)
def test_results_thrown_away_shared_lists_and_growing_arrays(text: str, found: list[str]) -> None:
    kinds = [f.kind for f in findings(text.encode(), "gauge.py") if f.kind in ("result", "shared", "growing")]
    assert kinds == found
