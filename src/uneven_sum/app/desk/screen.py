"""The Desk: choose or resume a case; see what is wrong before the run, set how it runs, and run it."""

from __future__ import annotations

import os
import textwrap
from pathlib import Path
from typing import cast

from rich.text import Text
from textual import work
from textual.app import ComposeResult
from textual.containers import Horizontal, Vertical
from textual.screen import Screen
from textual.widgets import Input, OptionList, Static
from textual.widgets.option_list import Option

from ...client import BadUse, case, settings
from ...client.before import ASIDE, KINDS, Finding, looked_at
from ...client.book import decoded
from ...client.setup import Setup, WrongField, ago, interpreters_near, recent
from ...demo import CASES, find
from ...protocol import Note
from ..editor.screen import edit
from ..shell.commands import bindings, hints
from ..shell.keymap import Application, Keyed
from ..shell.paths import short
from ..shell.theme import PALETTES, Palette
from ..widgets.bars import Keys, TopLine
from ..widgets.dialogs import Choice, Choose, Prompt
from ..widgets.fields import Field
from ..widgets.notice import Notice
from ..widgets.options import Options
from ..widgets.sheet import Sheet
from . import commands
from .guide_case import prepared

FIELDS = {
    "args": ("arguments", "command-line arguments, as in a shell"),
    "python": ("interpreter", "a Python, or the folder of an environment; empty: the active one"),
    "cwd": ("working folder", "empty: this one"),
    "env": ("environment", "NAME=VALUE NAME=VALUE"),
    "pause_on": ("pause on", "error, warning, nonfinite, start"),
    "stdin": ("input from", "a file; empty: typed in the output drawer"),
}


KEYS = hints(commands.COMMANDS, "enter", "f", "tab", "o", "e", "n", "i", "k", "g", "7", "?", "q")


class Desk(Keyed, Screen[None]):
    """States of a case are its entries; nothing runs here."""

    DEFAULT_CSS = """
    Desk #desk { height: 1fr; }
    Desk #cases { width: 44; height: 100%; background: $panel; border: none; border-right: solid $rule; padding: 0 1; }
    Desk #cases > .option-list--option-highlighted { background: $rule; color: $foreground; text-style: none; }
    Desk #cases:focus > .option-list--option-highlighted { background: $rule; color: $foreground; text-style: bold; }
    Desk #case { width: 1fr; height: 100%; }
    Desk .field { height: 1; }
    Desk .field Static { width: 16; padding: 0 1; color: $quiet; }
    Desk .field Input { width: 1fr; height: 1; border: none; background: $panel; padding: 0 1; }
    Desk .field Input:focus { background: $rule; }
    Desk #wrong { height: auto; max-height: 6; padding: 0 1; border-bottom: solid $rule; }
    Desk #said { height: 1; padding: 0 1; }
    Desk.narrow #cases { width: 30; }
    """
    KEYS_OF = "desk"
    HEADING, ACTIONS = commands.TITLE, commands.COMMANDS
    BINDINGS = bindings(commands.COMMANDS)

    def __init__(self, palette: Palette) -> None:
        super().__init__()
        self.palette = palette
        self.cases: list[Setup] = []
        self.setup: Setup | None = None
        self.found: list[Finding] = []
        self.at_finding = -1
        self.settings, self.unfit = settings.load()
        self.off = set(self.settings.not_looked_for)
        self.known: list[tuple[tuple[str, bool], float]] = []  # recent cases as they are listed

    @property
    def uneven(self) -> Application:
        return cast("Application", self.app)

    def compose(self) -> ComposeResult:
        yield TopLine(self.palette)
        with Horizontal(id="desk"):
            yield Options(id="cases")
            with Vertical(id="case"):
                for name, (label, hint) in FIELDS.items():
                    with Horizontal(classes="field"):
                        yield Static(label)
                        yield Field(id=name, placeholder=hint, compact=True)
                yield Static("", id="wrong")
                yield Sheet(self.palette)
        yield Static("", id="said")
        yield Notice(self.palette)
        yield Keys(self.palette)

    def on_mount(self) -> None:
        self.set_class(self.app.size.width < 100, "narrow")
        self.query_one(TopLine).show("Desk", "Uneven Sum")
        self.fill()
        self.query_one(OptionList).focus()
        self.query_one(Keys).show(list(KEYS))
        if self.unfit:
            self.say(self.unfit[0], bad=True)

    def on_screen_resume(self) -> None:
        if self.cases and [(s.key, s.when) for s in recent()] != self.known:
            self.fill()

    def on_resize(self) -> None:
        self.set_class(self.app.size.width < 100, "narrow")

    def say(self, text: str, bad: bool = False) -> None:
        self.query_one("#said", Static).update(Text(text, self.palette.error if bad else self.palette.quiet))

    # -- the cases -----------------------------------------------------------------------------------

    def fill(self) -> None:
        """Recent cases, then the shipped ones."""
        p, options = self.palette, self.query_one(OptionList)
        kept = self.setup.key if self.setup is not None else None
        options.clear_options()
        known = recent()
        self.known = [(s.key, s.when) for s in known]
        shipped = [self.fresh(str(find(name))) for name in CASES]
        own = [self._as_kept(s) for s in known if s.key not in {d.key for d in shipped}]
        if self.setup is not None and self.setup.key not in {s.key for s in (*own, *shipped)}:
            own.insert(0, self.setup)  # chosen, but not run yet
        self.cases = own + shipped
        for setup in self.cases[: len(self.cases) - len(shipped)]:
            text = Text(Path(setup.program).name, p.text)
            told = f"{ago(setup.when)}, {setup.ended}" if setup.when else "not run yet"
            for line in textwrap.wrap(told, 22 if self.has_class("narrow") else 36):
                text.append(f"\n  {line}", p.quiet)
            options.add_option(Option(text))
        for name, (script, wrong) in CASES.items():
            text = Text(f"{script}", p.text)
            text.append(f"   shipped case {name}", p.quiet)
            for line in textwrap.wrap(wrong, 22 if self.has_class("narrow") else 36):
                text.append(f"\n  {line}", p.quiet)
            options.add_option(Option(text))
        keys = [s.key for s in self.cases]
        options.highlighted = keys.index(kept) if kept in keys else 0

    def on_option_list_option_highlighted(self, event: OptionList.OptionHighlighted) -> None:
        chosen = self.cases[event.option_index] if event.option_index < len(self.cases) else None
        if chosen is not None and (self.setup is None or chosen.key != self.setup.key):
            self.show_case(self.cases[event.option_index])

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        self.action_run(True)

    def show_case(self, setup: Setup) -> None:
        """A case's entries, its text, and what is wrong with that."""
        self.setup = setup
        for name in FIELDS:
            self.query_one(f"#{name}", Input).value = str(getattr(setup, name))
        shipped = next((n for n in CASES if str(find(n)) == setup.program), "")
        told = f"shipped case {shipped}" if shipped else setup.program if setup.module else short(setup.program)
        new = "" if self.known else f"new here? {self.key('g')} opens the guide"
        self.query_one(TopLine).show(f"Desk   {told}", "module" if setup.module else new or "Uneven Sum")
        self.look()

    def look(self) -> None:
        """Reads the text again."""
        setup, sheet = self.setup, self.query_one(Sheet)
        if setup is None:
            return
        self.at_finding = -1
        if setup.module:
            self.found = []
            sheet.show_file(setup.program, f"# The module {setup.program} is looked for when it is run.")
            self._summary()
            return
        try:
            with open(setup.program, "rb") as f:
                data = f.read(4_000_000)
        except OSError as e:
            self.found = [Finding(0, 0, "syntax", True, f"{setup.program} cannot be read: {e.strerror}")]
            sheet.show_file(setup.program, "")
            self._summary()
            return
        sheet.show_file(setup.program, decoded(data))
        if len(data) > ASIDE:
            self.found = []
            self.query_one("#wrong", Static).update(Text("being looked at …", self.palette.quiet))
        self._find(data, setup)

    @work(exclusive=True, group="find")
    async def _find(self, data: bytes, setup: Setup) -> None:
        found = await looked_at(data, setup.program, frozenset(self.off))
        if setup is not self.setup or not self.query("#wrong"):
            return
        self.found = found
        sheet = self.query_one(Sheet)
        lines: dict[int, list[Finding]] = {}
        for one in self.found:
            lines.setdefault(one.line, []).append(one)
        sheet.show_notes(
            [
                Note(n, "; ".join(("error: " if f.error else "hint: ") + f.text for f in fs), any(f.error for f in fs))
                for n, fs in lines.items()
            ]
        )
        self._summary()

    def _summary(self) -> None:
        p, out = self.palette, Text()
        errors = [f for f in self.found if f.error]
        hints = [f for f in self.found if not f.error]
        if not self.found:
            out.append("no findings", p.fine)
        for word, colour, part in (("error", p.error, errors), ("hint", p.warning, hints)):
            if part:
                out.append("\n" if out else "")
                out.append(f"{len(part)} {word}{'s' * (len(part) != 1)}  ", f"bold {colour}")
                out.append("   ".join(f"line {f.line}: {f.text}" for f in part[:2])[: 2 * self.size.width], p.text)
                out.append(f"   and {len(part) - 2} more: n" if len(part) > 2 else "", p.quiet)
        self.query_one("#wrong", Static).update(out)

    def action_next_finding(self) -> None:
        sheet = self.query_one(Sheet)
        if self.found:
            self.at_finding = (self.at_finding + 1) % len(self.found)
            one = self.found[self.at_finding]
            sheet.cursor = max(1, one.line)
            sheet.reveal(sheet.cursor)
            place = f"line {one.line}" + (f", column {one.column}" if one.column else "")
            self.say(f"{'error' if one.error else 'hint'} in {place}: {one.text}", bad=one.error)

    # -- the entries ---------------------------------------------------------------------------------

    def on_input_changed(self, event: Input.Changed) -> None:
        if self.setup is None or event.input.id not in FIELDS:
            return
        setattr(self.setup, event.input.id, event.value)
        try:
            self.setup.launch()
            self.say("")
        except WrongField as e:
            if e.field == event.input.id:
                self.say(f"{FIELDS[e.field][0]}: {e}", bad=True)

    def on_input_submitted(self, event: Input.Submitted) -> None:
        self.action_run(True)

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        if isinstance(self.focused, Input):
            return action in ("leave_field", "run") and not (action == "run" and parameters == (False,))
        return True

    def action_leave_field(self) -> None:
        self.query_one(OptionList).focus()

    def action_along(self, by: int) -> None:
        self.query_one(OptionList).focus()

    async def action_module(self) -> None:
        """A module is run instead of a script, by its name."""
        self.run_worker(self._module(), group="dialog")

    async def _module(self) -> None:
        name = await self.app.push_screen_wait(
            Prompt(self.palette, "Run which module, as python -m would?", "", "package.module")
        )
        if name and name.strip():
            self._chosen(Setup(name.strip(), module=True))

    @work(group="dialog")
    async def action_interpreter(self) -> None:
        """One of the environments found nearby."""
        if self.setup is None:
            return
        found = interpreters_near(self.setup.program)
        choices = [Choice(path, path) for path in found]
        choices.append(Choice("", "active environment, else Uneven Sum's Python", "no entry"))
        chosen = await self.app.push_screen_wait(Choose(self.palette, "Run it with which Python?", choices))
        if chosen is not None:
            self.query_one("#python", Input).value = chosen

    @work(group="dialog")
    async def action_choose_file(self) -> None:
        """A script by typing a part of its path: of this folder and those below."""
        choices = [Choice(p, p) for p in scripts_below(os.getcwd())]
        chosen = await self.app.push_screen_wait(Choose(self.palette, "Which script?", choices, typed=True))
        if chosen is not None:
            self._chosen(self.fresh(os.path.abspath(chosen)))

    def fresh(self, program: str) -> Setup:
        """The entries of a case that was not run before: as its file says, or the usual ones."""
        return self._as_kept(Setup(program, pause_on=", ".join(self.settings.pause_on)))

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
            self.setup = setup
            self.fill()
        self.show_case(known or setup)
        self.say(f"{setup.program} is chosen: enter runs it.")

    @work(group="dialog")
    async def action_kinds(self) -> None:
        """What is looked for in the text: one kind on or off."""
        choices = [Choice(k, f"{'off' if k in self.off else 'on '}  {words}") for k, words in KINDS.items()]
        chosen = await self.app.push_screen_wait(Choose(self.palette, "Which checks?", choices))
        if chosen is not None:
            self.off ^= {chosen}
            self.look()
            self._keep_settings()

    # -- running -------------------------------------------------------------------------------------

    def action_run(self, pauses: bool) -> None:
        """Opens the Bench on the case."""
        if self.setup is None:
            return
        try:
            launch = self.setup.launch()
        except WrongField as e:
            words = FIELDS.get(e.field, (e.field, ""))[0]
            self.say(f"{words}: {e}" if e.field in FIELDS else str(e), bad=True)
            if e.field in FIELDS:
                self.query_one(f"#{e.field}", Input).focus()
            return
        if not pauses:
            launch.pause_on, launch.pause_on_given, launch.return_points = set(), True, False
            launch.checks = launch.meters = False
        launch.entries_given = pauses
        launch.keep_case = self.setup.key not in {Setup(str(find(n))).key for n in CASES}
        self.say("")
        self.uneven.open_bench(launch)

    @work(group="dialog")
    async def action_edit(self) -> None:
        """The script's text; what is wrong with it is looked at again."""
        if self.setup is None or self.setup.module:
            return
        sheet = self.query_one(Sheet)
        await edit(self, self.palette, self.setup.program, sheet.cursor, self.say, frozenset(self.off))
        self.look()

    def _keep_settings(self) -> None:
        """What was switched here holds from now on."""
        self.settings.not_looked_for, self.settings.theme = sorted(self.off), self.palette.name
        try:
            settings.save(self.settings)
        except BadUse as e:
            self.say(str(e), bad=True)

    def action_theme(self) -> None:
        names = list(PALETTES)
        self.app.theme = names[(names.index(self.palette.name) + 1) % len(names)]
        self.draw_theme()
        self._keep_settings()

    def take_settings(self, now: settings.Settings) -> None:
        """What was set on the settings' screen holds here, too."""
        self.settings, self.off = now, set(now.not_looked_for)
        self.draw_theme()

    def draw_theme(self) -> None:
        """Draws everything again, in the colours of the application's theme."""
        self.palette = self.uneven.palette
        for widget in self.query("TopLine, Sheet, Notice, Keys"):
            widget.palette = self.palette  # type: ignore[attr-defined]  # each of these has one
        sheet = self.query_one(Sheet)
        sheet.path = ""
        self.fill()
        self.look()
        self.query_one(Keys).show(list(KEYS))

    def action_guide(self) -> None:
        """Five steps on a copy of a shipped case."""
        try:
            self.uneven.open_bench(prepared(), guided=True)
        except BadUse as e:
            self.say(str(e), bad=True)

    def action_settings(self) -> None:
        self.uneven.open_settings()

    def action_leave(self) -> None:
        self.app.exit()


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
                elif entry.name.endswith(".py"):
                    found.append(os.path.relpath(entry.path, folder))
        level = below[:200]
    return found[:most]
