"""The Desk: entries, recent cases, what is wrong before the run, and the way to the Bench and back."""

from __future__ import annotations

import os
from pathlib import Path

import pytest
from driving_app import rest, until
from textual.widgets import Input, OptionList

from uneven_sum.app.app import UnevenSum
from uneven_sum.app.bench.output_drawer import OutputDrawer
from uneven_sum.app.bench.screen import Bench
from uneven_sum.app.desk.case_list import scripts_below
from uneven_sum.app.desk.screen import Desk
from uneven_sum.app.widgets.dialogs import Choose
from uneven_sum.app.widgets.sheet import Sheet
from uneven_sum.client import Launch
from uneven_sum.client.setup import Setup, WrongField, ago, interpreters_near, of_launch, recent, remember


@pytest.mark.parametrize(
    ("entries", "field", "why"),
    [
        ({"args": "--year '2031"}, "args", "a quote is not closed"),
        ({"env": "YEAR 2031"}, "env", "each is NAME=VALUE, not 'YEAR'"),
        ({"env": "2=3"}, "env", "each is NAME=VALUE"),
        ({"pause_on": "error, warnings"}, "pause_on", "'warnings' is none of error, warning, nonfinite, start"),
        ({"cwd": "/nowhere"}, "cwd", "there is no folder /nowhere"),
        ({"stdin": "/nowhere.txt"}, "stdin", "there is no file"),
        ({"python": "/nowhere/python"}, "python", "there is no interpreter"),
        ({"program": "/nowhere.py"}, "program", "There is no file"),
    ],
)
def test_a_wrong_entry_says_which_and_why(script, entries: dict, field: str, why: str) -> None:
    with pytest.raises(WrongField, match=why) as wrong:
        Setup(**{"program": script("x = 1\n"), **entries}).launch()
    assert wrong.value.field == field


def test_entries_become_a_launch_and_come_back(script, tmp_path) -> None:
    path = script("x = 1\n")
    setup = Setup(path, "--year '20 31' b", "", str(tmp_path), "YEAR=2031 NAME='a b'", pause_on="error start")
    launch = setup.launch()
    assert launch.args == ["--year", "20 31", "b"] and launch.env == {"YEAR": "2031", "NAME": "a b"}
    assert launch.pause_on == {"error", "start"} and launch.pause_on_given and launch.cwd == str(tmp_path)
    again = of_launch(launch)
    assert (again.key, again.args, again.env) == (setup.key, setup.args, "YEAR=2031 'NAME=a b'")
    assert again.launch().env == launch.env


def test_recent_cases_are_kept_the_latest_first(script) -> None:
    assert recent() == []
    one, two = script("x = 1\n", "one.py"), script("x = 2\n", "two.py")
    remember(Setup(one), "ran to its end")
    remember(of_launch(Launch(two)), "paused at line 1: error")
    remember(Setup(one, "--again"), "was ended")
    assert [(s.program, s.args, s.ended) for s in recent()] == [
        (one, "--again", "was ended"),
        (two, "", "paused at line 1: error"),
    ]
    store = Path(os.environ["XDG_STATE_HOME"]) / "uneven-sum" / "recent.json"
    store.write_text("[{broken")
    assert recent() == []
    times = [ago(0.0, t) for t in (5, 130, 7300, 90_000, 900_000)]
    assert times == ["just now", "2 min ago", "2 h ago", "yesterday", "10 days ago"]


def test_environments_and_scripts_nearby(tmp_path) -> None:
    for place in ("case/venv/bin", ".venv/bin"):
        (tmp_path / place).mkdir(parents=True)
        (tmp_path / place / "python").symlink_to("/bin/sh")
    (tmp_path / "case/venv/pyvenv.cfg").write_text("")
    for name in ("case/model.py", "case/venv/hidden.py", "top.py", "case/deep/gauge.py"):
        (tmp_path / name).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / name).write_text("")
    found = interpreters_near(str(tmp_path / "case/model.py"))
    assert found[-2:] == [str(tmp_path / "case/venv/bin/python"), str(tmp_path / ".venv/bin/python")]
    assert scripts_below(str(tmp_path)) == ["top.py", "case/model.py", "case/deep/gauge.py"]


SLIPS = "import numpy as np\nlevel = float(input())\nif level == np.nan:\n    level = levl\nprint('level', level, 1 / level)\n"


async def test_from_the_desk_to_the_bench_and_back(script, tmp_path, monkeypatch) -> None:
    path = script(SLIPS, "gauge.py")
    (tmp_path / "in.txt").write_text("0.5\n")
    monkeypatch.chdir(tmp_path)
    app = UnevenSum(None)
    async with app.run_test(size=(140, 42)) as pilot:
        await until(pilot, lambda: isinstance(app.screen, Desk) and app.screen.setup is not None)
        desk = app.screen
        assert desk.setup.program.endswith("rating_year.py")
        await pilot.press("o")
        await until(pilot, lambda: isinstance(app.screen, Choose))
        await pilot.press(*"gauge", "enter")
        await until(pilot, lambda: desk.setup.program == path)
        await rest(pilot, 0.3)
        assert [(f.line, f.kind) for f in desk.checks.found] == [(3, "nan"), (4, "undefined")]
        wrong = str(desk.query_one("#wrong").render())
        assert "2 errors" in wrong and "is `level` meant?" in wrong
        notes = desk.query_one(Sheet).notes
        assert notes[3].text.startswith("error: `level == np.nan` is never true")
        await pilot.press("n", "n")
        assert desk.query_one(Sheet).cursor == 4
        # A wrong entry is reported at once, and keeps the case from running.
        desk.query_one("#stdin", Input).focus()
        await pilot.press(*"no.txt")
        await rest(pilot, 0.3)
        assert "input from: there is no file no.txt" in str(desk.query_one("#said").render())
        await pilot.press("enter")
        await rest(pilot, 0.3)
        assert isinstance(app.screen, Desk) and isinstance(app.focused, Input)
        desk.query_one("#stdin", Input).value = str(tmp_path / "in.txt")
        await pilot.press("escape", "enter")
        await until(pilot, lambda: isinstance(app.screen, Bench))
        bench = app.screen
        await until(pilot, lambda: bench.state == "paused", 60)
        assert bench.facts.reason == "end"
        await until(pilot, lambda: "level 0.5 2.0" in bench.query_one(OutputDrawer).last_line)
        await pilot.press("1")
        await until(pilot, lambda: isinstance(app.screen, Desk))
        assert recent()[0].program == path and recent()[0].ended == "ran to its end"
        await rest(pilot, 0.3)
        await until(pilot, lambda: desk.case_list.cases[0].program == path)
        assert recent()[0].stdin == str(tmp_path / "in.txt")
        # At full speed; a script that cannot be run is refused here, not on the command line.
        Path(path).write_text("print('fast')\nx = (1 +\n")
        desk.query_one(OptionList).focus()
        desk.show_case(desk.case_list.cases[0])
        await pilot.press("f")
        await until(
            pilot,
            lambda: isinstance(app.screen, Desk) and "was never closed" in str(desk.query_one("#said").render()),
            60,
        )
        assert "is never closed: its `)` is missing" in str(desk.query_one("#wrong").render())
        Path(path).write_text("x = 1.0\nfor k in range(3):\n    x = x * float('inf') - float('inf')\nprint(x)\n")
        await pilot.press("f")
        await until(pilot, lambda: isinstance(app.screen, Bench))
        bench = app.screen
        await until(pilot, lambda: bench.state == "paused", 60)
        assert bench.facts.reason == "end" and bench.client.return_points() == []
        await pilot.press("1")
        await until(pilot, lambda: isinstance(app.screen, Desk))
        await pilot.press("q")


async def test_a_kind_of_finding_is_turned_off(script) -> None:
    app = UnevenSum(None)
    async with app.run_test(size=(90, 30)) as pilot:
        await until(pilot, lambda: isinstance(app.screen, Desk) and app.screen.setup is not None)
        desk = app.screen
        assert desk.has_class("narrow")
        desk.show_case(Setup(script(SLIPS)))
        await until(pilot, lambda: {f.kind for f in desk.checks.found} == {"nan", "undefined"})
        await pilot.press("k")
        await until(pilot, lambda: isinstance(app.screen, Choose))
        await pilot.press("down", "down", "down", "enter")
        await until(pilot, lambda: isinstance(app.screen, Desk))
        await rest(pilot, 0.3)
        assert {f.kind for f in desk.checks.found} == {"undefined"}
        desk.show_case(Setup("/nowhere/at/all.py"))
        assert "cannot be read: No such file" in str(desk.query_one("#wrong").render())


def test_the_desk_in_a_terminal(terminal) -> None:
    one = terminal()
    one.expect("shipped case rating")
    one.keys("Down", "Down")
    one.expect("1 hint  line 28: `inflow[day + LAG]` leaves the range")
    one.keys("Enter")
    one.expect("IndexError at line 28")
    one.keys("1")
    one.expect("Stop the paused script?")
    one.keys("Enter")
    one.expect("shipped case rating")
    one.keys("q")
    one.expect("left with status 0")


async def test_the_entries_come_back_from_the_case_file(script, tmp_path, monkeypatch) -> None:
    path = script("import sys\nlevel = sys.argv[1]\n1 / 0\n", "gauge.py")
    monkeypatch.chdir(tmp_path)
    app = UnevenSum(None)
    async with app.run_test(size=(140, 42)) as pilot:
        await until(pilot, lambda: app.desk is not None and app.desk.setup is not None)
        app.desk.show_case(app.desk.case_list.fresh(path))
        app.desk.query_one("#args", Input).value = "upper"
        await rest(pilot, 0.2)
        await pilot.press("enter")
        await until(pilot, lambda: getattr(app.screen, "state", "") == "paused", 60)
        await pilot.press("1", "enter")
        await until(pilot, lambda: app.screen is app.desk)
    assert 'arguments = "upper"' in (tmp_path / "gauge.case.toml").read_text()
    (tmp_path / "gauge.case.toml").write_text('schema = 1\n\n[run]\narguments = "lower"\n')
    app = UnevenSum(None)
    async with app.run_test(size=(140, 42)) as pilot:
        await until(pilot, lambda: app.desk is not None and app.desk.setup is not None)
        setup = next(s for s in app.desk.case_list.cases if s.program == path)
        assert (setup.args, setup.ended) == ("lower", "paused at line 3: error")
        (tmp_path / "gauge.case.toml").write_text("schema = [\n")
        assert app.desk.case_list.fresh(path).args == ""
