"""Results that are not finite in every part of a statement: each pauses at its line, with the term that made it."""

from __future__ import annotations

import pytest
from driving import running
from places import InOneScript, Places

from uneven_sum.check import check
from uneven_sum.client import Launch

MARK = "  # makes"
TERM = "q[0] / q[0]"
HEAD = "import warnings\n\nimport numpy as np\n\nwarnings.simplefilter('ignore')\n"
# Bodies by name; a mark ends the line that pauses where that is not the only one with the term.  Then the culprit, where
# it is another one.
PLACES: Places = {
    "elif": ("if k < 0:\n    pass\nelif q[0] / q[0] > 1:\n    pass", TERM),
    "test of a loop": ("while q[0] / q[0] > 1:\n    pass", TERM),
    "guard": ("match k:\n    case 0:\n        pass\n    case n if q[0] / q[0] > 1:\n        pass", TERM),
    "guard over lines": (
        "match k:\n    case 0:\n        pass\n    case n if (  # makes\n        q[0] / q[0] > 1\n    ):\n        pass",
        TERM,
    ),
    "subject": ("match q[0] / q[0]:\n    case 0:\n        pass", TERM),
    "argument of a decorator": (
        "def scaled(by):\n    return lambda f: f\n@scaled(q[0] / q[0])\ndef f():\n    pass",
        TERM,
    ),
    "default": ("def f(a, b=q[0] / q[0]):\n    pass", TERM),
    "keyword default": ("def f(a, *, b=q[0] / q[0]):\n    pass", TERM),
    "default of a lambda": ("f = lambda p=q[0] / q[0]: p", TERM),
    "default of a method": ("class A:\n    def f(self, b=q[0] / q[0]):\n        pass", TERM),
    "keyword of a class": (
        "class M:\n    def __init_subclass__(cls, by):\n        pass\nclass A(M, by=q[0] / q[0]):\n    pass",
        TERM,
    ),
    "body of a class": ("class A:\n    y: float = q[0] / q[0]", TERM),
    "second manager": (
        "from contextlib import nullcontext\nwith nullcontext(1), nullcontext(q[0] / q[0]):\n    pass",
        TERM,
    ),
    "sequence of a loop": ("for x in q / q:  # makes\n    pass", "q / q"),
    "enumerated": ("for n, x in enumerate(q / q):  # makes\n    pass", "q / q"),
    "side by side": ("for x, y in zip(q, q / q):  # makes\n    pass", "q / q"),
    "enumerated in a comprehension": ("y = [x for n, x in enumerate(np.log(q - 1))]  # makes", "np.log(q - 1)"),
    "sequence of a comprehension": ("y = [x for x in q / q]  # makes", "q / q"),
    "condition of a comprehension": ("y = [p for p in range(1) if q[0] / q[0] > p]", TERM),
    "element": ("y = {p: a / a for p, a in enumerate(q)}  # makes", "a / a"),
    "key": ("y = {a / a: p for p, a in enumerate(q)}  # makes", "a / a"),
    "key function": ("y = sorted(q, key=lambda a: a / a)  # makes", "a / a"),
    "text": ('y = f"level {q[0] / q[0]:.2f}"', TERM),
    "text with %": ("y = 'level %.2f' % (q[0] / q[0])", TERM),
    "negated test": ("y = not q[0] / q[0]", TERM),
    "message": ("try:\n    assert k > 1, q[0] / q[0]\nexcept AssertionError:\n    pass", TERM),
    "walrus": ("if (y := q[0] / q[0]) > 1:\n    pass", TERM),
    "yielded": ("def f():\n    yield q[0] / q[0]\nlist(f())", TERM),
    "slice": ("y = [1, 2][0 if q[0] / q[0] > 1 else 1]", TERM),
    "written to": ("y = np.zeros(2)\nnp.divide(q, q, out=y)  # makes", "np.divide(q, q, out=y)"),
    "in place": ("x = np.zeros(2)\nx /= q  # makes", "x /= q"),
    "in the line of its head": ("for p in range(1): y = q[0] / q[0]", TERM),
    "asynchronous": ("import asyncio\nasync def f():\n    return q[0] / q[0]\nasyncio.run(f())", TERM),
    "setter": ("class A:\n    pass\na = A()\na.level = q[0] / q[0]", TERM),
    "array that nothing tests": ("y = q / q  # makes\nprint(y.shape)", "q / q"),
}


CASE = "def case_{number}(q, k=1):\n{body}\ncase_{number}(np.array([0.0, 1.0]))\n"


async def test_a_result_is_told_where_it_is_in_its_statement(script, interpreter) -> None:
    """Each in a function of one script."""
    all_ = InOneScript(PLACES, HEAD, CASE, 4, MARK, TERM)
    async with running(script(all_.text), python=interpreter) as run:
        await all_.compare(run, await run.pause())


async def test_what_was_overwritten_in_place_has_its_reason(script) -> None:
    text = "import numpy as np\nx, q = np.array([0.0, 3.0, 1.0]), np.array([1.0, 0.0, 0.0])\nwith np.errstate(all='ignore'):\n    x /= q\n"
    (pause,) = (await check(Launch(script(text)))).pauses
    assert "x /= q at [1] with q = 0.0, a division by zero" in pause.headline


async def test_the_array_that_is_written_to_is_no_operand(script) -> None:
    text = "import numpy as np\nq, y = np.array([0.0, 1.0]), np.full(2, np.nan)\nwith np.errstate(all='ignore'):\n    np.log(q, out=y)\n"
    (pause,) = (await check(Launch(script(text)))).pauses
    assert "np.log(q, out=y) at [0] with q = 0.0, the logarithm of zero" in pause.headline
    kept = text.replace("out=y)", "out=y, where=q > 0)")
    assert not (await check(Launch(script(kept)))).pauses


SILENT = "import numpy as np\nnp.seterr(all='ignore')\nflow = np.array([0.0, 1.0])\n\ndef f(flow):\n    ratio = flow / flow\n{rest}\n\nf(flow)\n"
TESTED = {
    "a name that a mask is made from is no mask": (
        "    k = [1]\n    wet = np.array(k) > 0\n    return ratio[k], wet",
        True,
    ),
    "cells are picked": ("    return ratio[flow > 0].sum()", False),
    "cells are picked by a name": ("    wet = flow > 0\n    return ratio[wet].sum()", False),
    "cells are picked by two": ("    return ratio[(flow > 0) & (flow < 2)].sum()", False),
    "cells are set": ("    ratio[flow == 0] = 0.0\n    return ratio.sum()", False),
    "what follows is filled": ("    weight = 1.0 - ratio * 2\n    return np.nan_to_num(weight).sum()", False),
    "what follows is picked from": ("    weight = -ratio\n    return weight[flow > 0].sum()", False),
    "one cell is read": ("    return ratio[1]", True),
    "cells are picked by numbers": ("    k = [1]\n    return ratio[k].sum()", True),
    "another one is filled": ("    other = np.nan_to_num(flow)\n    return ratio.shape, other", True),
}


@pytest.mark.parametrize("name", TESTED)
async def test_in_a_silent_script_a_result_pauses_unless_its_function_tests_it(name: str, script) -> None:
    rest, pauses = TESTED[name]
    found = (await check(Launch(script(SILENT.format(rest=rest))))).pauses
    assert [p.line for p in found] == ([6] if pauses else [])


async def test_where_only_a_call_is_silent_its_caller_may_test(script) -> None:
    body = SILENT.format(rest="    print(ratio.shape)").replace("np.seterr(all='ignore')\n", "")
    text = body.replace("\nf(flow)", "\nwith np.errstate(all='ignore'):\n    f(flow)")
    assert not (await check(Launch(script(text)))).pauses
