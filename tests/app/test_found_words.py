"""What a newcomer types is found in the help and in the palette of the Bench."""

from __future__ import annotations

import pytest
from textual.fuzzy import Matcher

from uneven_sum.app.bench import commands
from uneven_sum.app.bench.screen import Bench
from uneven_sum.app.desk.case_list import folder_of
from uneven_sum.app.shell.commands import listed
from uneven_sum.app.shell.glossary import ALSO_CALLED
from uneven_sum.app.shell.theme import PALETTES
from uneven_sum.app.widgets.help import Help
from uneven_sum.client import Launch

WORDS = {
    **{"variable": "inspect value", "locals": "switch values", "conditional": "edit breakpoint", "print": "ask"},
    **{"exit": "quit", "quit": "quit", "undo": "go back", "stack frame": "walk calls", "iteration": "next pass"},
    **{"evaluate expression": "ask", "breakpoint condition": "edit breakpoint", "log point": "edit breakpoint"},
    **{"continue": "go on", "resume": "go on", "restart": "rerun", "terminate": "stop script", "step over": "run line"},
    **{"step into": "into call", "step out": "out of call", "backtrace": "walk calls", "caller": "walk calls"},
    **{
        "globals": "switch values",
        "console": "ask",
        "diff": "compare runs",
        "reverse": "go back",
        "dark": "switch theme",
    },
    **{"preferences": "open settings", "shortcuts": "help", "watchpoint": "open Lookouts", "kill": "stop script"},
    **{"stdout": "show output", "unit test": "keep call", "overflow": "audit"},
}


@pytest.mark.parametrize("typed", WORDS)
async def test_a_word_of_the_trade_finds_the_command(typed: str, monkeypatch) -> None:
    monkeypatch.setattr(Help, "_folded", lambda self, text, column: text + "\n")  # it needs no screen
    bench = Bench(Launch("script.py"), PALETTES["slate"])
    shown = [line for line in Help(PALETTES["slate"], bench)._text(typed).plain.splitlines() if line.startswith("  ")]
    assert any(WORDS[typed] in line for line in shown)
    matcher = Matcher(typed)
    assert matcher.match(WORDS[typed]) or matcher.match(ALSO_CALLED[WORDS[typed]])


def test_each_command_that_is_also_called_something_is_there() -> None:
    labels = {c.label for c in listed(commands.COMMANDS)} | {c.label for c in commands.COMMANDS}
    assert set(ALSO_CALLED) <= labels


def test_scripts_of_one_name_are_told_apart_by_their_folders() -> None:
    programs = ["/a/north/run.py", "/a/south/run.py", "/b/north/run.py", "/a/fit.py"]
    assert [folder_of(p, programs) for p in programs[:3]] == ["a/north", "south", "b/north"]
