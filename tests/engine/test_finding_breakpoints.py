"""Breakpoints that wait for a finding: `pause where an integer wraps`."""

from __future__ import annotations

import pytest
from auditing import cases
from driving import running

from uneven_sum.agent.audit.rules import AT_ONCE
from uneven_sum.client.sentences import parse, sentence
from uneven_sum.protocol import Lookout
from uneven_sum.protocol.trips import RULE_WORDS


def waiting_for(rule: str, **parts) -> dict:
    return {"lookouts": [Lookout(1, where="finding", name=rule, **parts)]}


async def findings_met(path: str, rule: str, **options) -> tuple[list, list[str]]:
    """The pauses of a whole run, and its troubles."""
    async with running(path, start=waiting_for(rule), **options) as run:
        found = []
        facts = await run.pause()
        while facts is not None:
            found.append(facts)
            facts = await run.step("on")
        assert not run.unwatched
        return found, run.trouble


@pytest.mark.parametrize("rule", sorted(RULE_WORDS))
async def test_the_script_pauses_in_the_statement_that_a_rule_finds_wrong(rule: str, script) -> None:
    case = next(c for c in cases(rule) if c.line)
    pauses, trouble = await findings_met(script(case.text), rule, pause_on=set())
    found = [p for p in pauses if p.finding is not None and p.finding.line == case.line]
    assert len(found) == 1 and not trouble, (case.text, [p.headline for p in pauses])
    facts = found[0]
    assert (facts.reason, facts.lookout, facts.finding.rule) == ("breakpoint", 1, rule)
    assert facts.headline.startswith(facts.finding.headline.rstrip(".")) and facts.line <= case.line <= facts.end_line


def test_each_rule_that_tells_at_once_has_words_that_are_read_again() -> None:
    assert set(RULE_WORDS) == AT_ONCE
    for rule in RULE_WORDS:
        lookout = Lookout(where="finding", name=rule, outside="checksum", once=True)
        assert parse(sentence(lookout)) == lookout
    assert sentence(Lookout(where="finding", name="wrap")) == "pause where an integer wraps"


CLOCK = """\
import numpy as np

def ticks(days):
    seconds = np.arange(days, dtype=np.int32) * 86400
    return seconds * 1000

gauges = [3.0, 1.0, 2.0]
level = np.zeros(3, dtype=int)
for k in range(3):
    level[k] += gauges[k] * 1.5
print(ticks(60).sum(), level)
"""


async def test_a_finding_shows_the_terms_before_the_value_is_stored_and_the_script_goes_on(script, interpreter) -> None:
    path = script(CLOCK)
    async with running(path, python=interpreter, start=waiting_for("wrap")) as run:
        facts = await run.pause()
        assert (facts.line, facts.state, facts.finding.times) == (5, "in", 1)
        assert [t.text for t in facts.terms][:2] == ["seconds * 1000", "seconds"]
        assert await run.ask("seconds[25]") == "2160000" and facts.culprit is None
        assert facts.finding.right == "2160000000" and facts.finding.pictures[0].shape == [1, 60]
        assert await run.step("on") is None
        assert run.out == "2604144640 [4 1 3]\n" and not run.trouble


async def test_set_at_the_first_line_it_holds_for_the_whole_script_and_later_for_new_calls(script) -> None:
    path = script(CLOCK)
    both = [Lookout(1, where="finding", name="wrap"), Lookout(2, where="finding", name="truncation")]
    async with running(path, pause_on={"start"}) as run:
        await run.pause()
        assert [p.message for p in await run.client.set_lookouts(both)] == ["", ""]
        assert [(await run.step("on")).line for _ in range(2)] == [10, 5] and not run.unwatched
    async with running(path, start={"lookouts": [Lookout(3, file=path, line=8)]}) as run:
        await run.pause()
        told = await run.client.set_lookouts(both)
        assert all("calls that begin from now on" in p.message for p in told)
        assert (await run.step("on")).line == 5
        await run.client.set_lookouts([])
        assert await run.step("on") is None


async def test_it_counts_places_writes_and_heeds_its_parts(script) -> None:
    path = script(CLOCK)
    async with running(path, start=waiting_for("wrap", text="wraps in {days} days")) as run:
        assert await run.pause() is None and "wraps in 60 days" in run.err
    pauses, _ = await findings_met(path, "wrap", pause_on={"error"})
    assert len(pauses) == 1
    for parts in ({"outside": "ticks"}, {"condition": "days > 60"}, {"start": 2}, {"on": False}):
        async with running(path, start=waiting_for("wrap", **parts)) as run:
            assert await run.pause() is None, parts


async def test_with_a_trip_in_the_same_statement_the_finding_comes_first(script) -> None:
    path = script(
        "import pandas as pd\na = pd.Series([1.0, 2.0], index=['x', 'y'])\nb = pd.Series([1.0, 2.0], index=['y', 'z'])\n"
        "c = a + b\n"
    )
    pauses, trouble = await findings_met(path, "alignment", pause_on={"nonfinite", "carried", "arrived", "frames"})
    assert [p.reason for p in pauses] == ["breakpoint", "nonfinite"] and not trouble


async def test_a_rule_that_tells_only_at_the_end_cannot_be_waited_for(script) -> None:
    async with running(script("x = 1\n"), pause_on={"start"}) as run:
        await run.pause()
        (told,) = await run.client.set_lookouts([Lookout(1, where="finding", name="cancellation")])
        assert not told.verified and told.message == "No breakpoint can wait for `cancellation`."
