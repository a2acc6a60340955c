"""What commands have in common: options, examples, and what is made from them."""

from __future__ import annotations

import os
import re
import sys
from collections.abc import Callable, Sequence
from typing import NoReturn

import click

from ..host.launch import BadUse, Launch
from ..protocol.messages import Message
from ..protocol.trips import AUDIT_RULES, TRIPS
from ..protocol.trips import PAUSES as CHOICES
from ..safe_text import visible

EXAMPLES = {
    "run": (
        "run model.py --year 2031",
        "run --python .venv/bin/python --pause-on error model.py",
        "run -m basin.model",
    ),
    "check": ("check model.py", "check --json --all model.py --year 2031", "check --report out.pdf model.py"),
    "attach": ("attach model.py.held", "attach /tmp/uneven-sum-held-k2x9/socket"),
    "passes": ("passes --loop 32 model.py", "passes --loop rating.py:12 --values head,flow --out passes.csv model.py"),
    "digits": ("digits model.py", "digits --result head --json model.py --year 2031"),
    "differ": ("differ old.py new.py", "differ HEAD~1:model.py model.py --relative 1e-9", "differ --twice model.py"),
    "origin": (
        "origin --of total model.py",
        "origin --of 'flow[211]' --at 44 model.py",
        "origin --of head --pause model.py",
    ),
    "cells": ("cells model.ipynb --to model.py", "cells model.py --to model.ipynb"),
    "sweep": (
        "sweep --vary width=1.5,2.0,2.5 model.py",
        "sweep --args-from runs.csv model.py --start {start} --gauge {gauge}",
        "sweep --each 'data/*.csv' --result total model.py {file}",
    ),
    "demo": ("demo", "demo rating"),
    "serve": ("serve --stdio", "serve --port 0"),
}
SCRIPT_SETTINGS = {"ignore_unknown_options": True, "allow_interspersed_args": False}


def examples(command: str) -> str:
    """The end of a command's help: how it is called, a line each (click folds them otherwise)."""
    return "\b\nExamples:\n" + "\n".join(f"  uneven-sum {line}" for line in EXAMPLES[command])


def input_of(path: str | None) -> str | None:
    """The text of the file that a run reads as its standard input."""
    if path is None:
        return None
    try:
        with open(path, encoding="utf-8", errors="replace") as f:
            return f.read()
    except OSError as e:
        raise BadUse(f"{path} cannot be read: {e.strerror}.") from None


def fail(message: str) -> NoReturn:
    """One clear sentence on standard error, exit status 2."""
    click.echo(visible(f"uneven-sum: {message}"), err=True)
    sys.exit(2)


def trips_of(text: str | None, option: str) -> set[str]:
    found = {w.strip() for w in (text or "").split(",") if w.strip()}
    wrong = sorted(found - set(CHOICES))
    if wrong:
        raise BadUse(f"{option} does not know {', '.join(wrong)}. It takes a list of: {', '.join(CHOICES)}.")
    return found


def rules_of(text: str | None) -> list[str]:
    """The rules of `--rules`; none: all that are not weak."""
    found = [name.strip() for name in (text or "").split(",") if name.strip()]
    wrong = [name for name in found if name not in AUDIT_RULES]
    if wrong:
        raise BadUse(f"--rules does not know {', '.join(wrong)}. There are: {', '.join(AUDIT_RULES)}.")
    return found


def launch_of(script: str, args: tuple[str, ...], options: Message) -> Launch:
    env: dict[str, str] = {}
    for pair in options["env"]:
        name, equals, value = pair.partition("=")
        if not equals or not name:
            raise BadUse(f"--env takes NAME=VALUE, not {pair!r}.")
        env[name] = value
    pause_on = set(TRIPS)
    only, never = options.get("pause_on"), options.get("no_pause_on")
    if only is not None:
        pause_on = trips_of(only, "--pause-on")
    pause_on -= trips_of(never, "--no-pause-on")
    return Launch(
        script,
        list(args),
        as_module=options["module"],
        python=options["python"],
        cwd=options["cwd"],
        env=env,
        user_code=[os.path.abspath(p) for p in options["user_code"]],
        pause_on=pause_on,
        pause_on_given=only is not None or never is not None,
    )


Decorator = Callable[[Callable[..., object]], Callable[..., object]]
SCRIPT: list[Decorator] = [
    click.argument("args", nargs=-1, type=click.UNPROCESSED, metavar="[ARG]..."),
    click.argument("script"),
    click.option("--user-code", multiple=True, metavar="PATH", help="Another folder to treat as your code."),
    click.option("--module", "-m", is_flag=True, help="SCRIPT is a module's name, run as python -m would."),
    click.option("--env", multiple=True, metavar="NAME=VALUE", help="Set a variable of the script's environment."),
    click.option("--cwd", metavar="FOLDER", help="The script's working directory."),
    click.option("--python", metavar="PATH", help="The script's interpreter (CPython 3.11 or later)."),
]
PAUSES: list[Decorator] = [
    click.option("--no-pause-on", metavar="LIST", help="Of error, warning, nonfinite: do not pause on these."),
    click.option("--pause-on", metavar="LIST", help="Pause only on: error, warning, nonfinite, start."),
]


def script_options(command: Callable[..., object]) -> Callable[..., object]:
    """The options that all commands with a script share."""
    for option in SCRIPT:
        command = option(command)
    return command


def pause_options(command: Callable[..., object]) -> Callable[..., object]:
    """The options of commands that pause, or report pauses."""
    for option in PAUSES:
        command = option(command)
    return command


def there_is_a_folder_for(path: str | None) -> None:
    """BadUse where a file that is to be written has no folder."""
    if path is not None and not os.path.isdir(os.path.dirname(os.path.abspath(path))):
        raise BadUse(f"There is no folder {os.path.dirname(path)} to write {os.path.basename(path)} in.")


def tolerances_of(given: Sequence[str]) -> dict[tuple[str, int], float]:
    """Tolerances by the name of a file and a line, from `FILE:LINE=X`."""
    found = {}
    from ..client.sources import line_in_cell, read_place

    for text in given:
        place, _, value = text.partition("=")
        name, cell, line = read_place(place) or ("", 0, 0)
        line = line_in_cell(name, cell, line) if name and cell else line
        try:
            found[os.path.basename(name), line] = number = float(value)
        except ValueError:
            number = -1.0
        if not name or not 0 <= number < float("inf"):
            raise BadUse(f"--at takes FILE:LINE=X with a number X not below 0, not {text!r}.")
    return found


def place_and_time(text: str | None, script: str, cwd: str | None) -> tuple[str, int, int]:
    """The file (empty: the script), the line and the time of `[FILE:]LINE[xN]`, or of `[FILE:]cell K:LINE[xN]`; line 0
    where nothing is given."""
    from ..client.sources import line_in_cell, read_place

    if text is None:
        return "", 0, 1
    place, _, time = text.rpartition("x") if re.search(r":?\d+x\d+$", text) else (text, "", "1")
    found = read_place(place)
    if found is None or not found[2] or not int(time):
        raise BadUse(
            f"--at takes a line such as 44, rating.py:44 or 44x212 (before it runs for the 212th time), or one of a "
            f"cell such as 'cell 7:2', not {text!r}."
        )
    file, cell, line = found
    if cell:
        line = line_in_cell(os.path.join(cwd or "", file or script), cell, line)
    return file, line, int(time)


def write_report(text: str, path: str, name: str) -> None:
    """Markdown, or pages for `.pdf`.  BadUse when it cannot be written."""
    if not path.lower().endswith(".pdf"):
        from ..client.edits import write_whole

        write_whole(os.path.abspath(path), text.encode())
        return
    from pathlib import Path

    from ..charts import write_pages

    try:
        write_pages(text, Path("."), path, name)
    except OSError as e:
        raise BadUse(f"{path} cannot be written: {e.strerror}.") from None
