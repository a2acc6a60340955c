"""Another version of a line: tried, put in the file, taken up by the running script."""

from __future__ import annotations

from pathlib import Path

import pytest
from driving import running

from uneven_sum.client import BadUse

TEXT = """import random
random.seed(1)
SILL = 2.0
runs = []
def rate(stage, width=4.0):
    runs.append(len(stage))
    flow = [0.0] * len(stage)
    for day in range(len(stage)):
        head = stage[day] - SILL
        flow[day] = head ** 1.5 * width / (head - 1.0)
    return flow
def year(number):
    stage = [2.5, 2.75, 3.0, 3.25]
    got = rate(stage)
    return sum(got) + number
def main():
    total = 0.0
    for n in range(3):
        total += year(n)
    print(f"{total:.6g}", runs, random.random())
main()
"""
OLD = "        flow[day] = head ** 1.5 * width / (head - 1.0)\n"
NEW = "        flow[day] = head ** 1.5 * width / (head - 1.0 or 1.0)\n"


def right() -> str:
    """What the corrected script prints, plainly."""
    import contextlib
    import io

    with contextlib.redirect_stdout(io.StringIO()) as out:
        exec(compile(TEXT.replace(OLD, NEW), "<plain>", "exec"), {})
    return out.getvalue()


async def test_a_change_is_tried(script) -> None:
    async with running(script(TEXT), rewind=True) as run:
        facts = await run.pause()
        assert (facts.exception.type, facts.line, facts.loops[0].number) == ("ZeroDivisionError", 10, 3)
        told = await run.client.try_change(0, None, NEW)
        assert (told["first"], told["last"], told["function"]) == (10, 10, "rate")
        assert next(t for t in told["terms"] if t["culprit"])["value"] == "raised"
        tried = told["tried"]
        assert tried["failed"] == "" and tried["statements"][0]["value"] == "4.0"
        values = {t["text"]: t["value"] for t in tried["statements"][0]["terms"]}
        assert values["head - 1.0 or 1.0"] == "1.0" and values["head ** 1.5 * width"] == "4.0"
        assert tried["changed"] == "flow[2] 0.0 → 4.0"
        tried = (await run.client.try_change(0, None, "bad = head - 1\nhead = max(bad, 0.5)\nrate([3.5])"))["tried"]
        assert [s["value"] for s in tried["statements"]] == ["0.0", "0.5", "[14.6969]"]
        assert "head 1.0 → 0.5" in tried["changed"] and "bad not assigned → 0.0" in tried["changed"]
        tried = (await run.client.try_change(0, None, "flow[day] = 1 / (head - 1)"))["tried"]
        assert tried["failed"].startswith("ZeroDivisionError")
        tried = (await run.client.try_change(0, 8, "for day in range(2, len(stage), -1)"))["tried"]
        assert tried["statements"][0]["value"] == "range(2, 4, -1), 0 numbers"
        tried = (await run.client.try_change(0, None, "return [head, 1]"))["tried"]
        assert tried["statements"][0]["value"] == "[1.0, 1]" and tried["failed"] == ""
        for wrong, why in (
            ("flow[day] = ", "Line 1 is no Python"),
            ("a = 1\nb = = 2", "Line 2"),
            ("  ", "no statement"),
        ):
            with pytest.raises(BadUse, match=why):
                await run.client.try_change(0, None, wrong)
        assert await run.ask("(head, flow, runs)") == "(1.0, list of 4, list of 1)" and not run.trouble


async def test_the_call_begins_again_with_the_new_text(script, interpreter: str) -> None:
    path = script(TEXT)
    async with running(path, python=interpreter, rewind=True) as run:
        facts = await run.pause()
        Path(path).write_text(TEXT.replace(OLD, NEW))
        await run.client.restart_call(facts, [])
        again = await run.pause()
        while "entered again" not in again.headline:  # first at the return point
            again = await run.pause()
        assert again.function == "rate" and await run.ask("(len(stage), len(runs))") == "(4, 0)"
        assert not again.old and [c.old for c in again.trail][-1:] == [False]
        await run.client.run_to(path, 11)
        facts = await run.pause()
        assert facts.line == 11 and (await run.ask("flow[2]")) == "4.0"
        assert await run.step("on") is None and run.out == right() and not run.trouble


async def test_taken_up_from_the_next_call_on(script) -> None:
    more = TEXT.replace("    runs.append(len(stage))\n", "    runs.append(len(stage))\n    # one line more\n")
    path = script(TEXT)
    async with running(path, rewind=True) as run:
        facts = await run.pause()
        Path(path).write_text(more.replace(OLD, NEW))
        assert await run.client.take_up(path) == ["rate"]
        assert await run.ask("rate([3.0])") == "[4.0]", "in a trial, the new text"
        assert [c.old for c in facts.trail] == [False] * 4
        await run.ask("!head = 2.0")
        await run.client.retry()
        facts = await run.pause()
        assert facts is None and run.exited.exit_status == 0, "the calls that follow run the new text"
        assert not run.trouble


async def test_old_calls_keep_their_lines(script) -> None:
    path = script(TEXT)
    async with running(path, rewind=True) as run:
        await run.pause()
        Path(path).write_text(
            TEXT.replace("    runs.append(len(stage))\n", "    runs.append(len(stage))\n    a = 1\n    b = 2\n")
        )
        await run.client.take_up(path)
        await run.ask("!head = 2.0")
        await run.client.retry()
        facts = await run.pause()
        assert (facts.line, facts.old, facts.statement.strip()) == (12, False, OLD.strip()), "of the next call"
        assert [c.line for c in facts.trail][1:3] == [19, 16], "main runs on, year is new"


@pytest.mark.parametrize(
    ("old", "new", "why"),
    [
        ("SILL = 2.0", "SILL = 1.0", "outside of functions"),
        ("def rate(stage, width=4.0):", "def rate(stage, width=5.0):", "outside of functions"),
        ("    return flow", "    return flow +", "cannot be compiled"),
    ],
)
async def test_what_cannot_be_taken_up(script, old: str, new: str, why: str) -> None:
    path = script(TEXT)
    async with running(path, rewind=True) as run:
        facts = await run.pause()
        Path(path).write_text(TEXT.replace(old, new))
        for how in (run.client.take_up(path), run.client.restart_call(facts, [])):
            with pytest.raises(BadUse, match=why):
                await how
        assert await run.ask("(day, head)") == "(2, 1.0)", "still where it was"
