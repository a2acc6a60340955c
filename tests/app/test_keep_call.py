"""Calls kept on the Bench, tries to the end, and one test run alone, in process."""

from __future__ import annotations

import shutil
import subprocess
import sys
from pathlib import Path

import pytest
from driving_app import settled, until
from textual.widgets import Input, OptionList

from uneven_sum.app.app import UnevenSum
from uneven_sum.app.bench.keep_call import KeepDialog
from uneven_sum.app.bench.repairs import Repairs
from uneven_sum.app.ledger.screen import LedgerScreen
from uneven_sum.app.widgets.bars import Headline, Keys, Trail
from uneven_sum.app.widgets.dialogs import Choose, Prompt
from uneven_sum.client import Launch

pytestmark = pytest.mark.usefixtures("own_folder")

LEVELS = (
    "import numpy as np\n\nSILL = 0.5\n\n\ndef flow(level, width=3.0):\n    head = level - SILL\n"
    "    return 1.7 * width * head**1.5\n\n\ndef year(levels):\n    total = 0.0\n    for level in levels:\n"
    "        total += flow(level)\n    return total\n\n\nresult = year(np.array([0.9, 0.8, 0.2, 0.7]))\nprint(result)\n"
)


def text_of(screen, selector: str = "") -> str:
    return str((screen.query_one(selector) if selector else screen).render())


TESTED = Path(__file__).parent.parent / "support" / "tested"


async def chosen(pilot, number: int) -> None:
    """From the Bench to the choice of this number."""
    app = pilot.app
    await pilot.press("W")
    await until(pilot, lambda: isinstance(app.screen, Choose))
    assert app.screen.query_one(OptionList).option_count == 4
    for _ in range(number):
        await pilot.press("down")
    await pilot.press("enter")


async def test_a_call_is_kept_as_a_test(script) -> None:
    path = Path(script(LEVELS))
    app = UnevenSum(Launch(str(path), cwd=str(path.parent), keep_case=False))
    async with app.run_test(size=(140, 44)) as pilot:
        bench = await settled(pilot, "paused", 8)
        await chosen(pilot, 0)
        await until(pilot, lambda: isinstance(app.screen, Prompt))
        assert app.screen.query_one(Input).value == "finite"
        await pilot.press("enter")
        await until(pilot, lambda: isinstance(app.screen, KeepDialog) and app.screen.done, 90)
        told = text_of(app.screen, "#told")
        assert "with the fault   fails: AssertionError" in told
        assert "clamp to zero    passes" in told
        assert "leave missing    fails" in told
        assert not path.with_name("test_flow.py").exists()
        await pilot.press("enter")
        await until(pilot, lambda: app.screen is bench and path.with_name("test_flow.py").exists())
    command = [sys.executable, "-m", "pytest", "-q", "-p", "no:cacheprovider", "test_flow.py"]
    assert subprocess.run(command, cwd=path.parent, capture_output=True).returncode == 1
    path.write_text(LEVELS.replace("level - SILL", "max(level - SILL, 0.0)"))
    assert subprocess.run(command, cwd=path.parent, capture_output=True).returncode == 0


async def test_a_call_is_kept_as_a_small_script(script) -> None:
    path = Path(script(LEVELS))
    app = UnevenSum(Launch(str(path), cwd=str(path.parent), keep_case=False))
    async with app.run_test(size=(140, 44)) as pilot:
        bench = await settled(pilot, "paused", 8)
        await chosen(pilot, 3)
        await until(pilot, lambda: isinstance(app.screen, KeepDialog) and app.screen.done, 120)
        assert "shows the same fault at the same term, alone" in text_of(app.screen, "#told")
        await pilot.press("enter")
        small = path.with_name("small_year.py")
        await until(pilot, lambda: app.screen is bench and small.exists())
    assert "levels = np.array([0.2]" in small.read_text()


async def test_a_kept_call_can_be_cancelled_and_refused(script) -> None:
    path = Path(script("def f(x):\n    return next(x) / 0\n\n\nf(i for i in (1.0,))\n"))
    app = UnevenSum(Launch(str(path), cwd=str(path.parent), keep_case=False))
    async with app.run_test(size=(120, 40)) as pilot:
        bench = await settled(pilot, "paused", 2)
        for key in ("escape", "enter"):
            await pilot.press("W")
            await until(pilot, lambda: isinstance(app.screen, Choose))
            await pilot.press("enter")
            await until(pilot, lambda: isinstance(app.screen, Prompt))
            await pilot.press(key)
            if key == "escape":
                await until(pilot, lambda: app.screen is bench)
        await until(pilot, lambda: isinstance(app.screen, KeepDialog) and app.screen.done, 60)
        assert "x cannot be kept: a generator" in text_of(app.screen, "#told")
        await pilot.press("enter")
        assert isinstance(app.screen, KeepDialog)
        await pilot.press("escape")
        await until(pilot, lambda: app.screen is bench)
    assert sorted(one.name for one in path.parent.glob("*.py")) == [path.name]


async def test_outside_of_functions_there_is_no_call_to_keep(script) -> None:
    app = UnevenSum(Launch(script("x = 1 / 0\n"), keep_case=False))
    async with app.run_test(size=(120, 40)) as pilot:
        await settled(pilot, "paused", 1)
        await pilot.press("W")
        await until(pilot, lambda: "no call to keep" in " ".join(app.messages))


async def test_repairs_are_tried_to_the_end(script) -> None:
    app = UnevenSum(Launch(script(LEVELS), keep_case=False))
    async with app.run_test(size=(140, 44)) as pilot:
        await settled(pilot, "paused", 8)
        await pilot.press("r")
        await until(pilot, lambda: isinstance(app.screen, Repairs))
        listed = app.screen
        await until(pilot, lambda: len(listed.results) == len(listed.found), 60)
        await pilot.press("e")
        await until(pilot, lambda: listed.ends.get(2, [""])[0].startswith("to the end in"), 90)
        assert listed.ends[0][1] == "result = 2.58438, was nan"
        assert listed.ends[1][1] == "all results of the module are as before"


async def test_a_test_runs_alone_and_all_again(tmp_path) -> None:
    folder = Path(shutil.copytree(TESTED, tmp_path / "tested", ignore=shutil.ignore_patterns("__pycache__")))
    args = ["-p", "no:cacheprovider", "test_flow.py"]
    launch = Launch("pytest", args, as_module=True, cwd=str(folder), pause_on={"error"}, keep_case=False)
    app = UnevenSum(launch)
    async with app.run_test(size=(140, 44)) as pilot:
        bench = await settled(pilot, "paused", 17)
        assert text_of(bench.query_one(Trail)).startswith("test test_flow.py::test_total_fails › test_total_fails()")
        assert ("J", "run this test") in bench.query_one(Keys).pairs
        assert "Culprit: total([1.0, 4.0]) == 7.0" in text_of(bench.query_one(Headline))
        await pilot.press("enter")
        await until(pilot, lambda: bench.facts is not None and bench.facts.line == 21, 60)
        await pilot.press("J")
        await until(pilot, lambda: bench.runs == 2 and bench.state == "paused", 60)
        assert bench.facts.test.name == "test_flow.py::test_message_of_its_own"
        await pilot.press("enter")
        await until(pilot, lambda: bench.state == "ended", 60)
        await pilot.press("J")
        await until(pilot, lambda: bench.runs == 3 and bench.state == "paused", 60)
        assert bench.facts.line == 17
        assert bench.launch.args == args


async def test_outside_of_tests_there_is_none_to_run_alone(script) -> None:
    app = UnevenSum(Launch(script("x = 1 / 0\n"), keep_case=False))
    async with app.run_test(size=(120, 40)) as pilot:
        await settled(pilot, "paused", 1)
        await pilot.press("J")
        await until(pilot, lambda: "A test runs alone after a pause in it" in " ".join(app.messages))


async def test_a_call_is_kept_at_a_pass_of_the_ledger(script) -> None:
    app = UnevenSum(Launch(script(LEVELS), keep_case=False))
    async with app.run_test(size=(140, 44)) as pilot:
        bench = await settled(pilot, "paused", 8)
        await pilot.press("[")
        await pilot.press("l")
        await until(pilot, lambda: isinstance(app.screen, LedgerScreen))
        await pilot.press("r")
        await until(pilot, lambda: app.screen is bench and bench.state == "paused" and bench.facts.line == 8, 60)
        await pilot.press("[")
        await pilot.press("l")
        await until(pilot, lambda: isinstance(app.screen, LedgerScreen) and app.screen.ledger is not None)
        await until(pilot, lambda: bool(app.screen.order))
        await pilot.press("up")
        await pilot.press("W")
        await until(pilot, lambda: isinstance(app.screen, Choose), 60)
        assert bench.facts.line in (13, 14)
        assert app.screen.query_one(OptionList).option_count == 2
        await pilot.press("escape")


async def test_a_long_try_says_how_long_it_takes_and_can_be_ended(script, tmp_path) -> None:
    mark = tmp_path / "later"
    text = LEVELS + f"import os, time\nopen({str(mark)!r}, 'a').write(f'{{os.getpid()}} ')\ntime.sleep(300)\n"
    app = UnevenSum(Launch(script(text), keep_case=False))
    async with app.run_test(size=(140, 44)) as pilot:
        bench = await settled(pilot, "paused", 8)
        await pilot.press("r")
        await until(pilot, lambda: isinstance(app.screen, Repairs))
        listed = app.screen
        await until(pilot, lambda: len(listed.results) == len(listed.found), 60)
        await pilot.press("e")
        await until(pilot, mark.exists, 60)
        await until(pilot, lambda: "runs for" in text_of(listed, "#keys"), 30)
        await pilot.press("escape")
        await until(pilot, lambda: app.screen is bench)
        run = int(mark.read_text().split()[0])
        await until(pilot, lambda: not Path(f"/proc/{run}").exists(), 60)
