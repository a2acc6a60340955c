"""Kept evidence and the report."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest
from driving_app import rest, settled, until

from uneven_sum.app.app import UnevenSum
from uneven_sum.app.closeup.screen import CloseUp
from uneven_sum.app.ledger.screen import LedgerScreen
from uneven_sum.app.notes.screen import Notes
from uneven_sum.app.widgets.dialogs import Choose, Prompt
from uneven_sum.charts import pages
from uneven_sum.client import BadUse, Launch, notes, reporting
from uneven_sum.client.notes import Entry

SCRIPT = """import numpy as np
level = np.array([4.5, 5.0, 3.9, 6.0])
flow = np.zeros(4)
for day in range(4):
    head = level[day] - 4.0
    flow[day] = 1.84 * head ** 1.5
total = flow.sum()
"""


def test_entries_are_kept_beside_the_case(script, tmp_path) -> None:
    path = script("x = 1\n", "gauge.py")
    assert notes.load(path) == []
    assert notes.add(path, Entry("text", "one", "a | b")) == 1 and notes.add(path, notes.own_text("two\nlines")) == 2
    assert [e.title for e in notes.load(path)] == ["one", "two"] and (tmp_path / "gauge.notes.json").exists()
    assert notes.picture_path(path) == tmp_path / "gauge.notes" / "picture-1.svg"
    (tmp_path / "gauge.notes.json").write_text('{"schema": 1, "entries": [')
    for action in (lambda: notes.load(path), lambda: notes.add(path, Entry("text", "three"))):
        with pytest.raises(BadUse, match=r"cannot be parsed.*it is unchanged"):
            action()
    assert (tmp_path / "gauge.notes.json").read_text() == '{"schema": 1, "entries": ['
    (tmp_path / "gauge.notes.json").write_text('{"schema": 9, "entries": []}')
    with pytest.raises(BadUse, match="of a later version"):
        notes.load(path)


def test_tables_survive_what_is_in_their_cells() -> None:
    text = notes.table([["a", "b"], ["x|y", "two\nlines"]])
    assert text == "| a | b |\n|---|---|\n| x\\|y | two lines |"


async def choose(pilot, label: str) -> None:
    await until(pilot, lambda: isinstance(pilot.app.screen, Choose))
    labels = [c.label for c in pilot.app.screen.choices]
    for _ in range(labels.index(label)):
        await pilot.press("down")
    await pilot.press("enter")
    await rest(pilot, 0.4)


async def test_evidence_from_every_screen_becomes_a_report(script, tmp_path) -> None:
    path = script(SCRIPT, "gauge.py")
    app = UnevenSum(Launch(path, ["--year", "2031"]))
    async with app.run_test(size=(140, 42)) as pilot:
        bench = await settled(pilot, "paused", 6)
        await pilot.press("ctrl+k")
        await choose(pilot, "this pause")
        await pilot.press("a", *"level.min", "left_parenthesis", "right_parenthesis", "enter")
        await rest(pilot, 0.6)
        await pilot.press("escape", "ctrl+k")
        await choose(pilot, "the last question and its answer")
        bench.values.open_closeup(["level"])
        await until(pilot, lambda: isinstance(app.screen, CloseUp) and app.screen.told.get("summary"))
        await rest(pilot, 0.5)
        await pilot.press("ctrl+k")
        await rest(pilot, 0.5)
        await pilot.press("v")
        await until(pilot, lambda: app.screen.plot_data is not None)
        await pilot.press("ctrl+k")
        await until(pilot, lambda: len(notes.load(path)) == 4)
        await pilot.press("escape", "l")
        await until(pilot, lambda: isinstance(app.screen, LedgerScreen) and app.screen.ledger is not None)
        await pilot.press("r")
        await until(pilot, lambda: bench.query_one("PassStrip").has_class("shown"), 60)
        await settled(pilot, "paused", 6)
        await pilot.press("l")
        await until(
            pilot, lambda: isinstance(app.screen, LedgerScreen) and app.screen.grid() and app.screen.grid().page
        )
        await rest(pilot, 0.3)
        await pilot.press("ctrl+k")
        await until(pilot, lambda: len(notes.load(path)) == 5)
        await pilot.press("escape", "6")
        await until(pilot, lambda: isinstance(app.screen, Notes))
        screen = app.screen
        await pilot.press("t")
        await until(pilot, lambda: isinstance(app.screen, Prompt))
        await pilot.press(*"mended", "enter")
        await until(pilot, lambda: len(notes.load(path)) == 6)
        await pilot.press("less_than_sign", "delete", "u")
        await rest(pilot, 0.3)
        kinds = [e.kind for e in notes.load(path)]
        assert sorted(kinds) == ["ledger", "pause", "plot", "text", "trial", "value"]
        Path(path).write_text(SCRIPT.replace("head ** 1.5", "max(head, 0.0) ** 1.5"))
        await pilot.press("w")
        await until(pilot, lambda: isinstance(app.screen, Prompt))
        await pilot.press("ctrl+a", "ctrl+k", *str(tmp_path / "report.md"), "enter")
        await until(pilot, lambda: "The report is in" in str(screen.query_one("#said").render()))
        await pilot.press("w")
        await until(pilot, lambda: isinstance(app.screen, Prompt))
        await pilot.press("ctrl+a", "ctrl+k", *str(tmp_path / "report.doc"), "enter")
        await until(pilot, lambda: "ends in .md or .pdf" in str(screen.query_one("#said").render()))
        await pilot.press("w")
        await until(pilot, lambda: isinstance(app.screen, Prompt))
        await pilot.press("ctrl+a", "ctrl+k", *str(tmp_path / "report.pdf"), "enter")
        await until(pilot, lambda: "report.pdf" in str(screen.query_one("#said").render()))
    data = (tmp_path / "report.pdf").read_bytes()
    assert data.startswith(b"%PDF-") and b"/Subtype /Image" in data and data.rstrip().endswith(b"%%EOF")
    text = (tmp_path / "report.md").read_text()
    assert "| run as | `gauge.py --year 2031` |" in text and "numpy" in text and "Python 3" in text
    assert (
        "\n  head ** 1.5  " in text
        and "! nan  numpy.float64  culprit" in text
        and "  in     6      flow[day] = 1.84" in text
    )
    assert "level.min()" in text and "`3.9`" in text and "in a copy, script unchanged" in text
    assert "| minimum | 3.9 |" in text or "| min | 3.9" in text
    assert "| pass | day | head | flow[day] |" in text and "all 2 passes are kept" in text
    assert "(report-pictures/picture-1.svg)" in text and (tmp_path / "report-pictures" / "picture-1.svg").exists()
    assert "mended" in text
    assert "## What was changed\n\n```diff\n--- gauge.py before\n+++ gauge.py now\n@@ " in text
    assert "\n-    flow[day] = 1.84 * head ** 1.5\n+    flow[day] = 1.84 * max(head, 0.0) ** 1.5\n" in text


def test_what_was_changed_is_told_from_the_first_evidence_on(script) -> None:
    path = script("level = 4.0\n", "gauge.py")
    notes.add(path, Entry("text", "one"), {path: "level = 4.0\n"})
    notes.add(path, Entry("text", "two"), {path: "level = 4.5\n", "/gone.py": "x\n"})
    kept = notes.load_kept(path)
    assert kept.texts == {path: "level = 4.0\n", "/gone.py": "x\n"} and len(kept.entries) == 2
    assert reporting.changes({path: kept.texts[path]}, os.path.dirname(path)) == ""
    Path(path).write_text("level = 5.0\n")
    found = reporting.changes(kept.texts, os.path.dirname(path))
    assert "-level = 4.0\n+level = 5.0" in found and "# /gone.py cannot be read now" in found
    launch = Launch(path)
    assert "What was changed" not in reporting.report(launch, kept.entries)
    assert "text is what it was" in reporting.report(launch, kept.entries, changed="")


def test_pages_fold_long_lines_and_draw_pictures(tmp_path) -> None:
    (tmp_path / "picture 1.png").write_bytes(b"")
    fitted = pages._fitted('<img src="picture%201.svg" alt="a"><img src="picture-2.svg" alt="b">', tmp_path)
    assert f'<img src="{tmp_path}/picture 1.png" width="480">(picture: picture-2.svg)' == fitted
    folded = pages._folded("```text\n" + "x" * 100 + "\n```\n" + "y" * 100).split("\n")
    assert folded[1:3] == ["x" * 92, "      " + "x" * 8] and folded[4] == "y" * 100
    table = pages._table(
        "<table><thead>\n<tr>\n<th></th>\n<th></th>\n</tr>\n</thead><tr><td>a</td>\n<td>b</td></tr></table>"
    )
    assert "thead" not in table and 'width="24%"' in table
    whole = "# Ω → nan\n\n| a | b |\n|---|---|\n| `x` | " + "z" * 300 + " |\n\n![p](none.svg)\n\n- one\n- `two`\n"
    pages.write_pages(whole, tmp_path, str(tmp_path / "out.pdf"), "gauge.py")
    assert (tmp_path / "out.pdf").stat().st_size > 5000


def test_a_report_without_a_screen(script, tmp_path) -> None:
    path = script(SCRIPT, "gauge.py")
    command = [sys.executable, "-m", "uneven_sum", "check", "--report", str(tmp_path / "out.md"), path]
    done = subprocess.run(command, capture_output=True, text=True)
    assert done.returncode == 1
    text = (tmp_path / "out.md").read_text()
    assert "nan created at line 6" in text and "  culprit" in text and "| pass | day | head | flow[day] |" in text
    script("x = 1\n", "fine.py")
    done = subprocess.run(
        [*command[:-2], str(tmp_path / "out.md"), str(tmp_path / "fine.py")], capture_output=True, text=True
    )
    assert done.returncode == 0 and "It ran to its end; nothing tripped." in Path(tmp_path / "out.md").read_text()
    done = subprocess.run([*command[:-2], str(tmp_path / "out.pdf"), path], capture_output=True, text=True)
    assert done.returncode == 1 and (tmp_path / "out.pdf").read_bytes().startswith(b"%PDF-")
    assert "Traceback" not in done.stderr and "fpdf" not in done.stderr
    done = subprocess.run([*command[:-2], "/nowhere/out.md", path], capture_output=True, text=True)
    assert done.returncode == 2 and "There is no folder /nowhere" in done.stderr
