"""Expectations: read, held against values, for the next pause and kept."""

from __future__ import annotations

import sys

import numpy as np
import pytest
from driving import running
from hypothesis import given
from hypothesis import strategies as st

from uneven_sum.agent.lookouts.expectations import Unclear, held, parse, sentence
from uneven_sum.client import BadUse
from uneven_sum.client.sentences import parse as read
from uneven_sum.client.sentences import sentence as said
from uneven_sum.protocol import Lookout

NUMBERS = st.floats(-1e6, 1e6).map(lambda v: round(v, 3))


def holds(text: str, **names) -> bool:
    locals().update(names)
    frame = sys._getframe()
    told = held(parse(text), frame, names)
    assert not told["problem"], told
    return told["holds"]


@given(NUMBERS, NUMBERS, NUMBERS)
def test_numbers(x: float, a: float, b: float) -> None:
    low, high = min(a, b), max(a, b)
    assert holds(f"x stays between {low} and {high}", x=x) == (low <= x <= high)
    assert holds(f"x is near {a} ± {abs(b)}", x=x) == (abs(x - a) <= abs(b))
    assert holds(f"x will be {x!r}", x=x)
    assert holds("x will be y", x=x, y=x + 1.0) is False
    assert holds("x > 0", x=x) == (x > 0)
    many = np.array([x, a, b])
    assert holds(f"many stays between {low} and {high}", many=many) == bool(((many >= low) & (many <= high)).all())


def test_other_values() -> None:
    assert holds("x will be 'weir'", x="weir") and not holds("x will be 'weir'", x=3)
    assert holds("x will be 0.3", x=0.1 + 0.2) and not holds("x will be 0.3", x=0.3001)
    assert holds("x will be None", x=None) and holds("x will be [1, 2]", x=[1, 2])
    assert not holds("x will be nan", x=float("nan"), nan=float("nan")), "nan equals nothing"
    assert not holds("x stays between 0 and 9", x=np.array([1.0, np.nan]))
    assert holds("x.sum() is near 12.3 +- 0.1", x=np.array([12.0, 0.35]))
    assert not holds("x will be y", x=np.zeros(3), y=np.zeros(2))
    level = -0.02
    told = held(parse("level > 0"), sys._getframe())
    assert sentence(told) == f"level > 0: now level = {level}"
    told = held(parse("nowhere will be 1"), sys._getframe())
    assert told["problem"].startswith("NameError") and not told["holds"]


@pytest.mark.parametrize("text", ["head will be", "will be 3", "(y := 3)", "head stays between 3", "a b c", ""])
def test_unclear_ones(text: str) -> None:
    with pytest.raises(Unclear):
        parse(text)


def test_their_sentences() -> None:
    for text in (
        "expect `head stays between 0 and 3` at line 12 of route.py",
        "expect `flow.sum() is near 12.3 ± 0.1` at each pause",
        "expect `head > 0` at the return of `rate`, from the 3rd time, off",
    ):
        assert said(read(text, "/x/route.py")) == text


SCRIPT = """
def route(days):
    store, found = 1.0, []
    for day in range(days):
        store = store * 0.5 + day
        found.append(store)
    return found
print(len(route(6)))
"""


async def test_of_the_next_pause_and_kept(script, interpreter: str) -> None:
    path = script(SCRIPT)
    kept = [
        Lookout(id=1, where="line", file=path, line=6, expect="store stays between 0 and 2"),
        Lookout(id=2, where="pause", expect="day will be 2"),
        Lookout(id=3, where="line", file=path, line=4, expect="len(found) will be day"),
    ]
    async with running(path, python=interpreter, pause_on={"start"}) as run:
        await run.pause()
        placed = await run.client.set_lookouts([*kept, Lookout(id=4, where="line", file=path, line=5, expect="a b")])
        assert [p.verified for p in placed] == [True, True, True, False] and "is not an expression" in placed[3].message
        facts = await run.step("on")
        assert facts.headline.startswith("Not as expected: store stays between 0 and 2: it is 2.625, at line 6.")
        assert facts.loops[0].number == 3
        assert [(e.text, e.holds, e.actual, e.kept) for e in facts.expectations] == [("day will be 2", True, "2", 2)]
        assert await run.client.expect("store will be 4.3125") == "store will be 4.3125: it is 2.625"
        with pytest.raises(BadUse, match="is not an expression"):
            await run.client.expect("store will")
        await run.client.next_pass()
        facts = await run.pause()
        assert [(e.text, e.holds, e.actual) for e in facts.expectations] == [
            ("store will be 4.3125", True, "4.3125"),
            ("day will be 2", False, "3"),
        ]
        await run.client.set_lookouts([])
        facts = await run.step()
        assert facts.expectations == []
        assert await run.step("on") is None and run.out == "6\n" and not run.trouble
