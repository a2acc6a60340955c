"""The whole story in a terminal: from the Desk to the report."""

from __future__ import annotations

import shutil
import subprocess
import sys
from pathlib import Path

from uneven_sum.demo import FOLDER


def mend(one, folder: Path, shown: str) -> None:
    """Try a change of line 35, put it in the file, and run again."""
    one.keys("w")
    one.expect(shown)
    one.keys(*["BSpace"] * 80)
    one.keys("flow[day] = C * max(head, 0.0) ** 1.5 * WIDTH")
    one.expect("edited")
    one.keys("C-s")
    one.expect("How to continue?")
    one.keys("Down", "Down", "Enter")
    one.gone("How to continue?")
    assert "max(head, 0.0)" in (folder / "rating_year.py").read_text()


def test_from_the_desk_to_the_report(terminal, tmp_path, monkeypatch) -> None:
    for name in ("rating_year.py", "stage_2031.csv"):
        shutil.copy(FOLDER / name, tmp_path / name)
    monkeypatch.chdir(tmp_path)
    one = terminal()
    one.expect("shipped case rating")
    one.keys("o")
    one.expect("Which script?")
    one.keys("rating", "Enter")
    one.expect("rating_year.py is chosen")
    # Run → pause → terms.
    one.keys("Enter")
    shown = one.expect("Culprit: head ** 1.5 with head = -0.017")
    assert "culprit" in shown
    # Close-up.
    one.keys("f")
    one.expect("Which value?")
    one.keys("stage", "Enter")
    one.expect("close-up of stage")
    one.expect("standard deviation")
    one.keys("C-k")
    one.expect("Saved as note 1: `stage`")
    one.keys("Escape")
    one.gone("close-up of stage")
    # Ledger.
    one.keys("l")  # it goes back to the start, records, and returns by itself
    one.expect("all 211 passes are kept")
    one.keys("Escape")
    one.gone("all 211 passes are kept")
    # Name the result, try a change, put it in the file.
    one.keys("a")
    one.keys("verify flow.max() ", "Enter")
    one.expect("compared with the previous run at each end")
    one.keys("Escape")
    one.keys("Escape")
    one.gone("compared with the previous run at each end")
    mend(one, tmp_path, "head ** 1.5 * WIDTH ! nan")
    # Rerun → verified.
    one.expect("fixed: the problem at line 35")
    # Report.
    one.keys("6")
    one.expect("write report")
    one.keys("w")
    one.expect("Write the report to which file?")
    one.keys("Enter")
    one.expect("The report is in")
    text = (tmp_path / "rating_year-report.md").read_text()
    assert "fixed: the problem at" in text and "`stage`" in text
    one.keys("Escape")
    one.gone("write report")
    one.expect("The script finished")
    one.keys("1")
    one.expect("run without pauses")
    one.keys("q")
    one.expect("left with status 0")


def test_from_a_printed_nan_to_its_cause_and_a_tried_change(terminal, tmp_path, monkeypatch) -> None:
    for name in ("rating_year.py", "stage_2031.csv"):
        shutil.copy(FOLDER / name, tmp_path / name)
    monkeypatch.chdir(tmp_path)
    one = terminal("run", "--pause-on", "error", "rating_year.py")
    one.expect("The script finished")
    # The wrong run has printed nan: where does that come from?
    one.keys("F")
    one.expect("Origin of which value?")
    one.keys("Enter")
    one.expect("origin of line 3 of the output")
    shown = one.expect("nan is created at line 35, pass 212: no operand was nan or infinite.")
    assert "from head = -0.017" in shown
    # To the fault, as a paused place.
    one.keys("Enter")
    one.expect("Reached line 35.")
    one.expect("Pass 212 of 365")
    # On to an operand's own origin, back to the file.
    one.keys("Down", "Down", "Enter")
    one.expect("line 34, pass 212: head = level - SILL")
    one.expect("computes it from level, SILL")
    one.keys("Down", "Enter")
    one.expect("came from line 213 of stage_2031.csv, read at line 20.")
    one.keys("Escape")
    one.gone("origin of line 3")
    # A change, tried there.
    mend(one, tmp_path, "save edit")
    one.expect("The script finished")
    one.keys("d")
    one.expect("volume over the sill: 3.3e+08 m3")  # it was nan
    one.expect("highest flow: 33.747 m3/s on 2031-12-29")
    one.keys("d")
    one.gone("3.3e+08 m3")
    one.keys("q")
    one.expect("left with status 0")


def test_from_a_repair_that_is_tried_to_a_test_that_is_kept(terminal, tmp_path, monkeypatch) -> None:
    for name in ("rating_year.py", "stage_2031.csv"):
        shutil.copy(FOLDER / name, tmp_path / name)
    monkeypatch.chdir(tmp_path)
    one = terminal("run rating_year.py")
    one.expect("Culprit: head ** 1.5 with head = -0.017")
    # Repairs → tried to the end.
    one.keys("r")
    one.expect("→ 0.0")
    one.keys("e")
    one.expect("⇥ output line 2: volume over the sill: 3.3e+08 m3 · was: volume over the sill: nan m3")
    # In the file.
    one.keys("Enter")
    one.expect("edited")
    one.keys("C-s")
    one.expect("How to continue?")
    one.keys("Escape")
    one.gone("How to continue?")
    assert "max(head, 0.0)" in (tmp_path / "rating_year.py").read_text()
    # Kept as a test, which fails with the fault and passes with the file.
    one.keys("W")
    one.expect("Keep which call, and how?")
    one.keys("Enter")
    one.expect("What is expected of the result of rate?")
    one.keys("Enter")
    one.expect("enter: keep")
    shown = one.expect("the file as it is now   passes")
    assert "with the fault          fails: AssertionError" in shown
    one.keys("Enter")
    one.expect("Written: ")
    # Green; red with the old line.
    command = [sys.executable, "-m", "pytest", "-q", "-p", "no:cacheprovider", "test_rate.py"]
    assert subprocess.run(command, cwd=tmp_path, capture_output=True).returncode == 0
    shutil.copy(FOLDER / "rating_year.py", tmp_path / "rating_year.py")
    assert subprocess.run(command, cwd=tmp_path, capture_output=True).returncode == 1


def test_from_a_notebook_on_the_desk_to_its_report(terminal, tmp_path, monkeypatch) -> None:
    for name in ("wet_days.ipynb", "inflow_2031.csv"):
        shutil.copy(FOLDER / name, tmp_path / name)
    notebook = tmp_path / "wet_days.ipynb"
    before = notebook.read_text()
    monkeypatch.chdir(tmp_path)
    one = terminal()
    one.expect("shipped case rating")
    one.keys("o")
    one.expect("Which script?")
    one.keys("wet_days", "Enter")
    one.expect("wet_days.ipynb is chosen")
    one.expect("it ran before cell 3, which stands above it (In [3] and In [7])")
    one.keys("Enter")
    shown = one.expect("nan created at cell 4, line 4: intensity would return nan.")
    assert "cell 3 · In [7]" in shown and "with of[wet].sum() = 0.0, wet.sum() = 0, zero divided by zero" in shown
    one.keys("C-k")
    one.expect("this pause")
    one.keys("Enter")
    one.expect("at cell 4, line 4 of wet_days.ipynb")
    # The threshold is put right, and the cells run again as they were before.
    one.keys("e")
    one.expect("go to line")
    one.keys("C-r")
    one.expect("Replace which text")
    one.keys("25.0", "Enter")
    one.expect("by what?")
    one.keys("1.0", "Enter")
    one.expect("WET = 1.0")
    one.keys("C-s")
    one.expect("wet_days.ipynb is saved.")
    one.keys("Escape")
    one.expect("run from cell 3 on, as it was before")
    one.keys("Enter")
    one.expect("The script finished")
    one.expect("month 12: 14.9 mm a wet day")
    assert notebook.read_text() == before.replace("WET = 25.0", "WET = 1.0")
    # Its figure, into the report.
    one.keys("End", "I")
    one.expect("figure of cell 6")
    one.keys("C-k")
    one.expect("Saved as note 2: figure of cell 6")
    one.keys("Escape")
    one.gone("figure of cell 6")
    one.keys("6")
    one.expect("write report")
    one.keys("w")
    one.expect("Write the report to which file?")
    one.keys("Enter")
    one.expect("The report is in")
    (report,) = tmp_path.glob("*.md")
    text = report.read_text()
    assert "at cell 4, line 4 of wet_days.ipynb" in text and "![figure of cell 6]" in text
    assert "-WET = 25.0" in text and "+WET = 1.0" in text
    assert list(tmp_path.glob("*-pictures/*.png"))
    one.keys("Escape")
    one.gone("write report")
    one.keys("q")
    one.expect("left with status 0")
    # Still what it shows: the stored outputs are those of this threshold.
    check = subprocess.run([sys.executable, "-m", "uneven_sum", "check", str(notebook)], capture_output=True, text=True)
    assert check.returncode == 0, check.stderr
