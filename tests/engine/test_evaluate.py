"""What can be asked at a pause: values, calls, cards, notes, completion, terms; and what must not happen."""

from __future__ import annotations

import pytest
from driving import running

from uneven_sum.client import BadUse
from uneven_sum.host.launch import Limits

CODE = """\
import numpy as np

SILL = 4.0
kept = []


def keep(x):
    kept.append(x)
    print("kept", x)
    return x


def rate(stage):
    flow = np.zeros(len(stage))
    for day in range(len(stage)):
        head = stage[day] - SILL
        flow[day] = head / (day - 3)
    late = flow.sum()
    return late


def main():
    stage = np.linspace(5.0, 6.0, 12)
    return rate(stage)


main()
"""


@pytest.fixture
async def paused(script, interpreter_with_numpy):
    async with running(script(CODE), python=interpreter_with_numpy) as run:
        run.facts = await run.pause()
        yield run


@pytest.fixture
def interpreter_with_numpy() -> str:
    import sys

    return sys.executable


async def test_ask_in_any_call(paused) -> None:
    assert paused.facts.line == 17
    assert await paused.ask("day + 1") == "4"
    stack = await paused.client.stack()
    assert [s.name for s in stack] == ["rate", "main", "<module>"]
    assert await paused.ask("stage.max()", stack[1].id) == "6.0"
    with pytest.raises(BadUse, match="NameError"):
        await paused.ask("day", stack[1].id)


async def test_a_trial_changes_nothing_and_for_good_does(paused) -> None:
    body = await paused.client.ask("keep(3)")
    assert (body["result"], body["unevenSum"]["printed"]) == ("3", "kept 3\n")
    assert await paused.ask("len(kept)") == "0"
    assert await paused.ask("!keep(4)") == "4"
    assert await paused.ask("kept") == "[4]"
    await paused.ask("!head = 2.5")
    assert await paused.ask("head") == "2.5"
    await paused.ask("a = 5; a * 2")
    with pytest.raises(BadUse, match="NameError"):
        await paused.ask("a")


@pytest.mark.parametrize(
    ("text", "sentence"),
    [
        ("1 +", "not Python"),
        ("1 / 0", "ZeroDivisionError"),
        ("nothing", "NameError"),
        ("open('made.txt', 'w')", "does not write files"),
        ("__import__('os').remove('x')", "does not call os.remove"),
        ("__import__('subprocess').run(['true'])", "does not call"),
        ("__import__('os')._exit(5)", "ended its own process"),
        ("__import__('os').abort()", "SIGABRT"),
        ("__import__('sys').exit(3)", "SystemExit"),
        ("", "Nothing was asked"),
    ],
)
async def test_questions_that_fail(paused, text: str, sentence: str) -> None:
    with pytest.raises(BadUse, match=sentence):
        await paused.ask(text)
    assert await paused.ask("day") == "3", "the script is unharmed"


async def test_an_endless_question_is_ended(script) -> None:
    async with running(script("day = 3\nbreakpoint()\n"), limits=Limits(trial=5)) as run:
        await run.pause()
        with pytest.raises(BadUse, match="longer than 5 s"):
            await run.ask("[0 for k in iter(int, 1)]")
        assert await run.ask("day") == "3"


async def test_cards(paused) -> None:
    cards = {c.name: c for c in await paused.client.cards()}
    assert cards["late"].text == "not assigned yet" and not cards["late"].assigned
    assert cards["stage"].text == "12 cells float64, 5.0 … 6.0, mean 5.5"
    assert cards["flow"].picture and cards["flow"].kind == "array"
    assert cards["head"].used and cards["day"].used
    await paused.client.seen()
    await paused.step()
    cards = {c.name: c for c in await paused.client.cards()}
    assert cards["flow"].changed and not cards["stage"].changed
    module = {c.name: c.text for c in await paused.client.cards(0, "module")}
    assert module["SILL"] == "4.0" and "np" not in module


async def test_notes_and_completion(paused) -> None:
    notes = {n.line: n.text for n in await paused.client.notes()}
    assert notes[15] == "pass 4 of 12"
    assert notes[16] == "head 1.27273"
    labels = [t["label"] for t in await paused.client.complete("stage.me")]
    assert "mean" in labels
    assert [t["label"] for t in await paused.client.complete("hea")] == ["head"]


async def test_terms_of_another_line(paused) -> None:
    line, terms, _ = await paused.client.terms(0, 16)
    assert line == 16
    assert [(t.text, t.value) for t in terms][0] == ("stage[day] - SILL", "1.27273")


async def test_variables_page(script) -> None:
    async with running(script("values = list(range(1000))\nd = {'a': [1.5]}\n1 / 0\n")) as run:
        await run.pause()
        (module,) = await run.client.scopes()
        names = {v.name: v for v in await run.client.variables(module["variablesReference"])}
        page = await run.client.variables(names["values"].variablesReference, 500, 3)
        assert [(v.name, v.value) for v in page] == [("[500]", "500"), ("[501]", "501"), ("[502]", "502")]
        (inner,) = await run.client.variables(names["d"].variablesReference)
        assert (inner.name, inner.value) == ("'a'", "[1.5]")


NASTY = """\
class Bad:
    def __repr__(self): raise RuntimeError("no")
    __str__ = __len__ = __repr__
    def __getattr__(self, name): raise RuntimeError(name)
    def __eq__(self, other): raise RuntimeError("eq")
class Loop:
    def __init__(self): self.me = self
    @property
    def endless(self):
        while True: pass
class Fake:
    def __array__(self, *a, **k): raise TypeError("no")
    shape = "x"
bad, loop, fake = Bad(), Loop(), Fake()
deep = []
deep.append(deep)
text = "a\\x1b[31mred\\ud800" * 3
long = "x" * 10_000_000
huge = 7 ** 100_000
1 / 0
"""


async def test_values_that_resist(script, interpreter: str) -> None:
    async with running(script(NASTY), python=interpreter) as run:
        await run.pause()
        cards = {c.name: c for c in await run.client.cards(0, "module")}
        assert {"bad", "loop", "fake", "deep", "text", "long", "huge"} <= set(cards)
        assert "\x1b" not in cards["text"].text and "\ud800" not in cards["text"].text
        assert all(len(c.text) < 400 for c in cards.values())
        assert "10000000 characters" in cards["long"].text
        assert not run.trouble
