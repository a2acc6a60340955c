"""The screen of a sweep, in process."""

from __future__ import annotations

from pathlib import Path

from driving_app import until
from textual.widgets import OptionList, Static

from uneven_sum.app.app import UnevenSum
from uneven_sum.app.bench.screen import Bench
from uneven_sum.app.sweep.screen import SweepScreen
from uneven_sum.app.widgets.bars import Headline
from uneven_sum.app.widgets.dialogs import Sure
from uneven_sum.client import Launch
from uneven_sum.sweep.rows import Inputs
from uneven_sum.sweep.sweep import Sweep

SCRIPT = "import sys\nwidth = float(sys.argv[1])\nshare = 1.0 / (width - 2.0)\nbig = 1e308 * width\ntotal = share + 1\n"


def rows(app) -> list[str]:
    options = app.screen.query_one(OptionList)
    return [str(options.get_option_at_index(n).prompt) for n in range(options.option_count)]


async def test_a_sweep_on_its_screen(script, tmp_path: Path) -> None:
    path = script(SCRIPT)
    sweep = Sweep(
        Launch(path, ["{width}"]), Inputs(vary=["width=1,2,2.0,0.5,3"]), str(tmp_path / "k.parquet"), ["total"]
    )
    app = UnevenSum(None, sweep=sweep)
    async with app.run_test(size=(140, 40)) as pilot:
        screen = app.screen
        assert isinstance(screen, SweepScreen)
        await until(pilot, lambda: not screen.is_sweeping and "5 runs" in str(screen.query_one(Headline).render()), 90)
        assert "5 runs: 2 fine, 3 tripped. 2 different faults." in str(screen.query_one(Headline).render())
        assert [row.split()[:5] for row in rows(app)] == [
            ["2", "runs", "error", "at", "script.py:3"],
            ["1", "run", "non-finite", "at", "script.py:4"],
        ]
        told = str(screen.query_one("#told", Static).render())
        assert "all 2 have width 2 (over 1), unlike all that go well" in told and "rows 2, 3" in told
        await pilot.press("tab")
        assert len(rows(app)) == 3 and "width = 2" in rows(app)[0]
        await pilot.press("tab")
        assert [row.split()[1:3] for row in rows(app)] == [["total", "0.0"], ["total", "0.333333"]]
        await pilot.press("tab")
        await pilot.press("down")
        await pilot.press("enter")
        await until(pilot, lambda: isinstance(app.screen, Bench) and app.screen.state == "paused", 60)
        bench = app.screen
        assert bench.facts.line == 4 and bench.launch.args == ["3"]
        await pilot.press("1")
        await until(pilot, lambda: isinstance(app.screen, Sure))
        await pilot.press("enter")
        await until(pilot, lambda: app.screen is screen, 90)
        await pilot.press("r")
        await until(pilot, lambda: not screen.is_sweeping, 60)
        assert screen.tally.summary().ran == 5, "nothing runs twice"
        await pilot.press("w")
        await until(pilot, lambda: app.screen is not screen)
        app.screen.query_one("Input").value = str(tmp_path / "out.md")
        await pilot.press("enter")
        await until(pilot, lambda: (tmp_path / "out.md").exists())
        assert "## 1. 2 runs: error at script.py:3" in (tmp_path / "out.md").read_text()
