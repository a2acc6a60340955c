"""A complex number that a power of real ones gives pauses where it is made."""

from __future__ import annotations

import pytest
from driving import running

from uneven_sum.check import check
from uneven_sum.client import Launch

SPILL = """
def spill(level, crest=1.5, width=12.0):
    return 1.7 * width * (level - crest) ** 1.5

total = 0.0
for level in (2.1, 1.4, 2.2):
    total += spill(level)
print(total > 0)
"""


async def test_a_power_of_a_negative_number(script, interpreter) -> None:
    async with running(script(SPILL), python=interpreter) as run:
        facts = await run.pause()
        assert (facts.reason, facts.line, facts.function) == ("nonfinite", 3, "spill")
        assert facts.headline.startswith("A complex number created at line 3: spill would return ")
        assert facts.culprit.text == "(level - crest) ** 1.5"
        assert facts.headline.endswith("with level - crest = -0.1, a negative number to a fractional power.")
        assert "level = 1.4" in [f"{t.text} = {t.value}" for t in facts.terms]
        after = await run.step("on")  # what follows from it pauses only for its error
        assert after.exception.type == "TypeError" and after.line == 8


MADE = {  # the last line of each is asked
    "x = h ** 0.5": "x would become 8.65956e-17 + 1.41421j",
    "h **= 0.5": "h would become",
    "print(h ** 0.5)": "h ** 0.5 is",
    "x = [v ** 0.3 for v in (1.0, h)]": "v ** 0.3 is",
    "x = pow(h, 0.5)": "x would become",
    "x = 1.0 + abs(2.0 * h ** 1.5)": "2.0 * h ** 1.5 is",
    "x = (h - 1) ** (1 / 3)": "x would become",
    "def f(a=h ** 0.5):\n    pass": "h ** 0.5 is",
    "x = h ** 2": None,
    "x = abs(h) ** 0.5": None,
    "x = complex(h) ** 0.5": None,
    "x = (h + 0j) ** 0.5": None,
    "x = (h ** 0.5).real": None,
    "import cmath\nx = cmath.sqrt(h)\ny = h ** 0.5": None,
    "import numpy as np\nx = np.roots([1.0, 0.0, 1.0])\ny = x ** 0.5": None,
    "import numpy as np\nx = np.fft.rfft([1.0, h])[0] ** 0.5": None,
}


@pytest.mark.parametrize("text", MADE)
async def test_what_is_made_and_what_is_meant(text: str, script) -> None:
    found = (await check(Launch(script(f"h = -2.0\n{text}\n")))).pauses
    assert [MADE[text] in p.headline for p in found] == [True] * bool(MADE[text])
    assert all(p.headline.startswith("A complex number created at line 2") for p in found)


async def test_of_many_complex_results_one_is_looked_at(script) -> None:
    text = "h = [-1.0, -2.0]\nfor v in h:\n    x = v ** 0.5\n    y = x ** 0.5 + v\nprint(y)\n"
    async with running(script(text)) as run:
        facts = await run.pause()
        assert facts.line == 3 and facts.loops[0].number == 1
        assert await run.step("on") is None


BLOCKS = """
def f(step):
    total = 0.0
    for k in range(200):
        x = (1.0 - step * k) ** 0.5
        y = abs(x) * 2.0
        total = total + y * 0.3
    return total

print(f(0.01))
"""


async def test_in_arithmetic_that_is_checked_at_once(script, interpreter) -> None:
    async with running(script(BLOCKS), python=interpreter) as run:
        facts = await run.pause()
        assert (facts.line, facts.loops[0].number, facts.culprit.text) == (5, 102, "(1.0 - step * k) ** 0.5")
        assert await run.step("on") is None
        text = BLOCKS.replace("print(f(0.01))", "print(f(0.001))")
    async with running(script(text), python=interpreter) as run:
        assert await run.pause() is None


async def test_another_value_may_take_its_place(script) -> None:
    async with running(script("h = -2.0\nx = h ** 0.5\nprint('x is', x)\n")) as run:
        facts = await run.pause()
        assert facts.replace and facts.retry
        await run.client.replace("0.0")
        assert (await run.pause()).line == 3
        assert await run.step("on") is None
        assert "x is 0.0" in run.out


async def test_all_digits_where_an_argument_is_at_the_edge(script) -> None:
    text = "import math\nx = 1.0000000000000002\ny = math.acos(x)\n"
    (pause,) = (await check(Launch(script(text)))).pauses
    assert "with x = 1.0000000000000002, an argument outside -1 … 1 by rounding alone" in pause.headline
    (pause,) = (await check(Launch(script(text.replace("1.0000000000000002", "-1.5"))))).pauses
    assert "with x = -1.5, an argument outside -1 … 1." in pause.headline
