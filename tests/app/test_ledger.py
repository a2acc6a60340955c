"""The Ledger as its users drive it: in-process, and the program itself in tmux."""

from __future__ import annotations

import csv
import itertools
import json
from pathlib import Path

from driving_app import Terminal, rest, settled, until

from uneven_sum.app.app import UnevenSum
from uneven_sum.app.bench.pass_strip import PassStrip
from uneven_sum.app.ledger.screen import LedgerScreen
from uneven_sum.app.widgets.dialogs import Prompt
from uneven_sum.app.widgets.plot import Plot
from uneven_sum.app.widgets.sheet import Sheet
from uneven_sum.client import Launch
from uneven_sum.client.ledger import Ledger
from uneven_sum.demo import find


async def opened(pilot) -> LedgerScreen:
    await pilot.press("l")
    await until(pilot, lambda: isinstance(pilot.app.screen, LedgerScreen))
    screen = pilot.app.screen
    await until(pilot, lambda: screen.ledger is not None)
    await rest(pilot, 0.3)
    return screen


async def typed(pilot, text: str) -> None:
    """Answers a question in a prompt."""
    await until(pilot, lambda: isinstance(pilot.app.screen, Prompt))
    await pilot.press("ctrl+a", "ctrl+k", *[{" ": "space"}.get(c, c) for c in text], "enter")
    await rest(pilot, 0.4)


def said(screen: LedgerScreen) -> str:
    return str(screen.query_one("#said").render())


async def test_recorded_from_the_start_and_back_to_the_same_pause(tmp_path) -> None:
    app = UnevenSum(Launch(str(find("rating")), keep_case=False))
    async with app.run_test(size=(140, 42)) as pilot:
        bench = await settled(pilot, "paused", 35)
        assert not bench.query_one(PassStrip).has_class("shown")
        screen = await opened(pilot)  # by way of the start
        assert screen.ledger.rows == 211 and screen.grid().row == 210
        await pilot.press("escape")
        bench = await settled(pilot, "paused", 35)
        assert bench.facts.reason == "nonfinite" and bench.facts.loops[0].number == 212
        strip = str(bench.query_one(PassStrip).render())
        assert "212 now" in strip and "-0.017" in strip and "flow[day]" in strip
        notes = bench.query_one(Sheet).notes
        assert notes[34].spark and notes[32].text == "pass 212 of 365"
        screen = await opened(pilot)
        assert screen.ledger.rows == 211 and screen.grid().row == 210

        # One key away: minimum, largest change, sign change, bad pass.
        screen.grid().column = 2
        await pilot.press("greater_than_sign")
        await rest(pilot, 0.3)
        head = screen.ledger.columns[2].values
        assert head[screen.place] == max(head) and "maximum of head" in said(screen)
        await pilot.press("less_than_sign")
        await rest(pilot, 0.3)
        assert head[screen.place] == min(head) == head[210]
        await pilot.press("d")
        await rest(pilot, 0.3)
        steps = [abs(b - a) for a, b in itertools.pairwise(head)]
        assert screen.place == steps.index(max(steps)) + 1
        await pilot.press("c")
        await rest(pilot, 0.3)
        assert "never changes its sign" in said(screen)
        await pilot.press("b")
        await rest(pilot, 0.3)
        assert "All recorded values are finite" in said(screen)

        # Filter, sort, find, side by side.
        await pilot.press("f")
        await typed(pilot, "head < 0.1 and number > 100")
        assert [screen.ledger.numbers[r] for r in screen.order] == [207, 208, 209, 210, 211]
        await pilot.press("f")
        await typed(pilot, "heat < 0.1")
        assert "There is no column heat" in said(screen) and len(screen.order) == 5
        await pilot.press("f")
        await typed(pilot, "")
        assert len(screen.order) == 211
        screen.grid().column = 2
        await pilot.press("s")
        await rest(pilot, 0.3)
        assert [head[r] for r in screen.order] == sorted(head)
        await pilot.press("s", "s")
        await rest(pilot, 0.3)
        assert screen.order == list(range(211))
        await pilot.press("slash")
        await typed(pilot, "4.037")
        assert screen.place == 208
        await pilot.press("equals_sign", "down")
        await rest(pilot, 0.3)
        facts = str(screen.query_one("#facts-text").render())
        assert "pass 209 compared with pass 210" in facts and "by -0.013" in facts
        await pilot.press("equals_sign", "equals_sign")
        await pilot.press("g")
        await typed(pilot, "38")
        assert screen.place == 37

        # Plots, and files.
        screen.grid().column = 2
        await pilot.press("v")
        await until(pilot, lambda: screen.query(Plot) and screen.query_one(Plot).drawn is not None)
        assert screen.plotted() == ["head"]
        await pilot.press("k")
        await typed(pilot, "head, level")
        await pilot.press("l", "h")
        await rest(pilot, 0.3)
        assert "difference by pass, log axis" in said(screen)
        await pilot.press("x")
        await typed(pilot, str(tmp_path / "head.svg"))
        await until(pilot, lambda: (tmp_path / "head.svg").exists() and "The plot is in" in said(screen))
        assert 'id="now"' in (tmp_path / "head.svg").read_text()
        await pilot.press("v", "x")
        await typed(pilot, str(tmp_path / "passes.csv"))
        await until(pilot, lambda: "211 rows are in" in said(screen))
        rows = list(csv.DictReader((tmp_path / "passes.csv").open()))
        assert rows[210]["level"] == "4.003" and rows[0]["pass"] == "1" and len(rows) == 211

        # To a pass: back, then forward again.
        await pilot.press("g")
        await typed(pilot, "38")
        await pilot.press("enter")
        await until(pilot, lambda: bench.state == "paused" and bench.facts.headline.startswith("Back in pass 38"), 60)
        assert bench.facts.loops[0].number == 38 and bench.facts.line == 32
        await pilot.press("enter")
        await settled(pilot, "paused", 35)
        assert bench.facts.loops[0].number == 212


async def test_without_return_points_the_script_runs_again(script) -> None:
    path = script(
        "def f(n):\n    t = 0\n    for k in range(n):\n        t += k\n    return t\nprint(f(20))\nbreakpoint()\n"
    )
    app = UnevenSum(Launch(path, return_points=False))
    async with app.run_test(size=(96, 30)) as pilot:
        bench = await settled(pilot, "paused")
        bench.query_one(Sheet).cursor = 4
        screen = await opened(pilot)
        assert screen.ledger.told.run == 0
        await pilot.press("r")
        await until(pilot, lambda: bench.runs == 2, 60)
        await settled(pilot, "paused", 7)
        bench.query_one(Sheet).cursor = 4
        screen = await opened(pilot)
        assert screen.ledger.columns[1].values == [sum(range(k + 1)) for k in range(20)]
        await pilot.press("g")
        await typed(pilot, "8")
        await pilot.press("enter")
        await until(pilot, lambda: bench.runs == 3, 60)
        await settled(pilot, "paused", 3)
        assert bench.facts.headline.startswith("Back in pass 8")
        # What was recorded is kept with the case, and recorded again.
        bench.case.keep_case()
    text = Path(path.replace(".py", ".case.toml")).read_text()
    assert "[[recorded]]" in text and 'line = "for k in range(n):"' in text
    app = UnevenSum(Launch(path))
    async with app.run_test(size=(96, 30)) as pilot:
        bench = await settled(pilot, "paused")
        assert bench.book.recorded == [(path, 3)]
        bench.query_one(Sheet).cursor = 6  # in no loop: the recorded ones are shown
        screen = await opened(pilot)
        assert screen.of.line == 3 or screen.ledger.rows == 0


async def test_counts_and_every_loop_by_the_palette(script) -> None:
    path = script(
        "def f(n):\n    t = 0\n    for k in range(n):\n        if k > 99:\n            t = 1\n        t += k\n    return t\nx = f(5)\nbreakpoint()\ny = f(7)\nbreakpoint()\n"
    )
    app = UnevenSum(Launch(path, keep_case=False))
    async with app.run_test(size=(140, 42)) as pilot:
        bench = await settled(pilot, "paused", 9)
        await bench.recording.switch_counts()
        await bench.recording.switch_always()
        await pilot.press("enter")
        await settled(pilot, "paused", 11)
        sheet = bench.query_one(Sheet)
        notes = {n.line: n for n in await bench.client.notes(0)}
        assert notes[6].count == 7 and notes[5].text == "never ran" and notes[5].count == 0
        row = "".join(s.text for s in sheet.render_line(sheet.row_of(5) - sheet.scroll_offset.y))
        assert "0 times  never ran" in row
        known, always = await bench.client.ledgers()
        assert always and [(o.line, o.passes) for o in known] == [(3, 7)]
        sheet.cursor = 4
        screen = await opened(pilot)
        assert isinstance(screen.ledger, Ledger) and screen.ledger.rows == 7
        await pilot.press("escape")
        await bench.recording.switch_counts()
        assert all(n.count is None for n in sheet.notes.values())


def to_the_ledger(one: Terminal) -> str:
    one.keys("C-g")
    one.expect("Go to")
    one.keys("30", "Enter")
    one.gone("Go to")
    one.keys("l")
    return one.expect("ledger of the loop for minute in range(minutes)")


def test_the_total_that_stops_growing(terminal) -> None:
    one = terminal("demo", "total")
    one.expect("The script finished")
    to_the_ledger(one)
    one.expect("goes back to the start, records from there")
    one.keys("r")
    one.gone("ledger of the loop")
    one.gone("The script finished")
    one.expect("The script finished")
    to_the_ledger(one)
    one.expect("391680 passes; kept: the first 500, the last 500, one in")
    one.keys("Right", "Right")
    one.expect("has stalled: 2.97188e+09 since pass")
    assert "float32" in one.screen()
    one.keys("f")
    one.expect("Show only the passes where")
    one.keys("number > 391000 and volume > 60", "Enter")
    one.expect("kept where number > 391000 and volume > 60")
    one.keys("v")
    one.expect("value by pass")
    one.keys("Escape")
    one.gone("value by pass")
    one.keys("q")
    one.expect("left with status 0")


ONCE = """
def year(n):
    total = 0.0
    for day in range(5):
        total += day * n
        depth = total - 1
    return total
flows = []
for n in range(4):
    flows.append(year(n))
print(flows)
"""


async def test_recorded_from_the_start_and_back_to_a_breakpoint_that_holds_once(script) -> None:
    path = script(ONCE)
    sentence = "pause at line 6 when `n == 2 and day == 3`, once"
    Path(path.replace(".py", ".case.toml")).write_text(f"schema = 1\n[[lookouts]]\nsentence = {json.dumps(sentence)}\n")
    app = UnevenSum(Launch(path, keep_case=True, pause_on=set()))
    async with app.run_test(size=(140, 42)) as pilot:
        bench = await settled(pilot, "paused", 6)
        facts = bench.facts
        assert [k.number for k in facts.loops] == [4, 3]
        bench.query_one(Sheet).cursor = 5
        await opened(pilot)
        await pilot.press("r")
        await until(pilot, lambda: bench.query_one(PassStrip).has_class("shown"), 60)
        bench = await settled(pilot, "paused", 6)
        assert bench.facts.reason == "breakpoint" and bench.facts.headline == facts.headline
        assert [k.number for k in bench.facts.loops] == [4, 3]
        screen = await opened(pilot)
        assert screen.ledger.rows == 3
