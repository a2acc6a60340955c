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
