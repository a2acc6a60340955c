"""The Desk: choose or resume a case; see what is wrong before the run, set how it runs, and run it."""

from __future__ import annotations

from typing import cast

from rich.text import Text
from textual import work
from textual.app import ComposeResult
from textual.containers import Horizontal, Vertical
from textual.screen import Screen
from textual.widgets import Input, OptionList, Static

from ...client import BadUse, Launch, settings
from ...client.setup import Setup, WrongField
from ...demo import CASES, find
from ..editor.screen import edit
from ..shell.commands import bindings, hints
from ..shell.controller import Controlled
from ..shell.keymap import Application, Keyed
from ..shell.paths import short
from ..shell.theme import PALETTES, Palette
from ..widgets.bars import Keys, TopLine
from ..widgets.fields import Field
from ..widgets.notice import Notice
from ..widgets.options import Options
from ..widgets.sheet import Sheet
from . import commands
from .case_list import CaseList
from .checks import Checks
from .guide_case import prepared

FIELDS = {
    "args": ("arguments", "command-line arguments, as in a shell"),
    "python": ("interpreter", "a Python, or the folder of an environment; empty: the active one"),
    "cwd": ("working folder", "empty: this one"),
    "env": ("environment", "NAME=VALUE NAME=VALUE"),
    "pause_on": ("pause on", "error, warning, nonfinite, start"),
    "stdin": ("input from", "a file; empty: typed in the output drawer"),
}


KEYS = hints(commands.COMMANDS, "enter", "8", "f", "tab", "o", "e", "n", "i", "k", "g", "7", "?", "q")


class Desk(Keyed, Controlled, Screen[None]):
    """`setup`: the chosen case, with its run options.  Nothing runs here."""

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
    CONTROLLERS = (CaseList, Checks)

    def __init__(self, palette: Palette) -> None:
        super().__init__()
        self.palette = palette
        self.case_list, self.checks = CaseList(self), Checks(self)
        self.controllers = [self.case_list, self.checks]
        self.setup: Setup | None = None
        self.settings, self.unfit = settings.load()
        self.checks.off = set(self.settings.not_looked_for)

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
        self.case_list.fill()
        self.query_one(OptionList).focus()
        self.query_one(Keys).show(list(KEYS))
        if self.unfit:
            self.say(self.unfit[0], bad=True)

    def on_screen_resume(self) -> None:
        self.case_list.refresh()

    def on_resize(self) -> None:
        self.set_class(self.app.size.width < 100, "narrow")

    def say(self, text: str, bad: bool = False) -> None:
        self.query_one("#said", Static).update(Text(text, self.palette.error if bad else self.palette.quiet))

    # -- the cases -----------------------------------------------------------------------------------

    def on_option_list_option_highlighted(self, event: OptionList.OptionHighlighted) -> None:
        cases = self.case_list.cases
        chosen = cases[event.option_index] if event.option_index < len(cases) else None
        if chosen is not None and (self.setup is None or chosen.key != self.setup.key):
            self.show_case(chosen)

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        self.action_run(True)

    def show_case(self, setup: Setup) -> None:
        """A case's entries, its text, and what is wrong with that."""
        self.setup = setup
        for name in FIELDS:
            self.query_one(f"#{name}", Input).value = str(getattr(setup, name))
        shipped = next((n for n in CASES if str(find(n)) == setup.program), "")
        told = f"shipped case {shipped}" if shipped else setup.program if setup.module else short(setup.program)
        new = "" if self.case_list.known else f"new here? {self.key('g')} opens the guide"
        self.query_one(TopLine).show(f"Desk   {told}", "module" if setup.module else new or "Uneven Sum")
        self.checks.look()

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

    # -- running -------------------------------------------------------------------------------------

    def launch(self) -> Launch | None:
        """The chosen case with its run options; None, with a message, where one of them is wrong."""
        if self.setup is None:
            return None
        try:
            launch = self.setup.launch()
        except WrongField as e:
            words = FIELDS.get(e.field, (e.field, ""))[0]
            self.say(f"{words}: {e}" if e.field in FIELDS else str(e), bad=True)
            if e.field in FIELDS:
                self.query_one(f"#{e.field}", Input).focus()
            return None
        launch.keep_case = self.setup.key not in {Setup(str(find(n))).key for n in CASES}
        self.say("")
        return launch

    def action_run(self, pauses: bool) -> None:
        """Opens the Bench on the case."""
        launch = self.launch()
        if launch is None:
            return
        if not pauses:
            launch.pause_on, launch.pause_on_given, launch.return_points = set(), True, False
            launch.checks = launch.meters = False
        launch.entries_given = pauses
        self.uneven.open_bench(launch)

    def action_audit(self) -> None:
        """Opens the Findings of the case."""
        launch = self.launch()
        if launch is not None:
            self.uneven.open_findings(launch)

    def action_differences(self) -> None:
        """Opens the Differences of the case and of another run."""
        launch = self.launch()
        if launch is not None:
            self.uneven.compare(launch, {})

    @work(group="dialog")
    async def action_edit(self) -> None:
        """The script's text; what is wrong with it is looked at again."""
        if self.setup is None or self.setup.module:
            return
        sheet = self.query_one(Sheet)
        await edit(self, self.palette, self.setup.program, sheet.cursor, self.say, frozenset(self.checks.off))
        self.checks.look()

    def keep_settings(self) -> None:
        """What was switched here holds from now on."""
        self.settings.not_looked_for, self.settings.theme = sorted(self.checks.off), self.palette.name
        try:
            settings.save(self.settings)
        except BadUse as e:
            self.say(str(e), bad=True)

    def action_theme(self) -> None:
        names = list(PALETTES)
        self.app.theme = names[(names.index(self.palette.name) + 1) % len(names)]
        self.draw_theme()
        self.keep_settings()

    def take_settings(self, now: settings.Settings) -> None:
        """What was set on the settings' screen holds here, too."""
        self.settings, self.checks.off = now, set(now.not_looked_for)
        self.draw_theme()

    def draw_theme(self) -> None:
        """Draws everything again, in the colours of the application's theme."""
        self.palette = self.uneven.palette
        for widget in self.query("TopLine, Sheet, Notice, Keys"):
            widget.palette = self.palette  # type: ignore[attr-defined]  # each of these has one
        sheet = self.query_one(Sheet)
        sheet.path = ""
        self.case_list.fill()
        self.checks.look()
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
