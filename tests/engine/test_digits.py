"""Shaken runs: the digits that hold, by published cases whose loss is known, and cases that lose nothing."""

from __future__ import annotations

import asyncio
import json
import math
import subprocess
import sys

import pytest

from uneven_sum.check.digits import results_text
from uneven_sum.client import Launch
from uneven_sum.client.digits.runs import Digits, digits

pytestmark = pytest.mark.usefixtures("own_folder")

QUADRATIC = """import math
b = 1e8
r = math.sqrt(b * b - 4)
small = (-b + r) / 2
stable = -2 / (b + r)
print(small)
print(stable)
"""
VARIANCE = """data = [1e8 + 0.1 * (k % 7) for k in range(1000)]
s = s2 = 0.0
for x in data:
    s += x
    s2 += x * x
n = len(data)
mean = s / n
print((s2 - s * s / n) / (n - 1))
print(sum((x - mean) ** 2 for x in data) / (n - 1))
"""
MULLER = """a, b = 4.0, 4.25
for k in range(40):
    a, b = b, 108 - (815 - 1500 / a) / b
print(b)
"""
BESSEL = """x = 1.0
j0, j1 = 0.7651976865579666, 0.4400505857449335
for n in range(1, 15):
    j0, j1 = j1, 2 * n / x * j1 - j0
print(j1)
"""
LOGISTIC = """x = 0.4
for k in range(120):
    x = 3.9 * x * (1 - x)
print(x)
"""
KAHAN = """total = carry = plain = 0.0
for k in range(20_000):
    y = 0.1 - carry
    t = total + y
    carry = (t - total) - y
    total = t
    plain += 0.1
print(total)
print(plain)
"""
NEWTON = """x = 3.0
for k in range(50):
    step = (x * x - 2) / (2 * x)
    x = x - step
    if abs(step) < 1e-15:
        break
print(x)
"""
FLUX = """import numpy as np
level = np.linspace(0.0, 1.0, 101)
flow = 2.5 * level ** 1.5
total = np.sum(flow) * 0.01
print(f"{total:.3f}", flow.max())
"""
STEPS = """dt = 0.1
n = int(1 / dt)
t = 0.0
for k in range(n):
    t = t + dt
print(n, t)
"""


def of(text: str, script, **options: object) -> Digits:
    return asyncio.run(digits(Launch(script(text)), **options))  # type: ignore[arg-type]  # as given


def results(found: Digits) -> list[float]:
    return [r.digits for r in found.judged.results]


def found_at(found: Digits) -> list[tuple[str, int]]:
    return [(f.rule, f.line) for f in found.findings if not f.question]


def test_the_small_root_of_a_quadratic_loses_all_and_its_stable_form_nothing(script) -> None:
    found = of(QUADRATIC, script)
    small, stable = results(found)
    assert small < 1 and stable > 15
    (blamed,) = found.judged.blame
    assert found.judge.text(blamed.held.place) == "-b + r"
    assert blamed.digits < 1 and min(blamed.held.drop.operand_digits) > 15
    assert found_at(found) == [("cancellation", 4)] and found.findings[0].statement == "small = (-b + r) / 2"


def test_a_naive_variance_and_a_shifted_one(script) -> None:
    found = of(VARIANCE, script)
    naive, shifted = results(found)
    assert naive < 1 and shifted > 7
    assert found_at(found) == [("cancellation", 8)] and found.findings[0].term == "s2 - s * s / n"


@pytest.mark.parametrize(
    ("text", "line"), [(MULLER, 3), (BESSEL, 4), (LOGISTIC, 3)], ids=["muller", "bessel", "logistic"]
)
def test_a_recurrence_loses_its_digits_pass_by_pass(text: str, line: int, script) -> None:
    """Muller's ends in the same wrong limit in every run; the true J15(1) is 2.3e-17."""
    found = of(text, script)
    assert results(found)[0] < 1
    assert found_at(found) == [("instability", line)]
    assert 2 < found.findings[0].at_pass < 60  # type: ignore[operator]  # it has one


@pytest.mark.filterwarnings("error::RuntimeWarning")
def test_the_same_on_each_interpreter(script, interpreter: str) -> None:
    """Values that resist: infinities, nan, denormals, integers beyond all floats, objects with operators."""
    text = "class V:\n    def __init__(s, x):\n        s.x = x\n    def __add__(s, o):\n        return V(s.x + o.x)\n"
    text += (
        QUADRATIC + "big = 10 ** 400\nprint(big + 1, 1e308 * 10, float('nan') * 2, 5e-324 / 3, (V(0.1) + V(0.2)).x)\n"
    )
    text += "print((0.1 + 0.2j) * (1.1 - 3j), 2 ** 0.5, 7 // 2.0, 7.5 % 2, 'a' * 2, [1.5] * 2, (-8.0) ** (1 / 3))\n"
    found = asyncio.run(digits(Launch(script(text), python=interpreter)))
    assert found.ended == "" and found.notes == []
    held = {r.text: r.digits for r in found.judged.results}
    assert held["small"] < 1 and held["stable"] > 15 and held["1e308 * 10"] == 16 and held["float('nan') * 2"] == 16
    assert held["(0.1 + 0.2j) * (1.1 - 3j)"] > 15 and held["(V(0.1) + V(0.2)).x"] > 15
    assert found_at(found) == [("cancellation", 9)]


@pytest.mark.parametrize(
    ("text", "least"),
    [(KAHAN, 11), (NEWTON, 15), (FLUX, 14), (STEPS, 15)],
    ids=["compensated sum", "newton", "arrays", "steps"],
)
def test_what_loses_nothing_has_no_finding(text: str, least: float, script) -> None:
    found = of(text, script)
    assert min(results(found)) > least and found.findings == []


def test_a_compensated_sum_holds_more_than_a_plain_one(script) -> None:
    compensated, plain = results(of(KAHAN, script))
    assert compensated > 15 and plain < compensated - 1


def test_hilbert_systems_lose_as_many_digits_as_their_condition_says(script) -> None:
    rows = [4, 6, 8, 10, 12, 14]
    text = "import numpy as np\n" + "".join(
        f"h{n} = np.array([[1 / (i + j + 1) for j in range({n})] for i in range({n})])\n"
        f"print(np.linalg.solve(h{n}, h{n} @ np.ones({n})))\n"
        for n in rows
    )
    import numpy as np

    found = of(text, script)
    held = [r.digits for r in found.judged.results if r.text.startswith("np.linalg.solve")]
    for n, digits_of_n in zip(rows, held, strict=True):
        condition = np.linalg.cond(np.array([[1 / (i + j + 1) for j in range(n)] for i in range(n)]))
        assert abs(digits_of_n - max(0.0, 15.9 - math.log10(condition))) < 2.5, (n, digits_of_n, condition)
    assert {rule for rule, _ in found_at(found)} == {"ill-conditioned"}


def test_a_numerical_derivative_loses_more_with_a_smaller_step(script) -> None:
    text = "import math\ndef f(x):\n    return math.exp(x) * math.sin(x)\n" + "".join(
        f"print((f(1.0 + {h}) - f(1.0 - {h})) / (2 * {h}))\n" for h in ("1e-2", "1e-5", "1e-8", "1e-12")
    )
    found = of(text, script)
    held = results(found)
    assert held == sorted(held, reverse=True)
    for digits_of_h, wanted in zip(held, (14, 11, 8, 4), strict=True):
        assert abs(digits_of_h - wanted) < 1.5
    assert found_at(found) == [("cancellation", 7)]


def test_rounding_decides_a_branch(script) -> None:
    found = of("t = 0.0\nn = 0\nwhile t < 1.0:\n    t += 0.1\n    n += 1\nprint(n, t)\n", script)
    assert ("float-equality", 3) in found_at(found)
    (branch,) = found.judged.branches
    assert branch.at_pass == 11 and "Rounding decides t < 1.0" in found.findings[0].headline


def test_all_that_is_printed_written_or_made_a_text_is_a_result(script) -> None:
    text = "import json, sys\nx = 0.1 * 3\nprint(x)\nprint(f'{x * 2:.3f}', '%.2f' % (x * 4), '{:.1f}'.format(x * 5))\n"
    text += "sys.stdout.write('level ' + str(x * 6) + repr(x * 7) + format(x * 8, '.3f'))\n"
    text += "print(json.dumps({'head': x * 9}), [x * 10, x * 11])\ndef late():\n    return x * 12\nlast = late()\n"
    shown = [r.text for r in of(text, script).judged.results]
    assert shown == ["x", *(f"x * {n}" for n in (2, 4, 5, 6, 7, 8, 9, 10, 11)), "last"]


def test_a_sum_that_is_zero_but_for_rounding_is_a_question(script) -> None:
    text = "import numpy as np\nx = np.linspace(0, 2 * np.pi, 101)\nprint(np.trapezoid(np.sin(x), x))\n"
    found = of(text, script)
    assert found_at(found) == [] and [f.question for f in found.findings] == [True]


def test_what_a_residual_is_called_makes_a_question_and_parts_of_words_do_not(script) -> None:
    text = "import math\nx = 1e12\n{} = math.sqrt(x + 1) - math.sqrt(x)\nprint({})\n"
    for name, question in (("max_error", True), ("terrain", False), ("diffusion", False)):
        found = of(text.format(name, name), script)
        assert [(f.line, f.question) for f in found.findings] == [(3, question)], name
    found = of("import math\nq = 1e-17\nsurprise = -math.log(1 - q)\nprint(surprise)\n", script)
    assert found_at(found) == [("cancellation", 3)]


BOOKS = """\
rain = [0.1 * k for k in range(50)]
level, total_in, total_out = 3.7, 0.0, 0.0
first = level
for p in rain:
    out = 0.3 * level
    level = level + p - out
    total_in += p
    total_out += out
balance = total_in - total_out - (level - first)
print("left", balance)
print("balance", total_in - total_out - level + first)
print(f"not closed: {total_in - total_out - level + first:.3f} m", "%.2f" % (total_in - total_out - level + first))
"""


def test_books_that_balance_hold_their_digits(script) -> None:
    """Beside what they are the difference of, or as they are printed."""
    found = of(BOOKS, script)
    assert found.findings == [] and min(results(found)) > 12
    beside, printed = "beside its operands", "as printed"
    assert [r.beside for r in found.judged.results] == [beside, beside, printed, printed]
    assert ", beside its operands)" in results_text(found)
    unlike = of("a = 0.1 + 0.2\nb = 0.3\nprint(a - b)\n", script)
    assert unlike.findings == [] and min(results(unlike)) > 15


@pytest.mark.parametrize(
    "text",
    [
        "import math\nb = 1e9\nx = -b + math.sqrt(b * b - 4)\nprint(x)\n",
        "import math\nb = 1e9\nr = math.sqrt(b * b - 4)\nprint(r - b)\n",
        "n = 3\ns = t = 0.0\nfor v in (1e9 + 0.1, 1e9 + 0.2, 1e9 + 0.3):\n    s += v\n    t += v * v\n"
        "print(f'{t / n - (s / n) * (s / n):.3f}')\n",
        "def f(a, b):\n    return (a + b) ** 2 - a * a - 2 * a * b\nprint(f'{f(1e8, 1e-2):.6f}')\n",
    ],
    ids=["root", "named root", "variance", "square"],
)
def test_what_cancels_to_nothing_is_no_residual(text: str, script) -> None:
    found = of(text, script)
    assert min(results(found)) < 1.5 and [f.question for f in found.findings] == [False]


def test_unseeded_draws_are_the_same_in_all_runs(script) -> None:
    text = "import random\nimport numpy as np\nrng = np.random.default_rng()\n"
    text += "print(random.random() * 0.3, rng.normal() * 0.3, np.random.rand() * 0.3, random.Random().random() * 0.3)\n"
    assert min(results(of(text, script))) > 15


def test_narrow_floats_are_judged_by_their_own_digits(script) -> None:
    text = "import numpy as np\nx = np.float32(0.1)\ny = x * np.float32(3.0)\nprint(y)\n"
    found = of(text, script)
    assert 6.5 < results(found)[0] < 8 and found.findings == []


def test_a_named_result_and_a_run_that_ends_in_an_error(script) -> None:
    text = "head = 1e8 + 0.1\nloss = head - 1e8\nother = loss * 0\nprint('done')\nprint(other)\n1 / 0\n"
    found = of(text, script, named=frozenset({"loss"}))
    assert [r.digits < 9 for r in found.judged.results if r.named] == [True]
    assert "ZeroDivisionError" in found.ended


def test_the_command(script, tmp_path) -> None:
    path = script(QUADRATIC, "roots.py")
    done = subprocess.run(
        [sys.executable, "-m", "uneven_sum", "digits", "--json", path], capture_output=True, text=True
    )
    told = json.loads(done.stdout)
    assert done.returncode == 1, done.stderr
    assert [r["text"] for r in told["results"]] == ["small", "stable"] and told["results"][0]["digits"] < 1
    (blame,) = told["blame"]
    assert (blame["file"], blame["line"], blame["term"], blame["function"]) == (path, 4, "-b + r", "<module>")
    assert [o["text"] for o in blame["operands"]] == ["-b", "r"] and min(o["digits"] for o in blame["operands"]) > 15
    assert {p["name"] for p in told["places"]} >= {"small", "stable", "r"}
    shown = subprocess.run([sys.executable, "-m", "uneven_sum", "digits", path], capture_output=True, text=True)
    assert "wrong: -b + r has 0.0 digits that hold" in shown.stdout and "Four runs at once" in shown.stderr
    missing = subprocess.run([sys.executable, "-m", "uneven_sum", "digits", "none.py"], capture_output=True, text=True)
    assert missing.returncode == 2 and "There is no file none.py" in missing.stderr


@pytest.mark.parametrize(
    "made", ["np.ma.array([b, b])", "np.matrix([[b, b]])", "xr.DataArray([b, b])", "pd.Series([b, b])", "b * metre"]
)
def test_numbers_of_every_type_are_moved(made: str, script) -> None:
    four = "4.0 * metre**2" if made == "b * metre" else "4.0"
    text = (
        "import numpy as np, pandas as pd, pint, xarray as xr\nmetre = pint.UnitRegistry().metre\nb = 1e8\n"
        f"a = {made}\nroot = (-a + np.sqrt(np.multiply(a, a) - {four})) / 2.0\nprint(root)\n"
    )
    assert results(of(text, script))[0] < 1


def test_types_that_are_not_moved_are_said_to_be(script) -> None:
    found = of("from decimal import Decimal\nexact = Decimal(3) / 7\nprint(exact)\n", script)
    assert results(found) == [] and found.judged.unmeasured == [("exact", "Decimal")]
    assert any("Not measured" in note and "Decimal" in note for note in found.notes)


def test_times_and_texts_that_nothing_shows_are_no_results(script) -> None:
    found = of(
        "import time, timeit\nbegan = time.perf_counter()\ny = sum(0.1 * k for k in range(9))\nprint(y)\n"
        "print(timeit.timeit('1', number=9), timeit.default_timer() - began)\nlabel = f'{y:.3f}'\n",
        script,
    )
    assert [(r.text, r.place.line) for r in found.judged.results] == [("y", 4)]
