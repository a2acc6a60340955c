"""Settings, and what is done when our own code fails."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import pytest
from driving_app import until

from uneven_sum import cli, crash
from uneven_sum.app.app import UnevenSum
from uneven_sum.app.bench.screen import Bench
from uneven_sum.app.desk.screen import Desk
from uneven_sum.client import BadUse, Launch, settings
from uneven_sum.client.settings import Settings


def written(text: str) -> None:
    settings.place().parent.mkdir(parents=True, exist_ok=True)
    settings.place().write_text(text)


def test_settings_are_kept_with_what_is_not_known() -> None:
    assert settings.load() == (Settings(), [])
    written('# mine\ntheme = "chalk"\nlater = [1, 2]\n')
    found, told = settings.load()
    assert found.theme == "chalk" and not told
    found.not_looked_for = ["equality"]
    settings.save(found)
    text = settings.place().read_text()
    assert "# mine" in text and "later = [1, 2]" in text and 'not_looked_for = ["equality"]' in text
    settings.save(Settings())
    assert "theme" not in settings.place().read_text() and "later" in settings.place().read_text()


def test_what_cannot_be_taken_is_not_lost() -> None:
    written('theme = "dusk"\ndigits = 40\n')
    found, told = settings.load()
    assert (found.theme, found.digits, len(told)) == ("slate", 6, 2)
    assert any("digits is 40, which is not between 1 and 17" in text for text in told)
    found.thousands = True
    settings.save(found)
    text = settings.place().read_text()
    assert 'theme = "dusk"' in text and "digits = 40" in text and "thousands = true" in text
    found.digits = 4
    settings.save(found)
    assert "digits = 4\n" in settings.place().read_text()


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("theme = 3\n", "theme is 3, which is not a text. Using the default"),
        ('theme = "dark"\n', "theme knows slate, chalk, not 'dark'"),
        ('pause_on = ["error", "trouble"]\n', "pause_on knows error, warning, nonfinite, start, not 'trouble'"),
        ("return_points = 1\n", "return_points is 1, which is not true or false"),
        ("theme = \n", "cannot be parsed"),
    ],
)
def test_wrong_settings_are_told_and_the_defaults_hold(text: str, why: str) -> None:
    written(text)
    found, (told,) = settings.load()
    assert found == Settings() and why in told
    if "damaged" in why:
        with pytest.raises(BadUse, match="left as it is"):
            settings.save(Settings("chalk"))
        assert settings.place().read_text() == text


def test_the_command_tells_where_and_what() -> None:
    written('theme = "chalk"\npause_on = ["x"]\n')
    done = subprocess.run([sys.executable, "-m", "uneven_sum", "settings"], capture_output=True, text=True)
    assert done.returncode == 0 and str(settings.place()) in done.stdout
    assert "theme                chalk   (slate, chalk)" in done.stdout and "not 'x'. Using the default" in done.stdout


async def test_settings_hold_on_the_desk_and_the_bench(script) -> None:
    written('theme = "slate"\nrecord = "always"\nnot_looked_for = ["unused"]\npause_on = ["error"]\n')
    path = script("import os\nt = 0\nfor k in range(5):\n    t += k\nbreakpoint()\n")
    app = UnevenSum(None)
    async with app.run_test(size=(140, 42)) as pilot:
        await until(pilot, lambda: isinstance(app.screen, Desk) and app.screen.setup is not None)
        desk = app.screen
        desk.show_case(desk.case_list.fresh(path))
        assert not desk.checks.found and desk.setup.pause_on == "error"
        await pilot.press("T")
        await until(pilot, lambda: settings.load()[0].theme == "chalk")
        await pilot.press("enter")
        await until(pilot, lambda: isinstance(app.screen, Bench) and app.screen.state == "paused", 60)
        bench = app.screen
        assert bench.launch.pause_on == {"error"}
        known, always = await bench.client.ledgers()
        assert always and known[0].passes == 5
        bench.case.keep_case()
        case = Path(path.replace(".py", ".case.toml"))
        assert not case.exists() or "record" not in case.read_text()


def test_a_fault_of_ours_is_one_sentence_and_a_file(script, monkeypatch, capsys) -> None:
    def broken(*args: object, **named: object) -> None:
        raise ZeroDivisionError("ours")

    monkeypatch.setattr(cli.headless, "launch_of", broken)
    monkeypatch.setattr(sys, "argv", ["uneven-sum", "check", script("x = 1\n")])
    with pytest.raises(SystemExit) as left:
        cli.main()
    told = capsys.readouterr().err
    assert left.value.code == 70 and told.count("\n") == 1 and "Traceback" not in told
    assert "Uneven Sum crashed (ZeroDivisionError)" in told and "intact" in told
    path = told.partition("and report ")[2].rstrip().rstrip(".")
    with open(path) as f:
        text = f.read()
    assert "Traceback" in text and "ours" in text and "script.py" not in text.split("Traceback")[0]


def test_without_a_place_for_the_crash_file(monkeypatch) -> None:
    monkeypatch.setenv("XDG_STATE_HOME", "/proc/nowhere")
    assert "a crash report could not be written" in crash.sentence(ValueError("x"))


async def test_a_fault_in_the_application_leaves_with_a_sentence(script, monkeypatch) -> None:
    app = UnevenSum(Launch(script("breakpoint()\n"), keep_case=False))
    async with app.run_test(size=(100, 30)) as pilot:
        await until(pilot, lambda: getattr(app.screen, "state", "") == "paused", 60)
        monkeypatch.setattr(type(app), "is_headless", property(lambda self: False))
        app._handle_exception(KeyError("ours"))
        assert "Uneven Sum crashed (KeyError)" in app.refusal
        monkeypatch.undo()


def test_the_log_tells_what_was_done(script, tmp_path) -> None:
    command = [sys.executable, "-m", "uneven_sum", "--log", str(tmp_path / "log.txt"), "--log-level"]
    subprocess.run([*command, "info", "check", script("x = 1 / 0\n")], capture_output=True)
    text = (tmp_path / "log.txt").read_text()
    assert "INFO    uneven_sum.client: paused: ZeroDivisionError at line 1" in text and "DEBUG" not in text
    subprocess.run([*command, "debug", "check", script("x = 1\n")], capture_output=True)
    text = (tmp_path / "log.txt").read_text()
    assert "DEBUG   uneven_sum.host: setExceptionBreakpoints done in " in text
    done = subprocess.run(
        [*command[:-2], "/nowhere/log.txt", "check", script("x = 1\n")], capture_output=True, text=True
    )
    assert done.returncode == 2 and "/nowhere/log.txt cannot be written: No such file" in done.stderr


def test_without_a_log_nothing_of_it_reaches_the_terminal() -> None:
    ask = "import logging, uneven_sum.client; logging.getLogger('uneven_sum.client').error('a fault of ours')"
    done = subprocess.run([sys.executable, "-c", ask], capture_output=True, text=True)
    assert (done.returncode, done.stdout, done.stderr) == (0, "", "")
