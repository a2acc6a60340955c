"""The guide: each step is over once it was done, and it can be left."""

from __future__ import annotations

import re
from pathlib import Path

import pytest
from driving_app import rest, until

from uneven_sum.app.app import UnevenSum
from uneven_sum.app.bench.guide_bar import STEPS, GuideBar
from uneven_sum.app.bench.screen import Bench
from uneven_sum.app.closeup.screen import CloseUp
from uneven_sum.app.widgets.bars import TopLine
from uneven_sum.demo import FOLDER


def said(bench: Bench) -> str:
    return str(bench.query_one(GuideBar).render())


async def test_five_steps() -> None:
    app = UnevenSum(None)
    async with app.run_test(size=(140, 42)) as pilot:
        await until(pilot, lambda: app.desk is not None and app.desk.setup is not None)
        assert "new here? g opens the guide" in str(app.desk.query_one(TopLine).render())
        await pilot.press("g")
        bench = await settled_bench(pilot)
        assert "Step 1 of 5" in said(bench) and len(STEPS) == 5
        await rest(pilot, 0.6)
        assert "Step 1 of 5" in said(bench)  # nothing was done yet
        await pilot.press("tab")
        await until(pilot, lambda: "Step 2 of 5" in said(bench))
        await pilot.press("f")
        await rest(pilot, 0.3)
        await pilot.press(*"stage", "enter")
        await until(pilot, lambda: isinstance(app.screen, CloseUp))
        await rest(pilot, 0.5)
        await pilot.press("escape")
        await until(pilot, lambda: "Step 3 of 5" in said(bench))
        await pilot.press("a")
        await until(pilot, lambda: bench.typing)
        await pilot.press(*"max(head, 0.0)", "enter")
        await rest(pilot, 1)
        assert "Step 3 of 5" in said(bench)
        await pilot.press("escape", "escape")
        await until(pilot, lambda: "Step 4 of 5" in said(bench))
        await pilot.press("p")
        await until(pilot, lambda: bench.state == "paused" and bench.facts.loops[-1].number == 213)
        await rest(pilot, 0.5)
        await pilot.press("backspace")
        await until(pilot, lambda: "Step 5 of 5" in said(bench), 60)
        await until(pilot, lambda: bench.state == "paused")
        script = Path(bench.script_path())
        text = script.read_text()
        script.write_text(text.replace("C * head ** 1.5", "C * max(head, 0.0) ** 1.5"))
        await pilot.press("R")
        await until(pilot, lambda: "The guide is done" in said(bench), 60)
        await pilot.press("G")
        await until(pilot, lambda: not bench.query(GuideBar))
    assert "max(head" not in (FOLDER / "rating_year.py").read_text()


async def settled_bench(pilot) -> Bench:
    await until(pilot, lambda: isinstance(pilot.app.screen, Bench) and pilot.app.screen.state == "paused", 60)
    await rest(pilot, 0.4)
    bench = pilot.app.screen
    assert isinstance(bench, Bench)
    return bench


async def test_it_is_left_at_any_time_and_begins_anew() -> None:
    app = UnevenSum(None)
    async with app.run_test(size=(140, 42)) as pilot:
        await until(pilot, lambda: app.desk is not None)
        await pilot.press("g")
        bench = await settled_bench(pilot)
        script = Path(bench.script_path())
        script.write_text("broken(")
        await pilot.press("G")
        await until(pilot, lambda: not bench.query(GuideBar))
        await pilot.press("G")
        assert any("begins on the Desk" in m for m in app.messages)
        await pilot.press("1")
        await rest(pilot, 0.3)
        await pilot.press("enter")
        await until(pilot, lambda: app.screen is app.desk)
        await pilot.press("g")
        await settled_bench(pilot)
        assert script.read_text() == (FOLDER / "rating_year.py").read_text()


async def test_a_place_that_cannot_be_written_is_told(monkeypatch) -> None:
    monkeypatch.setenv("XDG_STATE_HOME", "/proc/nowhere")
    app = UnevenSum(None)
    async with app.run_test(size=(140, 42)) as pilot:
        await until(pilot, lambda: app.desk is not None)
        await pilot.press("g")
        await rest(pilot, 0.3)
        assert app.screen is app.desk
        assert "The guide needs a copy of its case" in str(app.desk.query_one("#said").render())


def test_in_a_terminal(terminal) -> None:
    one = terminal("guide")
    one.expect("Step 1 of 5")
    one.expect("culprit")
    one.keys("Tab")
    one.expect("Step 2 of 5: Look at a value")
    one.keys("G")
    one.gone("Step 2 of 5")
    one.keys("q")
    one.expect("script?")
    one.keys("Enter")
    one.expect("left with status 0")


@pytest.mark.parametrize("look", ["NO_COLOR=1", "TERM=xterm-16color COLORTERM="], ids=["no colours", "16 colours"])
def test_without_colours_the_marks_still_tell(terminal, look: str) -> None:
    one = terminal("demo", "rating", columns=80, rows=24, env=look)
    shown = one.expect("culprit")
    assert "! nan" in shown and "nan created at line 35" in shown
    assert any(line.split()[:2] == ["in", "35›"] for line in shown.split("\n"))
    coloured = one.tmux("capture-pane", "-p", "-e")
    tints = {tuple(m) for m in re.findall(r"[34]8;2;(\d+);(\d+);(\d+)", coloured)}
    assert not tints if "16" in look else all(len(set(t)) == 1 for t in tints)  # greys, where no colour is wanted
    one.keys("Down", "m")
    one.expect("‖")
    one.keys("7")
    one.expect("evaluation time limit")
    one.keys("Escape")
    one.gone("evaluation time limit")
    one.keys("space")
    one.expect(" next ‖     36")
    one.keys("q")
    one.expect("script?")
    one.keys("Enter")
    one.expect("left with status 0")
