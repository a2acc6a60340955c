"""Recursions without an end: they pause as far in as there is room for it, and say what has called itself."""

from __future__ import annotations

import pytest
from driving import running

from uneven_sum.check import check
from uneven_sum.check.report import as_text
from uneven_sum.client import Launch

ENDLESS = {
    "function": (
        "def f(n):\n    return f(n - 1)\nf(3)\n",
        2,
        "f has called itself 9",
        "first with n=3, last with n=-9",
    ),
    "two functions": (
        "def even(n):\n    return n == 0 or odd(n - 1)\ndef odd(n):\n    return n != 0 and even(n - 1)\neven(-1)\n",
        None,
        "have called each other 4",
        "first with n=",
    ),
    "same argument": ("def f(n):\n    return f(n)\nf(3)\n", 2, "f has called itself 9", "each time with n=3"),
    "property": (
        "class G:\n    @property\n    def level(self):\n        return self.level\nx = G().level\n",
        4,
        "G.level has called itself ",
        " times.",
    ),
    "text of an object": (
        "class G:\n    def __repr__(self):\n        return f'{self!r} m'\nprint(G())\n",
        3,
        "G.__repr__ has called itself ",
        " times.",
    ),
}


@pytest.mark.parametrize("name", ENDLESS)
async def test_it_pauses_and_says_what_has_called_itself(name: str, script) -> None:
    text, line, who, how = ENDLESS[name]
    outcome = await check(Launch(script(text)))
    (pause,) = outcome.pauses
    assert pause.exception.type == "RecursionError"
    assert line is None or pause.line == line
    assert who in pause.headline and how in pause.headline, pause.headline
    assert " times more" in as_text(outcome) and len(as_text(outcome)) < 2000, "the trail is folded"


async def test_it_pauses_in_each_interpreter(script, interpreter) -> None:
    """Where calls through C have a limit of their own, too."""
    text = "class G:\n    def __getattr__(self, name):\n        return self.level + 1\nx = G().flow\n"
    async with running(script(text), python=interpreter) as run:
        facts = await run.pause()
        assert (facts.exception.type, facts.line) == ("RecursionError", 3)
        assert await run.step("on") is None


async def test_one_that_is_handled_does_not_pause(script) -> None:
    text = "def f(n):\n    return f(n + 1)\ntry:\n    f(0)\nexcept RecursionError:\n    print('caught')\nprint('on')\n"
    async with running(script(text)) as run:
        assert await run.pause() is None
        assert run.out.split() == ["caught", "on"]
