"""Notebooks, and scripts with cells, on the Bench and the Desk, in process."""

from __future__ import annotations

from pathlib import Path

from as_notebook import V4, code, sources, value, write
from driving_app import settled, until
from textual.widgets import OptionList, TextArea

from uneven_sum.app.app import UnevenSum
from uneven_sum.app.bench.cards import Cards
from uneven_sum.app.closeup.figure import FigureView
from uneven_sum.app.desk.screen import Desk
from uneven_sum.app.editor.screen import Editor
from uneven_sum.app.widgets.dialogs import Choose
from uneven_sum.app.widgets.sheet import Sheet
from uneven_sum.client import Launch
from uneven_sum.client.sources import place_words


def a_notebook(folder: Path) -> str:
    return write(
        folder / "flow.ipynb",
        V4.new_markdown_cell("# Flow over the sill\n\nFrom the stage."),
        "import matplotlib.pyplot as plt\nstage = [1.0, 0.9, 0.4]\nplt.plot(stage)\nlen(stage)",
        code("def flow(head):\n    return 1.0 / (head - 0.4)", 9, "the rating"),
        "flows = [flow(level) for level in stage]\nflows",
        "print('done')\nsum(flows)",
    )


def shown(sheet: Sheet) -> list[str]:
    """The rows of the sheet as they are drawn, without what comes after two blanks at the end."""
    rows = []
    for y in range(len(sheet.rows)):
        row = sheet.rows[y]
        rule = sheet.cells.rule(row.line) if row.is_source else None
        rows.append(f"── {rule[0]} {rule[1]}".rstrip() if rule else row.remark or sheet.lines[row.line - 1])
    return rows


def choices(app) -> list[str]:
    options = app.screen.query_one(OptionList)
    return [str(options.get_option_at_index(n).prompt).strip("› ") for n in range(options.option_count)]


async def test_a_notebook_on_the_bench(tmp_path: Path) -> None:
    path = a_notebook(tmp_path)
    app = UnevenSum(Launch(path, keep_case=False))
    async with app.run_test(size=(140, 44)) as pilot:
        bench = await settled(pilot, "paused")
        assert place_words(path, bench.facts.line) == "cell 3, line 2"
        sheet = bench.query_one(Sheet)
        await until(pilot, lambda: sheet.cells.outputs, 90)
        rows = shown(sheet)
        assert rows[:2] == ["── cell 1 · text", "# # Flow over the sill"]
        assert "# From the stage." not in rows, "a text is folded"
        assert "── cell 3 · In [9] · the rating" in rows
        assert rows[rows.index("len(stage)") + 1].startswith("3   … 1 more"), rows
        assert [sheet.cells.label(n) for n in (1, 2, 7)] == ["", "1", "1"]
        sheet.cursor = 2
        await pilot.press("D")
        assert "# From the stage." in shown(sheet)
        sheet.cursor = sheet.cells.places[1].first
        await pilot.press("I")
        await until(pilot, lambda: isinstance(app.screen, FigureView), 90)
        await pilot.press("ctrl+k")
        await pilot.press("escape")
        await until(pilot, lambda: app.screen is bench)
        # The changed cell and all after it run, as it was before.
        sheet.cursor = sheet.cells.places[2].first + 1
        await pilot.press("e")
        await until(pilot, lambda: isinstance(app.screen, Editor), 90)
        area = app.screen.query_one(TextArea)
        area.text = area.text.replace("(head - 0.4)", "max(head - 0.4, 0.1)")
        await pilot.press("ctrl+s")
        await until(pilot, lambda: "max(head" in sources(path)[2])
        if isinstance(app.screen, Editor):
            await pilot.press("escape")
        await until(pilot, lambda: isinstance(app.screen, Choose), 90)
        assert choices(app)[0].startswith("run from cell 3 on, as it was before"), choices(app)
        await pilot.press("enter")
        await until(pilot, lambda: bench.state == "paused" and bench.facts and bench.facts.reason == "end", 90)
        await until(pilot, lambda: any(row.startswith("done   … 1 more") for row in shown(sheet)), 90)
        assert not sheet.cells.notes
        # One cell again, on the values of now: those after it have not run since.
        sheet.cursor = sheet.cells.places[3].first
        await pilot.press("C")
        await until(pilot, lambda: isinstance(app.screen, Choose), 90)
        assert [one.partition("  ")[0] for one in choices(app)] == [
            "run cell 4 again",
            "run cell 4 again, as it was before",
            "run from cell 4",
        ]
        await pilot.press("enter")
        await until(
            pilot, lambda: bench.state == "paused" and place_words(path, bench.facts.line) == "cell 5, line 1", 90
        )
        await until(pilot, lambda: sheet.cells.notes == {4: "ran again after cell 5"}, 90)
        await pilot.press("N")
        await until(pilot, lambda: bench.state == "paused" and bench.facts.reason == "end", 90)
        sheet.cursor = 2
        await pilot.press("C")
        await until(pilot, lambda: "there is nothing to run" in str(bench.query_one("Notice").render()))


async def test_a_script_with_cells(tmp_path: Path) -> None:
    path = tmp_path / "cells.py"
    path.write_text("# %% one\nx = 1\n\n# %% two\nx += 1\n\n# %% three\ny = x / 0.0\n")
    app = UnevenSum(Launch(str(path), keep_case=False, pause_on={"start", "error"}))
    async with app.run_test(size=(140, 44)) as pilot:
        bench = await settled(pilot, "paused", 2)
        sheet = bench.query_one(Sheet)
        assert shown(sheet)[0] == "── cell 1 · one"
        assert sheet.cells.label(5) == "5", "its lines are counted in the file"
        await pilot.press("N")
        await settled(pilot, "paused", 5)
        await pilot.press("N")
        await settled(pilot, "paused", 8)
        sheet.cursor = 5
        await pilot.press("C")
        cards = bench.query_one(Cards)
        await until(pilot, lambda: ("x", "3") in {(one.name, one.text) for one in cards.cards}, 90)
        await settled(pilot, "paused", 8)


async def test_the_desk_says_what_a_notebook_hides(tmp_path: Path, monkeypatch) -> None:
    path = write(
        tmp_path / "late.ipynb",
        code("total = gauge + 1", 1),
        code("gauge = 2", 5, "", (value("2"),)),
        code("total", 3),
    )
    monkeypatch.chdir(tmp_path)
    app = UnevenSum(None)
    async with app.run_test(size=(140, 44)) as pilot:
        await until(pilot, lambda: isinstance(app.screen, Desk) and app.screen.query("#wrong"))
        desk = app.screen
        desk.show_case(desk.case_list.fresh(path))
        await until(pilot, lambda: "is assigned only in cell 2" in str(desk.query_one("#wrong").render()))
        said = str(desk.query_one("#wrong").render())
        assert "cell 1, line 1: `gauge` is assigned only in cell 2, which comes later" in said
        assert "cell 3, line 1: it ran before cell 2, which stands above it" in said
