"""Another version of a line: tried, put in the file, taken up by the running script."""

from __future__ import annotations

from pathlib import Path

import pytest
from driving import running

from uneven_sum.client import BadUse
from uneven_sum.client.edits import replace_lines

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
            ("flow[day] = ", "Line 1 is not Python"),
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


AGAIN = {
    "method": ("class Gauge:\n    def __init__(self): self.n = 0\n    def rate(self, h):\n        self.n += 1\n        return 1.0 / h\n"
               "g = Gauge()\nt = 0\nfor h in (2.0, 0.0, 4.0):\n    t += g.rate(h)\nprint(t, g.n)\n", "1.75 3\n"),
    "generator": ("def rate(hs):\n    for h in hs:\n        yield 1.0 / h\nprint(sum(rate([1.0, 0.0])))\n", "2.0\n"),
    "recursion": ("def rate(h):\n    if h == 0:\n        return 1.0 / h\n    return rate(h - 1) + 1\nprint(rate(5))\n", "6.0\n"),
    "closure": ("def outer():\n    def rate(h):\n        return 1.0 / h\n    return [rate(h) for h in (1.0, 0.0)]\nprint(outer())\n",
                "[1.0, 1.0]\n"),
    "decorated": ("import functools\ndef deco(f):\n    @functools.wraps(f)\n    def inner(*a):\n        return f(*a)\n    return inner\n"
                  "@deco\ndef rate(h):\n    return 1.0 / h\nprint([rate(h) for h in (1.0, 0.0)])\n", "[1.0, 1.0]\n"),
    "coroutine": ("import asyncio\nasync def rate(h):\n    await asyncio.sleep(0)\n    return 1.0 / h\n"
                  "async def main():\n    print([await rate(h) for h in (1.0, 0.0)])\nasyncio.run(main())\n", "[1.0, 1.0]\n"),
}  # fmt: skip


@pytest.mark.parametrize("name", AGAIN)
async def test_calls_of_every_kind_begin_again(script, interpreter: str, name: str) -> None:
    text, printed = AGAIN[name]
    path = script(text)
    async with running(path, python=interpreter, rewind=True) as run:
        facts = await run.pause()
        assert facts.exception.type == "ZeroDivisionError"
        Path(path).write_text(text.replace("1.0 / h", "1.0 / (h or 1.0)"))
        await run.client.restart_call(facts, [])
        again = await run.pause()
        while "entered again" not in again.headline:
            again = await run.pause()
        assert again.function.endswith("rate") and not again.old
        assert await run.step("on") is None and run.out == printed and not run.trouble


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
        assert (await run.pause()).reason == "step"
        facts = await run.step("on")
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
        assert (await run.pause()).reason == "step"
        facts = await run.step("on")
        assert (facts.line, facts.old, facts.statement.strip()) == (12, False, OLD.strip()), "of the next call"
        assert [c.line for c in facts.trail][1:3] == [19, 16], "main runs on, year is new"


@pytest.mark.parametrize(
    ("old", "new", "why"),
    [
        ("SILL = 2.0", "SILL = 1.0", "Top-level code changed"),
        ("def rate(stage, width=4.0):", "def rate(stage, width=5.0):", "Top-level code changed"),
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


# -- in the file -------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("data", "encoding"),
    [
        (b"a = 1\nif a:\n    b = 2\n    c = 3\n", "utf-8"),
        (b"a = 1\r\nif a:\r\n    b = 2\r\n    c = 3\r\n", "utf-8"),
        (b"\xef\xbb\xbfa = 1\nif a:\n    b = 2\n    c = '\xc3\xa4'", "utf-8-sig"),
        (b"# -*- coding: latin-1 -*-\na = '\xe4'\nif a:\n\tb = 2\n\tc = 3\n", "latin-1"),
    ],
)
def test_lines_are_replaced_and_all_else_is_kept(tmp_path, data: bytes, encoding: str) -> None:
    path = tmp_path / "script.py"
    path.write_bytes(data)
    path.chmod(0o640)
    lines = data.decode(encoding).splitlines()
    at = next(n for n, line in enumerate(lines) if "b = 2" in line)
    replace_lines(str(path), at + 1, at + 1, lines[at], "b = 2.5\nif b:\n    d = b")
    got = path.read_bytes()
    end = b"\r\n" if b"\r\n" in data else b"\n"
    lead = lines[at][: len(lines[at]) - len(lines[at].lstrip())].encode()
    deeper = lead * 2
    new = end.join([lead + b"b = 2.5", lead + b"if b:", deeper + b"d = b"])
    assert got == data.replace(lines[at].encode(encoding.replace("-sig", "")), new)
    assert path.stat().st_mode & 0o777 == 0o640 and [p.name for p in tmp_path.iterdir()] == ["script.py"]


def test_files_that_cannot_be_changed_are_left_alone(tmp_path, monkeypatch) -> None:
    path = tmp_path / "script.py"
    path.write_text("a = 1\nb = 2\n")
    for old, new, why in (
        ("b = 3", "b = 4", "have changed since the script started"),
        ("b = 2", "b = ", "would be no Python, line 2"),
        ("b = 2", "  b = 2\nc = 3 +", "would be no Python"),
    ):
        with pytest.raises(BadUse, match=why):
            replace_lines(str(path), 2, 2, old, new)
    with pytest.raises(BadUse, match="cannot be read"):
        replace_lines(str(tmp_path / "gone.py"), 1, 1, "a", "b")
    monkeypatch.setattr("os.replace", lambda *_: (_ for _ in ()).throw(OSError(28, "No space left on device")))
    with pytest.raises(BadUse, match="cannot be written: No space left"):
        replace_lines(str(path), 2, 2, "b = 2", "b = 4")
    monkeypatch.undo()
    monkeypatch.setattr("os.access", lambda *_: False)
    with pytest.raises(BadUse, match="may not be written"):
        replace_lines(str(path), 2, 2, "b = 2", "b = 4")
    assert path.read_text() == "a = 1\nb = 2\n" and [p.name for p in tmp_path.iterdir()] == ["script.py"]


CALLS = """def part(x):
    y = x - 2.0
    return 1.0 / (y + 9)

def value(x):
    a = part(x)
    b = a + 1
    return b

def main():
    total = 0.0
    for k in range(5):
        total += value(float(k))
    print(total)
main()
"""


@pytest.mark.parametrize("edit", ["    y = x - 3.0", "    z = 1\n    y = x - 3.0", "    # no lines\n\n    y = x - 3.0"])
async def test_a_call_begins_again_after_an_edit_further_up(script, interpreter: str, edit: str) -> None:
    path = script(CALLS)
    async with running(path, python=interpreter, rewind=True, breakpoints={path: [7]}) as run:
        facts = await run.pause()
        facts = await run.step("on")
        assert facts.loops[0].number == 2
        Path(path).write_text(CALLS.replace("    y = x - 2.0", edit))
        await run.client.restart_call(facts, [])
        again = await run.pause()
        while "entered again" not in again.headline:
            again = await run.pause()
        assert again.function == "value" and again.loops[0].number == 2 and await run.ask("x") == "1.0"


RAN = """import warnings
import numpy as np
def lowest(levels):
    np.log(levels)
    low = levels.min()
    return low
def other():
    return 1
print(lowest(np.array([1.0, -1.0])))
"""


async def test_a_line_that_has_run_is_the_one_that_is_tried(script) -> None:
    path = script(RAN)
    async with running(path, rewind=True, pause_on={"warning"}) as run:
        facts = await run.pause()
        assert (facts.state, facts.line, facts.trail[-1].line) == ("ran", 4, 4)
        told = await run.client.try_change(0, None, None)
        assert (told["first"], told["last"]) == (4, 4) and told["terms"][0]["text"] == "np.log(levels)"
        with pytest.raises(BadUse, match=r"Line 8 is in other, and the chosen call is of lowest\."):
            await run.client.try_change(0, 8, None)
        with pytest.raises(BadUse, match="outside of functions"):
            await run.client.try_change(0, 9, None)


EXITS = """import sys
def main():
    total = 6.0
    if total > 5:
        for k in range(2):
            sys.exit("too high")
main()
"""


async def test_an_exit_has_the_line_of_its_call(script, interpreter: str) -> None:
    path = script(EXITS)
    async with running(path, python=interpreter) as run:
        assert await run.pause() is None
        ended = run.ended
        assert ended.said == 'sys.exit("too high") at line 6' and (ended.file, ended.line) == (path, 6)
