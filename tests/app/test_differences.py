"""The Differences: two runs side by side on the screen, and from there to either script."""

from __future__ import annotations

from pathlib import Path

import pytest
from driving_app import rest, until
from textual.widgets import Input, OptionList, Static

from uneven_sum.app.app import UnevenSum
from uneven_sum.app.bench.screen import Bench
from uneven_sum.app.differences.screen import Differences
from uneven_sum.app.widgets.bars import Keys
from uneven_sum.app.widgets.dialogs import Choose, Prompt
from uneven_sum.client import Launch, notes
from uneven_sum.client.setup import Setup

pytestmark = pytest.mark.usefixtures("own_folder")

SCRIPT = """import math
def rate(head):
    return 0.6 * math.sqrt(19.62 * head)
level = 2.0
for day in range(40):
    flow = rate(level)
    level = level - flow * 0.01
print("level", level)
"""


def text_of(screen: Differences, name: str) -> str:
    return str(screen.query_one(name, Static).render())


def rows(screen: Differences) -> list[str]:
    options = screen.query_one(OptionList)
    return [str(options.get_option_at_index(n).prompt) for n in range(options.option_count)]


async def compared(pilot, choice: str, other: str = "") -> Differences:
    """After `9`: the choice of the dialog, and what is typed."""
    app = pilot.app
    await pilot.press("9")
    await until(pilot, lambda: isinstance(app.screen, Choose))
    await pilot.press(*(["enter"] if choice == "other" else ["down", "enter"]))
    if choice == "other":
        await until(pilot, lambda: isinstance(app.screen, Prompt))
        app.screen.query_one(Input).value = other
        await pilot.press("enter")
    await until(pilot, lambda: isinstance(app.screen, Differences) and app.screen.state == "done", 60)
    await rest(pilot, 0.2)
    return app.screen


async def desk(pilot, path: str) -> None:
    app = pilot.app
    await until(pilot, lambda: app.desk is not None and app.desk.setup is not None)
    app.desk.show_case(Setup(path))
    await rest(pilot, 0.2)


async def test_two_scripts_from_the_desk_and_to_the_place_in_one(script, tmp_path: Path, monkeypatch) -> None:
    old = Path(script(SCRIPT, "gauge.py"))
    monkeypatch.chdir(old.parent)
    (old.parent / "wide.py").write_text(SCRIPT.replace("0.6 *", "0.61 *"))
    app = UnevenSum(None)
    async with app.run_test(size=(140, 42)) as pilot:
        await desk(pilot, str(old))
        screen = await compared(pilot, "other", "wide.py")
        assert text_of(screen, "#head").startswith("The values first differ in line 3, by 0.0164 of its size.")
        shown = rows(screen)
        assert shown[0].startswith("value        3  0.61 * math.sqrt(19.62 * head)") and "40 times" in shown[0]
        left, right = screen.sheets
        assert left.at_line == right.at_line == 3 and "0.61" in left.lines[2] and "0.6 *" in right.lines[2]
        said = text_of(screen, "#values")
        assert "left   line     3  3.82" in said and "output, first line that differs" in said and "level" in said
        assert "difference by pass" in text_of(screen, "#growth")
        await pilot.press("o")
        assert "the difference begins here" in text_of(screen, "#said")
        options = screen.query_one(OptionList)
        options.highlighted = next(n for n, row in enumerate(shown) if "level - flow * 0.01" in row)
        await rest(pilot, 0.1)
        await pilot.press("o")
        assert options.highlighted == 0 and "Line 3 differs first of all" in text_of(screen, "#said")
        await pilot.press("t")
        await until(pilot, lambda: screen.state == "done" and screen.terms, 60)
        assert any("19.62 * head" in row and "math.sqrt" not in row for row in rows(screen))
        assert "0.61 * math.sqrt(19.62 * head)" in rows(screen)[0], rows(screen)
        await pilot.press("n")
        await until(pilot, lambda: isinstance(app.screen, Prompt))
        app.screen.query_one(Input).value = "0.5"
        await pilot.press("enter")
        await until(pilot, lambda: app.screen is screen and screen.state == "done" and screen.relative == 0.5, 60)
        assert "differ within the tolerance, by up to 0.0" in text_of(screen, "#head")
        screen.relative, screen.terms = 0.0, False
        await pilot.press("r")
        await until(pilot, lambda: screen.state == "done" and len(rows(screen)) == len(shown), 60)
        await pilot.press("ctrl+k")
        await until(pilot, lambda: "Saved to the Notes" in text_of(screen, "#said"))
        assert "differences of wide.py and gauge.py" in [e.title for e in notes.load(str(old))]
        await pilot.press("enter")
        await until(pilot, lambda: isinstance(app.screen, Bench) and app.screen.state == "paused", 30)
        bench = app.screen
        await until(pilot, lambda: bench.facts is not None and bench.facts.line == 3, 30)
        assert bench.launch.name == "gauge.py" and bench.facts.function == "rate"


@pytest.mark.parametrize("elsewhere", [False, True], ids=["its folder", "another folder"])
async def test_a_run_after_an_edit_is_compared_with_the_one_before(script, tmp_path: Path, elsewhere: bool) -> None:
    path = Path(script(SCRIPT, "gauge.py"))
    (tmp_path / "runs").mkdir()
    app = UnevenSum(Launch(str(path), cwd=str(tmp_path / "runs" if elsewhere else path.parent)))
    async with app.run_test(size=(140, 42)) as pilot:
        bench = app.screen
        await until(pilot, lambda: bench.state == "paused", 30)
        path.write_text(SCRIPT.replace("* 0.01", "* 0.02"))
        await pilot.press("R")
        await until(pilot, lambda: bench.runs == 2 and bench.state == "paused", 30)
        await pilot.press("9")
        await until(pilot, lambda: isinstance(app.screen, Differences) and app.screen.state == "done", 60)
        screen = app.screen
        assert text_of(screen, "#left-title").strip() == "gauge.py with gauge.py before the edit"
        assert text_of(screen, "#head").startswith("The values first differ in line 7")
        left, right = screen.sheets
        assert "0.01" in left.lines[6] and "0.02" in right.lines[6]
        await pilot.press("tab", "enter")
        await until(pilot, lambda: "no longer in the file" in text_of(screen, "#said"))
        assert path.read_text() == SCRIPT.replace("* 0.01", "* 0.02")
        await pilot.press("down", "tab", "enter")
        await until(pilot, lambda: app.screen is bench and bench.runs == 3 and bench.state == "paused", 30)


async def test_itself_is_equal_and_what_cannot_run_is_said(script) -> None:
    path = Path(script(SCRIPT, "gauge.py"))
    app = UnevenSum(None)
    async with app.run_test(size=(140, 42)) as pilot:
        await desk(pilot, str(path))
        screen = await compared(pilot, "itself")
        assert text_of(screen, "#head").startswith("The runs are equal to the end: ") and rows(screen) == []
        assert "go there" not in str(screen.query_one(Keys).render())
        await pilot.press("escape")
        await until(pilot, lambda: app.screen is app.desk)
        screen = await compared(pilot, "other", "none.py")
        assert "There is no file" in text_of(screen, "#said")


async def test_paths_that_part_and_runs_that_are_ended(script) -> None:
    text = "import sys, time\nfor k in range(400):\n    x = k * 0.5\n    time.sleep(0.01)\n"
    path = Path(script(text, "slow.py"))
    (path.parent / "short.py").write_text("import sys, time\nfor k in range(3):\n    x = k * 0.5\nz = 1.0\n")
    app = UnevenSum(None)
    async with app.run_test(size=(140, 42)) as pilot:
        await desk(pilot, str(path))
        await pilot.press("9")
        await until(pilot, lambda: isinstance(app.screen, Choose))
        await pilot.press("down", "enter")
        await until(pilot, lambda: isinstance(app.screen, Differences))
        screen = app.screen
        assert "end runs" in str(screen.query_one(Keys).render())
        await pilot.press("x")
        await until(pilot, lambda: screen.state == "done", 30)
        assert "until you ended the runs" in text_of(screen, "#head")
        await pilot.press("escape")
        await until(pilot, lambda: app.screen is app.desk)
        screen = await compared(pilot, "other", str(path.parent / "short.py"))
        assert any(row.startswith("path") for row in rows(screen))
        assert "different paths" in text_of(screen, "#head") or "alone" in text_of(screen, "#head")
