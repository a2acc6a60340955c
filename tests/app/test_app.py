"""The application in-process, and the program itself in tmux."""

from __future__ import annotations

import os
import re
import time
from pathlib import Path

import pytest
from driving import slowness
from driving_app import rest, settled, until
from textual.widgets import Input

from uneven_sum.app.app import UnevenSum
from uneven_sum.app.bench.ask_drawer import AskDrawer, AskLine
from uneven_sum.app.bench.cards import Cards
from uneven_sum.app.bench.output_drawer import OutputDrawer
from uneven_sum.app.bench.screen import Bench
from uneven_sum.app.bench.try_edit import TryChange
from uneven_sum.app.closeup.screen import CloseUp, Plot
from uneven_sum.app.lookouts.screen import Lookouts
from uneven_sum.app.widgets.dialogs import Choose, EditSentence, Prompt, Sure
from uneven_sum.app.widgets.grid import Grid
from uneven_sum.app.widgets.help import Help
from uneven_sum.app.widgets.sheet import GUTTER, Sheet
from uneven_sum.client import Launch
from uneven_sum.demo import find
from uneven_sum.protocol import Lookout


async def test_bench_from_pause_to_rerun() -> None:
    app = UnevenSum(Launch(str(find("rating")), keep_case=False))
    async with app.run_test(size=(140, 42)) as pilot:
        bench = await settled(pilot, "paused", 35)
        sheet, cards = bench.query_one(Sheet), bench.query_one(Cards)
        assert sheet.word == "in" and sheet.at_line == 35
        assert [t.text for t in sheet.terms[35] if t.culprit] == ["head ** 1.5"]
        assert {c.name for c in cards.cards} >= {"head", "flow", "stage", "total"}
        await pilot.press("space")
        await settled(pilot, "paused", 36)
        assert not sheet.terms and sheet.word == "next"
        await pilot.press("t")
        await rest(pilot, 0.5)
        assert sheet.terms[36][0].text == "total += flow[day] * DAY"
        await pilot.press("left_square_bracket")
        await rest(pilot, 0.3)
        assert bench.facts.trail[bench.chosen].function == "main" and sheet.at_line == 45
        await pilot.press("home", "a", *"SILL*2", "enter")
        await rest(pilot, 0.5)
        assert bench.query_one(AskDrawer).has_class("open")
        await pilot.press("escape", "escape", "R")
        await settled(pilot, "paused", 35)
        assert bench.runs == 2
        await pilot.press("A", "enter")
        bench = await settled(pilot, "paused", 39 if bench.facts.line == 39 else None)
        await pilot.press("q")
        await rest(pilot, 0.3)
        await pilot.press("enter")
        await rest(pilot, 0.5)
    assert not app.refusal


async def test_gutter_click_sets_a_breakpoint_that_is_kept() -> None:
    app = UnevenSum(Launch(str(find("lagged")), keep_case=False))
    async with app.run_test(size=(140, 42)) as pilot:
        bench = await settled(pilot, "paused", 28)
        sheet = bench.query_one(Sheet)
        row = sheet.row_of(24) - sheet.scroll_offset.y
        await pilot.click(Sheet, offset=(4, row))
        await rest(pilot, 0.3)
        assert sheet.marks == {24: ("", True)}
        await pilot.click(Sheet, offset=(GUTTER + 5, row))
        assert sheet.cursor == 24
        await pilot.press("R")
        await settled(pilot, "paused", 24)
        assert bench.facts.reason == "breakpoint"
        await pilot.press("k")
        await rest(pilot, 0.3)
        assert bench.facts.line == 24, "nothing failed: nothing to skip"


async def test_skip_at_an_error_and_end() -> None:
    app = UnevenSum(Launch(str(find("lagged")), keep_case=False))
    async with app.run_test(size=(100, 30)) as pilot:
        bench = await settled(pilot, "paused", 28)
        assert bench.has_class("narrow")
        await pilot.press("k")
        await settled(pilot, "paused", 29)
        await pilot.press("enter")
        bench = await settled(pilot, "paused")
        for _ in range(50):
            await rest(pilot, 0.1)
            if bench.facts and bench.facts.reason == "end":
                break
        assert bench.facts.reason == "end"
        assert "mean response" in bench.query_one(OutputDrawer).last_line
        await pilot.press("tab", "tab")
        await rest(pilot, 0.3)
        assert bench.about == "module"
        await pilot.press("enter")
        await settled(pilot, "ended")


async def test_help_is_searchable_and_can_be_left(script) -> None:
    app = UnevenSum(Launch(script("x = 1\n")), "chalk")
    async with app.run_test(size=(80, 24)) as pilot:
        await settled(pilot, "paused")
        await pilot.press("question_mark")
        await rest(pilot, 0.2)
        assert isinstance(app.screen, Help)
        await pilot.press(*"breakp")
        text = str(app.screen.query_one("#all").render())
        assert "gutter" in text and "trial" not in text
        await pilot.press("escape")
        await rest(pilot, 0.2)
        assert isinstance(app.screen, Bench)
        await pilot.press("T")
        await rest(pilot, 0.2)
        assert app.theme == "slate"


async def test_input_for_the_script(script) -> None:
    app = UnevenSum(Launch(script("n = float(input('level: '))\nprint('twice', n * 2)\n")))
    async with app.run_test(size=(120, 40)) as pilot:
        bench = await settled(pilot, "running")
        await pilot.press("d")
        assert isinstance(app.focused, Input)
        await pilot.press(*"2.5", "enter")
        await settled(pilot, "paused")
        assert bench.query_one(OutputDrawer).last_line.endswith("twice 5.0")


async def test_script_that_cannot_run_is_refused(script) -> None:
    app = UnevenSum(Launch(script("x = (\n")))
    async with app.run_test() as pilot:
        for _ in range(200):
            await pilot.pause(0.1)
            if app.refusal:
                break
    assert "line 1" in app.refusal and "^" in app.refusal


async def test_a_death_is_told_and_rerun_is_offered(script) -> None:
    app = UnevenSum(Launch(script("import os\nos.abort()\n")))
    async with app.run_test(size=(120, 30)) as pilot:
        bench = await settled(pilot, "ended")
        assert ("R", "rerun") in bench.key_line.present_keys()


# -- the program itself ------------------------------------------------------------------------------


STORY = {
    "rating": ("Culprit: head ** 1.5 with head = -0.017", "Pass 212 of 365", "next       36"),
    "routing": ("Culprit: coming - through", "Pass 429 of 672", "next       23"),
    "lagged": ("IndexError at line 28", "Pass 365 of 365", None),
}


@pytest.mark.parametrize("name", STORY)
def test_from_start_to_rerun_in_a_terminal(name: str, terminal) -> None:
    culprit, passes, after = STORY[name]
    t = terminal("demo", name)
    t.expect(passes)
    assert culprit in t.screen()
    t.expect("culprit")
    if after:
        t.keys("Space")
        t.expect(after)
    t.keys("a")
    t.expect("Python, in a copy")
    t.keys("1 + 41", "Enter")
    assert "(in a copy, script unchanged)" in t.expect("42  int  ")
    for key in ("Escape", "Escape", "R"):
        t.keys(key)
        time.sleep(0.7 * slowness())
    t.expect(" in ")
    t.expect(passes)
    t.keys("q")
    t.expect("script?")
    t.keys("Enter")
    t.expect("left with status 0")


def test_small_terminal_and_interrupt(terminal, script) -> None:
    path = script("n = 0\nwhile True:\n    n += 1\n")
    t = terminal("run", path, columns=80, rows=24)
    t.expect("is running")
    time.sleep(0.5 * slowness())
    t.keys("z")
    t.expect("Interrupted at line")
    shown = t.expect("pass ")
    assert all(len(line) <= 80 for line in shown.splitlines())
    assert "? help" in shown and "q quit" in shown


def test_refusals_on_the_command_line(terminal, script) -> None:
    t = terminal("run", script("x = (1 +\n"))
    t.expect("was never closed")
    t.expect("left with status 2")


# -- lookouts and motion in the application ----------------------------------------------------------


async def test_lookouts_on_the_bench_and_their_screen() -> None:
    app = UnevenSum(Launch(str(find("rating")), keep_case=False))
    async with app.run_test(size=(140, 42)) as pilot:
        bench = await settled(pilot, "paused", 35)
        sheet = bench.query_one(Sheet)
        sheet.cursor = 37
        await pilot.press("M")
        await rest(pilot, 0.3)
        assert isinstance(app.screen, EditSentence)
        line = app.screen.query_one(Input)
        assert line.value == "pause at line 37 of rating_year.py"
        line.value = "pause at line 37 of rating_year.py when `total >"
        await rest(pilot, 0.3)
        await pilot.press("enter")
        await rest(pilot, 0.2)
        assert isinstance(app.screen, EditSentence) and not app.screen.fine
        line.value = "pause at line 37 of rating_year.py when `flow[day]` and"
        line.value = "pause at line 37 of rating_year.py when `day == 214`"
        await rest(pilot, 0.3)
        await pilot.press("enter")
        await rest(pilot, 0.5)
        assert sheet.marks == {37: ("if", True)}
        await pilot.press("A", "enter")
        await settled(pilot, "paused", 37)
        assert bench.facts.loops[0].number == 215
        await pilot.press("5")
        await rest(pilot, 0.5)
        screen = app.screen
        assert isinstance(screen, Lookouts)
        shown = [line.text for line in screen.lines]
        assert "pause at line 37 of rating_year.py when `day == 214`" in shown
        assert "pause at errors" in shown and "line 35 of rating_year.py" in shown
        mine = next(line for line in screen.lines if line.kind == "lookout")
        assert mine.met == 1
        screen.at = screen.lines.index(mine)
        await pilot.press("space")
        await rest(pilot, 0.3)
        assert not bench.book.kept[1].lookout.on
        await pilot.press("enter")
        await rest(pilot, 0.2)
        screen.query_one(Input).value = "write `day {day}` at line 37, every 50th time"
        await pilot.press("enter")
        await rest(pilot, 0.4)
        assert bench.book.kept[1].lookout.text == "day {day}" and sheet.marks == {37: ("log", True)}
        await pilot.press("delete")
        await rest(pilot, 0.3)
        assert not bench.book.kept
        await pilot.press("U")
        await rest(pilot, 0.3)
        assert list(bench.book.kept) == [1]
        screen.at = next(n for n, ln in enumerate(screen.lines) if ln.key == "error")
        await pilot.press("enter")
        await rest(pilot, 0.2)
        screen.query_one(Input).value = "pause at errors, handled ones too, only `KeyError`"
        await pilot.press("enter")
        await rest(pilot, 0.4)
        assert bench.book.switches.handled and bench.book.switches.error.only == ["KeyError"]
        await pilot.press("escape")
        await rest(pilot, 0.2)
        assert isinstance(app.screen, Bench)
        await pilot.press("a", *"pause at line 39 when `total`", "enter")
        await rest(pilot, 0.5)
        assert bench.book.kept[2].lookout.condition == "total"
        bench.book.kept[2].lookout.file = "gone.py"
        bench.book.texts["gone.py"] = ["x"] * 39
        assert "is kept" in bench.book.follow_edits()[0] and not bench.book.kept[2].verified


async def test_motion_keys() -> None:
    app = UnevenSum(Launch(str(find("rating")), keep_case=False))
    async with app.run_test(size=(140, 42)) as pilot:
        bench = await settled(pilot, "paused", 35)
        sheet = bench.query_one(Sheet)
        await pilot.press("A", "space")
        await settled(pilot, "paused", 36)
        await pilot.press("p")
        await settled(pilot, "paused", 36)
        assert bench.facts.loops[0].number == 213
        await pilot.press("P", *"220", "enter")
        await settled(pilot, "paused", 36)
        for _ in range(40):
            if bench.facts.loops and bench.facts.loops[0].number == 220:
                break
            await rest(pilot, 0.1)
        assert bench.facts.loops[0].number == 220
        for _ in range(3):
            await pilot.press("s")
            await rest(pilot, 0.4)
        assert sheet.terms[36] and len(sheet.hidden[36]) < len(sheet.terms[36])
        sheet.cursor = 39
        await pilot.press("h")
        await settled(pilot, "paused", 39)
        await pilot.press("slash", *"def main", "enter")
        await rest(pilot, 0.3)
        assert sheet.cursor == 42
        await pilot.press("ctrl+g", *"read_stage", "enter")
        await rest(pilot, 0.3)
        assert sheet.cursor == 16
        await pilot.press("O", *"channel.py", "enter")
        await rest(pilot, 0.4)
        assert sheet.path.endswith("channel.py")
        await pilot.press("home")
        for _ in range(30):
            if sheet.cursor == 39:
                break
            await rest(pilot, 0.1)
        assert sheet.cursor == 39 and sheet.path.endswith("rating_year.py")
        await pilot.press("L")
        await rest(pilot, 0.4)
        assert bench.facts.line == 39, "no loop here"


async def test_slow_run_until_a_key(script) -> None:
    path = script("total = 0.0\nfor k in range(1000):\n    total += k\n    x = total\n")
    app = UnevenSum(Launch(path, pause_on={"start"}))
    async with app.run_test(size=(140, 42)) as pilot:
        bench = await settled(pilot, "paused", 1)
        await pilot.press("S", "greater_than_sign", "greater_than_sign")
        await until(pilot, lambda: bench.facts.loops and (bench.facts.loops[0].number or 0) >= 2)
        assert bench.stepping.slow
        await pilot.press("k")
        await until(pilot, lambda: not bench.stepping.slow and bench.state == "paused")


async def test_an_edited_file_keeps_its_lookouts(script) -> None:
    path = script("a = 1\nb = a + 1\nc = b * 2\nprint(c)\n")
    app = UnevenSum(Launch(path))
    async with app.run_test(size=(140, 42)) as pilot:
        bench = await settled(pilot, "paused")
        sheet = bench.query_one(Sheet)
        sheet.cursor = 3
        await pilot.press("m")
        await rest(pilot, 0.3)
        with open(path, "w") as f:
            f.write("# words\na = 1\nb = a + 1\n\nc = b * 20\nprint(c)\n")
        await pilot.press("R")
        await settled(pilot, "paused", 5)
        assert bench.facts.reason == "breakpoint" and sheet.marks == {5: ("", True)}


def test_a_condition_in_a_terminal(terminal) -> None:
    t = terminal("demo", "rating")
    t.expect("culprit")
    time.sleep(0.5 * slowness())
    t.keys("Down", "Down")
    time.sleep(0.2 * slowness())
    t.keys("M")
    t.expect("A new lookout")
    t.keys(" when `day == 300`")
    t.expect("fine")
    t.keys("Enter")
    t.expect("‖if   37")
    t.keys("A", "Enter")
    t.expect("day == 300 is true")
    t.keys("5")
    t.expect("pause at line 37 of rating_year.py when `day == 300`   hit once")
    t.keys("2")
    t.expect("Pass 301 of 365")
    t.keys("C-p")
    t.expect("Search for commands")
    t.keys("return now", "Enter")
    t.expect("what shall it return?")
    time.sleep(0.5 * slowness())
    t.keys("End", "C-u")
    time.sleep(0.3 * slowness())
    t.keys("flow, 1.0, None")
    t.expect(" flow, 1.0, None ")
    t.keys("Enter")
    t.expect("The call returned")


# -- values in the application -----------------------------------------------------------------------

VALUES = """\
import numpy as np
import pandas as pd
inflow = np.sin(np.arange(400) / 9.0)
inflow[41] = np.nan
table = np.arange(12.0).reshape(3, 4)
frame = pd.DataFrame({"gauge": ["sill", "weir", "sill"], "depth": [1.0, -2.0, 0.5]})
text = '{"station": "quillmere", "levels": [1.5]}'
level = 4.0
x = inflow.sum()
"""


async def test_close_up_grid_plots_and_compare(script, tmp_path) -> None:
    path = script(VALUES)
    app = UnevenSum(Launch(path, pause_on=set()))
    async with app.run_test(size=(140, 42)) as pilot:
        bench = app.screen_stack[1]
        bench.book.add(Lookout(file=path, line=9))
        await settled(pilot, "paused")
        if bench.facts.line != 9:
            await pilot.press("R")
            await settled(pilot, "paused", 9)
        await pilot.press("c")
        await until(pilot, lambda: isinstance(app.screen, CloseUp) and app.screen.query(Grid))
        screen = app.screen
        assert screen.expression == "inflow"
        grid = screen.query_one(Grid)
        await until(pilot, lambda: grid.page is not None)
        await pilot.press("b")
        await until(pilot, lambda: grid.row == 41)
        assert grid.cell() == ("row 41, value", "nan")
        await pilot.press("y")
        assert app.clipboard == "nan"
        await pilot.press("g", *"399", "enter")
        await until(pilot, lambda: grid.row == 399)
        await pilot.press("n", "full_stop")
        assert screen.how.style == "fixed" and screen.how.digits == 7
        await pilot.press("v")
        await until(pilot, lambda: screen.view == "line" and screen.query(Plot) and screen.query_one(Plot).drawn)
        await pilot.press("plus")
        await until(
            pilot,
            lambda: screen.plot_data and screen.plot_data["last"] - screen.plot_data["first"] < 400,
        )
        await pilot.press("x")
        await until(pilot, lambda: isinstance(app.screen, Prompt))
        app.screen.query_one(Input).value = str(tmp_path / "inflow.svg")
        await pilot.press("enter")
        await until(pilot, lambda: (tmp_path / "inflow.svg").exists() and not screen.busy_since)
        await pilot.press("w")
        await until(pilot, lambda: isinstance(app.screen, Prompt))
        app.screen.query_one(Input).value = "inflow * 2"
        await pilot.press("enter")
        await until(pilot, lambda: isinstance(app.screen, Prompt) and "tolerances" in app.screen.question)
        await pilot.press("enter")
        await until(pilot, lambda: any(a == "≠ differ" for a, _ in screen.told["facts"]))
        await pilot.press("escape")
        await until(pilot, lambda: isinstance(app.screen, Bench))


async def test_frames_parts_texts_watches_and_words(script, tmp_path) -> None:
    path = script(VALUES)
    app = UnevenSum(Launch(path, pause_on=set()))
    async with app.run_test(size=(110, 30)) as pilot:
        bench = await settled(pilot, "paused")
        assert bench.facts.reason == "end"
        bench.values.open_closeup(["frame"])
        await until(pilot, lambda: isinstance(app.screen, CloseUp) and app.screen.query(Grid))
        screen, grid = app.screen, app.screen.query_one(Grid)
        await until(pilot, lambda: grid.page is not None)
        await pilot.press("f")
        await until(pilot, lambda: isinstance(app.screen, Prompt))
        await pilot.press(*"depth < 0", "enter")
        await until(pilot, lambda: grid.rows == 1)
        await pilot.press("f")
        await until(pilot, lambda: isinstance(app.screen, Prompt))
        app.screen.query_one(Input).value = "nowhere < 0"
        await pilot.press("enter")
        await until(pilot, lambda: "cannot be used" in str(screen.query_one("#said").render()))
        assert screen.filter == "depth < 0"
        await pilot.press("escape")
        bench.values.open_closeup(["text"])
        await until(pilot, lambda: isinstance(app.screen, CloseUp) and app.screen.query("Tree"))
        await pilot.press("escape")
        await until(pilot, lambda: isinstance(app.screen, Bench))
        for watched in ("level * 2", "nowhere"):
            await pilot.press("plus")
            await until(pilot, lambda: isinstance(app.screen, Prompt))
            app.screen.query_one(Input).value = watched
            await pilot.press("enter")
            await until(pilot, lambda w=watched: any(c.name == w for c in bench.query_one(Cards).cards))
        told = {c.name: c for c in bench.query_one(Cards).cards}
        assert told["level * 2"].text == "8.0" and told["nowhere"].text.startswith("not known here yet")
        target = tmp_path / "stage.pdf"
        await pilot.press("a")
        bench.query_one(AskLine).value = f"plot inflow[:30] to {target}"
        await pilot.press("enter")
        await until(pilot, target.exists)
        bench.query_one(AskLine).value = "plot table as heat"
        await pilot.press("enter")
        await until(pilot, lambda: isinstance(app.screen, CloseUp) and app.screen.view == "heat")


async def test_hover_and_the_menu_of_a_card(script, tmp_path, monkeypatch) -> None:
    taken = tmp_path / "taken"
    command = tmp_path / "bin" / "wl-copy"
    command.parent.mkdir()
    command.write_text(f"#!/bin/sh\ncat > {taken}\n")
    command.chmod(0o755)
    monkeypatch.setenv("PATH", f"{command.parent}:{os.environ['PATH']}")
    path = script(
        "import numpy as np\nclass Gauge:\n    sill = 1.5\nstage, gauge = np.array([2.0, np.nan, 4.0]), Gauge()\n"
        "for day in range(3):\n    head = stage[day] - gauge.sill\n    breakpoint()\n"
    )
    app = UnevenSum(Launch(path, pause_on={"error"}))
    async with app.run_test(size=(140, 42), tooltips=True) as pilot:
        bench = await settled(pilot, "paused", 7)
        sheet = bench.query_one(Sheet)
        text = sheet.lines[5]

        async def hover(word: str, into: int = 0) -> str:
            row = sheet.row_of(6) - sheet.scroll_offset.y
            await pilot.hover(Sheet, offset=(GUTTER + text.index(word) + into, row))
            await rest(pilot, 0.4)
            return str(sheet.tooltip)

        assert await hover("head") == "head = 0.5   numpy.float64"
        assert await hover("stage") == "stage = 3 cells float64, [2.0 nan 4.0]   numpy.ndarray"
        assert await hover("[day]") == "stage[day] = 2.0   numpy.float64"
        assert await hover("day]") == "day = 0   int"
        assert await hover("gauge.sill", 8) == "gauge.sill = 1.5   float"
        assert await hover("=") == "None"
        cards = bench.query_one(Cards)
        at = next(n for n, c in enumerate(cards.cards) if c.name == "head")
        await pilot.click(Cards, offset=(3, cards.starts[at] - cards.scroll_offset.y), button=3)
        await rest(pilot, 0.4)
        assert isinstance(app.screen, Choose) and app.screen.question == "head"
        await pilot.press("down", "down", "enter")
        await rest(pilot, 0.4)
        assert bench.watches == ["head"]
        await pilot.press("v", *"stage", "enter")
        await rest(pilot, 0.4)
        assert [c.key for c in app.screen.choices] == ["open", "set", "watch", "copy"]
        await pilot.press("down", "down", "down", "enter")
        await rest(pilot, 0.6)
        assert taken.read_text() == app.clipboard and app.clipboard.startswith("3 cells float64, [2.0 nan 4.0]")
        await pilot.press("enter")
        await settled(pilot, "paused", 7)
        await pilot.press("v", *"head", "enter")
        await rest(pilot, 0.4)
        assert [c.key for c in app.screen.choices] == ["open", "set", "watch", "old", "copy"]
        await pilot.press("down", "down", "down", "enter")
        await rest(pilot, 0.4)
        assert app.clipboard == "head: 0.5 → nan"
        await pilot.press("v", *"head", "enter")
        await rest(pilot, 0.4)
        await pilot.press("down", "down", "enter")
        await rest(pilot, 0.4)
        assert bench.watches == []


def test_close_up_in_a_terminal(terminal) -> None:
    t = terminal("demo", "rating")
    t.expect("culprit")
    time.sleep(0.5 * slowness())
    t.keys("c")
    t.expect("close-up of flow")
    t.expect("standard deviation")
    t.keys("v")
    t.expect("histogram")
    t.keys("Escape")
    t.expect("Pass 212 of 365")


async def test_lookouts_and_watches_are_kept_with_the_case(script) -> None:
    path = script("total = 0.0\nfor k in range(9):\n    total += k * 0.5\n    level = total - 3\nprint(total)\n")
    app = UnevenSum(Launch(path))
    async with app.run_test(size=(140, 42)) as pilot:
        bench = await settled(pilot, "paused")
        bench.watches.append("total * 2")
        bench.book.add(Lookout(file=path, line=4, condition="k > 3"))
        await pilot.press("q")
        await rest(pilot, 0.5)
    app = UnevenSum(Launch(path))
    async with app.run_test(size=(140, 42)) as pilot:
        bench = await settled(pilot, "paused", 4)
        assert bench.watches == ["total * 2"] and bench.query_one(Sheet).marks == {4: ("if", True)}
        for _ in range(3):
            number = bench.facts.loops[0].number
            await pilot.press("p")
            await until(pilot, lambda n=number: bench.state == "paused" and bench.facts.loops[0].number > n)
            await rest(pilot, 0.3)
        assert {c.name for c in bench.query_one(Cards).cards if c.spark} >= {"total", "level"}


async def test_going_back_on_the_bench(script) -> None:
    path = script("total = 0.0\nfor k in range(9):\n    total += k\n    print('pass', k)\ny = 1.0 / (total - 36)\n")
    app = UnevenSum(Launch(path, pause_on={"start", "error"}, pause_on_given=True))
    async with app.run_test(size=(140, 42)) as pilot:
        bench = await settled(pilot, "paused", 1)
        drawer = bench.query_one(OutputDrawer)
        bench.query_one(Sheet).cursor = 4
        await pilot.press("h")
        await settled(pilot, "paused", 4)
        await pilot.press("p")
        await until(pilot, lambda: bench.state == "paused" and bench.facts.loops and bench.facts.loops[0].number == 2)
        await until(pilot, lambda: drawer.last_line == "pass 0")
        await pilot.press("enter")
        await settled(pilot, "paused", 5)
        await until(pilot, lambda: drawer.last_line == "pass 8")
        assert ("backspace", "go back") in bench.key_line.present_keys()
        await pilot.press("backspace")
        await settled(pilot, "paused", 4)
        assert bench.facts.loops[0].number == 2 and drawer.last_line == "pass 0"
        await pilot.press("b")
        await until(pilot, lambda: isinstance(app.screen, Choose) and len(app.screen.shown) >= 2)
        await pilot.press("end", "enter")
        await settled(pilot, "paused", 1)
        await pilot.press("backspace")
        await rest(pilot, 0.5)
        assert bench.state == "paused" and bench.facts.line == 1


def test_back_in_a_terminal(terminal) -> None:
    t = terminal("demo", "rating")
    t.expect("culprit")
    time.sleep(0.5 * slowness())
    t.keys("A")
    t.keys("Space")
    t.expect("next       36")
    t.keys("BSpace")
    t.expect("Culprit: head ** 1.5 with head = -0.017")
    assert re.search(r"in +35› ", t.screen())


def answers(bench: Bench) -> str:
    """What stands in the ask drawer."""
    lines = bench.query_one(AskDrawer).query_one("RichLog").lines
    return "\n".join(strip.text.rstrip() for strip in lines)


async def test_asking_in_lines_for_good_and_by_calls(script) -> None:
    path = script(
        "level = 1.5\nseen = []\ndef rise(by):\n    seen.append(by)\n    half = by / 2\n    return level + half\n"
        "for day in range(3):\n    breakpoint()\nprint(seen)\n"
    )
    app = UnevenSum(Launch(path, pause_on={"error"}))
    async with app.run_test(size=(140, 42)) as pilot:
        bench = await settled(pilot, "paused", 8)
        line = bench.query_one(AskLine)

        await pilot.press("a", *"rise(4)", "enter")
        await until(pilot, lambda: "would change" in answers(bench))
        assert "3.5  float" in answers(bench) and "(in a copy, script unchanged)" in answers(bench)
        assert "would change  seen 0 elements → 1 elements" in answers(bench) and " ms " in answers(bench)
        await pilot.press("ctrl+g")
        await until(pilot, lambda: "(in the script)" in answers(bench))
        await pilot.press(*"for v in seen:", "enter", *"print(v * 10)", "enter", "enter")
        await until(pilot, lambda: "printed: 40" in answers(bench))
        await pilot.press("up")
        assert line.value == "for v in seen:\n    print(v * 10)"
        line.value = ""
        await pilot.press(*"call rise(6)", "enter")
        await until(pilot, lambda: "9.0" not in answers(bench) and "4.5  float" in answers(bench))
        await until(pilot, lambda: bench.state == "paused" and not bench.facts.nested)
        bench.book.toggle(path, 5)
        await bench.breakpoints.send_lookouts()
        await pilot.press(*"call rise(8)", "enter")
        await until(pilot, lambda: bench.state == "paused" and bench.facts.line == 5)
        assert bench.facts.nested == "rise(8)" and ("x", "leave copy") in bench.key_line.present_keys()
        await pilot.press("escape", "space")
        await until(pilot, lambda: bench.state == "paused" and bench.facts.line == 6)
        await pilot.press("x")
        await until(pilot, lambda: bench.state == "paused" and bench.facts.line == 8)
        await pilot.press("a", *"len(seen)", "enter")
        await rest(pilot, 0.2)
        await until(pilot, lambda: "  1  int" in answers(bench))
        await pilot.press("escape", "enter")
        await until(pilot, lambda: bench.facts.loops[0].number == 2)
    other = UnevenSum(Launch(path, pause_on={"error"}))
    async with other.run_test(size=(140, 42)) as pilot:
        bench = await settled(pilot, "paused", 8)
        await pilot.press("a", "up")
        assert bench.query_one(AskLine).value == "len(seen)", "kept from the session before"


FAULTY = """SILL = 2.0
def rate(stage, width=4.0):
    flow = []
    for level in stage:
        head = level - SILL
        flow.append(head ** 1.5 * width / (head - 1.0))
    return flow
def main():
    print(sum(rate([2.5, 3.0, 3.25])))
main()
"""


async def test_a_change_is_tried_put_in_the_file_and_taken_up(script) -> None:
    path = script(FAULTY)
    app = UnevenSum(Launch(path))
    async with app.run_test(size=(140, 42)) as pilot:
        bench = await settled(pilot, "paused", 6)
        bench.book.toggle(path, 7)
        await bench.breakpoints.send_lookouts()
        await pilot.press("w")
        await until(pilot, lambda: isinstance(app.screen, TryChange) and app.screen.old)
        screen = app.screen
        area = screen.query_one("TextArea")
        assert area.text == "flow.append(head ** 1.5 * width / (head - 1.0))"

        def shown(name: str) -> str:
            return str(screen.query_one(name).render())

        assert "culprit" in shown("#is")
        area.load_text("flow.append(head ** 1.5 *")
        await until(pilot, lambda: "is not Python" in shown("#said"))
        area.load_text("if head != 1.0:\n    flow.append(head ** 1.5 * width / (head - 1.0))")
        await until(pilot, lambda: "head != 1.0" in shown("#would") and "would change" in shown("#said"))
        await pilot.press("ctrl+s")
        await until(pilot, lambda: isinstance(app.screen, Choose))
        assert [c.key for c in app.screen.choices] == ["restart", "next", "again", "same", "only"]
        assert "        if head != 1.0:\n            flow.append" in Path(path).read_text()
        await pilot.press("enter")
        await until(pilot, lambda: bench.state == "paused" and bench.facts.headline.startswith("rate is entered again"))
        sheet = bench.query_one(Sheet)
        assert sheet.lines[5] == "        if head != 1.0:" and sheet.marks == {8: ("", True)}, "moved with its line"
        await pilot.press("enter")
        await settled(pilot, "paused", 8)
        await pilot.press("enter")
        await settled(pilot, "paused", None)
        await until(pilot, lambda: bench.facts is not None and bench.facts.reason == "end")
        assert bench.query_one(OutputDrawer).last_line.startswith("19.")
        await pilot.press("backspace")
        await settled(pilot, "paused", 8)
        assert sheet.lines[7] == "    return flow"


def test_apart_try_put_in_the_file_and_on_to_the_end(terminal, script) -> None:
    path = script(FAULTY)
    t = terminal("run", path)
    t.expect("ZeroDivisionError at line 6")
    t.expect("culprit")
    time.sleep(0.5 * slowness())
    t.keys("t")  # folds the terms
    time.sleep(0.5 * slowness())
    assert "culprit" not in t.screen().replace("Culprit", "")
    t.keys("t")
    t.expect("head - 1.0")
    t.keys("w")
    t.expect("save edit")
    time.sleep(0.5 * slowness())
    t.keys(*["BSpace"] * len("(head - 1.0))"))
    time.sleep(0.5 * slowness())
    t.keys("-l", "max(head - 1.0, 0.5))")
    t.expect("would change")
    assert "max(head - 1.0, 0.5)" in t.screen() and "[-2.82843, 8.0]" in t.screen()
    t.keys("C-s")
    t.expect("begin this call of rate again")
    assert "width / max(head - 1.0, 0.5))" in Path(path).read_text()
    t.keys("Enter")
    t.expect("rate is entered again")
    assert "width / max(head - 1.0, 0.5))" in t.screen()
    t.keys("Enter")
    t.expect("The script finished")
    t.expect("22.00876")
    t.keys("q")
    t.expect("left with status 0")


async def test_a_question_given_up_and_one_that_needs_the_script_itself(script) -> None:
    path = script(
        "import threading, time\nseen = []\nbreakpoint()\n"
        "threading.Thread(target=time.sleep, args=(60,), daemon=True).start()\nbreakpoint()\nprint(seen)\n"
    )
    app = UnevenSum(Launch(path, pause_on={"error"}))
    async with app.run_test(size=(140, 42)) as pilot:
        bench = await settled(pilot, "paused", 3)

        await pilot.press("a", *"time.sleep(60)", "enter")
        await until(pilot, lambda: bench.asking.under_way)
        await pilot.press("escape")
        await until(pilot, lambda: "it was cancelled" in answers(bench))
        await pilot.press("escape", "enter")
        await settled(pilot, "paused", 5)
        await pilot.press("a", *"seen.append(1)", "enter")
        await until(pilot, lambda: isinstance(app.screen, Sure))
        assert "1 other thread of the script would be missing in a copy" in app.screen.question
        await pilot.press("escape")
        await until(pilot, lambda: "Nothing was evaluated" in answers(bench))
        await pilot.press(*"seen.append(2)", "enter")
        await until(pilot, lambda: isinstance(app.screen, Sure))
        await pilot.press("enter")
        await until(pilot, lambda: "(in the script)" in answers(bench))
        await pilot.press(*"call seen.append(3)", "enter")
        await until(pilot, lambda: isinstance(app.screen, Sure))
        assert "Run the call in the script itself?" in app.screen.question
        await pilot.press("enter")
        await until(pilot, lambda: answers(bench).count("(in the script)") == 2)
        await pilot.press("escape", "escape", "enter")
        await until(pilot, lambda: bench.query_one(OutputDrawer).last_line == "[2, 3]")
