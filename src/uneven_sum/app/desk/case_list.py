"""The list of cases: recent ones, then the shipped ones; other scripts, modules and interpreters are chosen here."""

from __future__ import annotations

import os
import textwrap
from pathlib import Path
from typing import TYPE_CHECKING

from rich.text import Text
from textual.widgets import Input, OptionList
from textual.widgets.option_list import Option

from ...client import case
from ...client.setup import Setup, ago, interpreters_near, recent
from ...demo import CASES, find
from ..shell.controller import background
from ..widgets.dialogs import Choice, Choose, Prompt
from .controller import Controller

if TYPE_CHECKING:
    from .screen import Desk


class CaseList(Controller):
    """`cases`: as they are listed.  `known`: the recent ones, with the time of their last run."""

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.cases: list[Setup] = []
        self.known: list[tuple[tuple[str, bool], float]] = []

    def refresh(self) -> None:
        """Fill the list again if a case was run since."""
        if self.cases and [(s.key, s.when) for s in recent()] != self.known:
            self.fill()

    def fill(self) -> None:
        """Recent cases, then the shipped ones."""
        p, options = self.desk.palette, self.desk.query_one(OptionList)
        kept = self.desk.setup.key if self.desk.setup is not None else None
        options.clear_options()
        known = recent()
        self.known = [(s.key, s.when) for s in known]
        shipped = [self.fresh(str(find(name))) for name in CASES]
        own = [self._as_kept(s) for s in known if s.key not in {d.key for d in shipped}]
        if self.desk.setup is not None and self.desk.setup.key not in {s.key for s in (*own, *shipped)}:
            own.insert(0, self.desk.setup)  # chosen, but not run yet
        self.cases = own + shipped
        names = [Path(setup.program).name for setup in own]
        for setup in own:
            name = Path(setup.program).name
            text = Text(name, p.text)
            if names.count(name) > 1:
                text.append(f"   in {folder_of(setup.program, [s.program for s in own])}", p.quiet)
            ended = f"{ago(setup.when)}, {setup.ended}" if setup.when else "not run yet"
            for line in textwrap.wrap(ended, 22 if self.desk.has_class("narrow") else 36):
                text.append(f"\n  {line}", p.quiet)
            options.add_option(Option(text))
        for name, (script, wrong) in CASES.items():
            text = Text(f"{script}", p.text)
            text.append(f"   shipped case {name}", p.quiet)
            for line in textwrap.wrap(wrong, 22 if self.desk.has_class("narrow") else 36):
                text.append(f"\n  {line}", p.quiet)
            options.add_option(Option(text))
        keys = [s.key for s in self.cases]
        options.highlighted = keys.index(kept) if kept in keys else 0

    @background(group="dialog")
    async def action_module(self) -> None:
        """A module is run instead of a script, by its name."""
        name = await self.desk.app.push_screen_wait(
            Prompt(self.desk.palette, "Run which module, as python -m would?", "", "package.module")
        )
        if name and name.strip():
            self._chosen(Setup(name.strip(), module=True))

    @background(group="dialog")
    async def action_interpreter(self) -> None:
        """One of the environments found nearby."""
        if self.desk.setup is None:
            return
        found = interpreters_near(self.desk.setup.program)
        choices = [Choice(path, path) for path in found]
        choices.append(Choice("", "active environment, else Uneven Sum's Python", "no entry"))
        chosen = await self.desk.app.push_screen_wait(Choose(self.desk.palette, "Run it with which Python?", choices))
        if chosen is not None:
            self.desk.query_one("#python", Input).value = chosen

    @background(group="dialog")
    async def action_choose_file(self) -> None:
        """A script by typing a part of its path: of this folder and those below."""
        choices = [Choice(p, p) for p in scripts_below(os.getcwd())]
        chosen = await self.desk.app.push_screen_wait(Choose(self.desk.palette, "Which script?", choices, typed=True))
        if chosen is not None:
            self._chosen(self.fresh(os.path.abspath(chosen)))

    def fresh(self, program: str) -> Setup:
        """The entries of a case that was not run before: as its file says, or the usual ones."""
        return self._as_kept(Setup(program, pause_on=", ".join(self.desk.settings.pause_on)))

    @staticmethod
    def _as_kept(setup: Setup) -> Setup:
        """The run options of the case file have priority over those of the last run."""
        try:
            kept = None if setup.module else case.setup_of(setup.program)
        except case.Damaged:
            return setup  # shown on the Bench
        if kept is not None:
            kept.when, kept.ended = setup.when, setup.ended
        return kept or setup

    def _chosen(self, setup: Setup) -> None:
        known = next((s for s in self.cases if s.key == setup.key), None)
        if known is None:
            self.desk.setup = setup
            self.fill()
        self.desk.show_case(known or setup)
        self.desk.say(f"{setup.program} is chosen: enter runs it.")


def folder_of(program: str, others: list[str]) -> str:
    """As much of the folder of a script as tells it from the other ones of its name."""
    parts = Path(program).parent.parts
    same = [Path(o).parent.parts for o in others if Path(o).name == Path(program).name and o != program]
    for count in range(1, len(parts)):
        if all(other[-count:] != parts[-count:] for other in same):
            return os.path.join(*parts[-count:])
    return str(Path(program).parent)


def scripts_below(folder: str, most: int = 400) -> list[str]:
    """Python files of a folder and those below, the nearest first; not those of environments."""
    found: list[str] = []
    level = [folder]
    while level and len(found) < most:
        below: list[str] = []
        for place in level:
            try:
                entries = sorted(os.scandir(place), key=lambda e: e.name)
            except OSError:
                continue
            for entry in entries:
                if entry.name.startswith((".", "__pycache__")):
                    continue
                if entry.is_dir(follow_symlinks=False):
                    if not os.path.exists(os.path.join(entry.path, "pyvenv.cfg")):
                        below.append(entry.path)
                elif entry.name.endswith((".py", ".ipynb")):
                    found.append(os.path.relpath(entry.path, folder))
        level = below[:200]
    return found[:most]
