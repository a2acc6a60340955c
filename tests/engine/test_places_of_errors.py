"""Errors in every part of a statement: each pauses at its line, with the term that raised."""

from __future__ import annotations

import pytest
from driving import running
from places import InOneScript, Places

from uneven_sum.check import check
from uneven_sum.client import Launch

MARK = "  # raises"
TERM = "d['x']"
# Bodies by name; a mark ends the line that raises where that is not the only one with the term.  Then the culprit,
# where it is another one.
PLACES: Places = {
    "elif": ("if k < 0:\n    pass\nelif d['x'] > 1:\n    pass", TERM),
    "second elif": ("if k < 0:\n    pass\nelif k < 0:\n    pass\nelif k == 1 and d['x'] > 1:\n    pass", TERM),
    "elif over two lines": ("if k < 0:\n    pass\nelif (k == 1 and  # raises\n      d['x'] > 1):\n    pass", TERM),
    "body of an elif": ("if k < 0:\n    pass\nelif k == 1:\n    print(d['x'])", TERM),
    "elif in a loop": ("for q in range(3):\n    if q < 0:\n        pass\n    elif d['x'] > 1:\n        pass", TERM),
    "division in an elif": ("if k < 0:\n    pass\nelif 1.0 / (k - 1) > 1:  # raises\n    pass", "1.0 / (k - 1)"),
    "guard": ("match k:\n    case 0:\n        pass\n    case n if d['x']:\n        pass", TERM),
    "subject": ("match d['x']:\n    case 0:\n        pass", TERM),
    "decorator": ("@d['x']\ndef f():\n    pass", TERM),
    "second decorator": ("@abs\n@d['x']\ndef f():\n    pass", TERM),
    "default": ("def f(a, b=d['x']):\n    pass", TERM),
    "keyword default": ("def f(a, *, b=d['x']):\n    pass", TERM),
    "default of a lambda": ("f = lambda q=d['x']: q", TERM),
    "base": ("class A(d['x']):\n    pass", TERM),
    "keyword of a class": ("class A(metaclass=d['x']):\n    pass", TERM),
    "body of a class": ("class A:\n    y = d['x']", TERM),
    "second manager": ("with open(__file__) as a, d['x'] as b:\n    pass", TERM),
    "target of a loop": ("for d['a']['b'] in [1]:  # raises\n    pass", "d['a']"),
    "condition of a comprehension": ("y = [q for q in range(3) if d['x']]", TERM),
    "sequence of a comprehension": ("y = [q for q in d['x']]", TERM),
    "second sequence of a comprehension": ("y = [q + p for q in range(2) for p in d['x']]", TERM),
    "generator": ("y = sum(d['x'] for q in range(2))", TERM),
    "key function": ("y = sorted([1, 2], key=lambda q: d['x'])", TERM),
    "text": ("y = f\"level {d['x']:.2f}\"", TERM),
    "message of an assertion": ("assert k > 1, d['x']", TERM),
    "deletion": ("del d['x']", TERM),
    "in place": ("d['x'] += 1", TERM),
    "spread": ("y = {**d['x']}", TERM),
    "arguments": ("print(*d['x'])", TERM),
    "walrus": ("if (y := d['x']) > 1:\n    pass", TERM),
    "yielded": ("def f():\n    yield d['x']\nlist(f())", TERM),
    "cause": ("raise ValueError(k) from d['x']", TERM),
    "slice": ("y = [1, 2][d['x']:]", TERM),
    "attribute stored": ("k.level = 1  # raises", "k.level"),
    "after a semicolon": ("y = 1; z = d['x']; w = 3", TERM),
    "body in the line of its head": ("if k: y = d['x']", TERM),
    "asynchronous loop": (
        "import asyncio\nasync def f():\n    async for q in d['x']:\n        pass\nasyncio.run(f())",
        TERM,
    ),
    "annotated": ("y: float = d['x']", TERM),
    "name of a function": ("y = rnage(3)  # raises", "rnage"),
    "name of a function in a loop": ("for q in rnage(3):  # raises\n    pass", "rnage"),
    "name of a function in a comprehension": ("y = [q for q in rnage(3)]  # raises", "rnage"),
    "name of a decorator": ("@cahce  # raises\ndef f():\n    pass", "cahce"),
}
CAUGHT = "def case_{number}():\n    try:\n{body}\n    except Exception:\n        pass\ncase_{number}()\n"


async def test_an_error_is_told_where_it_is_in_its_statement(script, interpreter) -> None:
    """Each in a function of one script, and caught there."""
    all_ = InOneScript(PLACES, "d, k = {'stage': 2.0}, 1\n", CAUGHT, 8, MARK, TERM)
    async with running(script(all_.text), pause_on={"start"}, python=interpreter) as run:
        await run.pause()
        await run.client.session.request("setExceptionBreakpoints", {"filters": ["error", "handled"]})
        await all_.compare(run, await run.step("on"))


@pytest.mark.parametrize("name", ["default", "guard", "second elif", "decorator", "base"])
async def test_an_error_in_a_head_pauses_that_nobody_handles(name: str, script) -> None:
    body, term = PLACES[name]
    text = f"d, k = {{'stage': 2.0}}, 1\n{body}\n"
    (pause,) = (await check(Launch(script(text)))).pauses
    assert (pause.line, pause.culprit.text) == (text[: text.index(TERM)].count("\n") + 1, term)
    assert TERM in pause.statement
    assert pause.trail[-1].line == pause.line


async def test_a_field_of_an_unknown_type_pauses(script) -> None:
    text = "class Gauge:\n    level: flaot\n\ndef f(q: inyt):\n    pass\n"
    (pause,) = (await check(Launch(script(text)))).pauses
    assert (pause.line, pause.culprit.text) == (2, "flaot")
