"""The application: themes, and the way to the Desk and the Bench."""

from __future__ import annotations

import os
import signal
import threading
from collections import deque
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from textual import events, work
from textual.app import App
from textual.binding import BindingsMap
from textual.filter import LineFilter

from .. import crash, endings
from ..client import Goal, Launch, settings
from ..client.digits.known import Known
from ..client.settings import Settings
from ..protocol import Finding
from ..sweep.sweep import Sweep
from .bench.screen import Bench
from .closeup.screen import CloseUp
from .command_palette import Commands
from .desk.screen import Desk
from .differences.choosing import pair_of
from .differences.screen import Differences, Pair
from .editor.screen import Editor
from .findings.screen import Findings
from .key_order import KeyOrder
from .ledger.screen import LedgerScreen
from .lookouts.screen import Lookouts
from .notes.screen import Notes
from .safe_drawing import Harmless
from .settings.screen import SettingsScreen
from .shell import hangup
from .shell.keymap import Changes, Keyed, fitting
from .shell.theme import PALETTES, Palette
from .shell.too_late import too_late
from .sweep.screen import SweepScreen
from .widgets.help import Help
from .widgets.notice import Notice

SOON = 4.0  # seconds in which a program that a signal ends must be gone
KEYED: list[type[Keyed]] = [Bench, CloseUp, Desk, Differences, Editor, Findings, LedgerScreen, Lookouts, Notes]
KEYED += [SettingsScreen, SweepScreen]


class UnevenSum(App[None]):
    """One case in the terminal; without a launch, the Desk first."""

    TITLE = "Uneven Sum"
    COMMANDS = {Commands}
    CSS = """
    Screen { background: $background; color: $foreground; }
    ModalScreen { background: $background 55%; }
    CommandPalette SearchIcon { display: none; }
    """

    closing = 0  # the signal that ends the program

    def __init__(
        self, launch: Launch | None, theme: str = "slate", guided: bool = False, sweep: Sweep | None = None
    ) -> None:
        super().__init__()
        self.sweep = sweep
        self.guided = guided
        for palette in PALETTES.values():
            self.register_theme(palette.theme())
        self.theme = theme
        self.launch = launch
        self.refusal = ""
        self.digits: Known | None = None  # of the shaken runs that came last
        self.harmless = Harmless()
        self.messages: deque[str] = deque(maxlen=100)  # the last ones
        self.key_order = KeyOrder(self, super().on_event)

    @property
    def palette(self) -> Palette:
        return PALETTES.get(self.theme, PALETTES["slate"])

    def _handle_exception(self, error: Exception) -> None:
        """An internal error: a crash file and a sentence, no traceback."""
        if too_late(error):
            return
        if self.is_headless:  # a test: it shall fail
            super()._handle_exception(error)
            return
        self.refusal = crash.sentence(error)
        self._return_code = 1
        self.exit()

    def _ended_by(self, number: int) -> None:
        """A signal ends the program: what is open is saved and ended on the way out, and soon."""
        self._return_code = 128 + number
        self.closing = number
        last = threading.Timer(SOON, os._exit, (128 + number,))
        last.daemon = True
        last.start()
        self.exit(return_code=128 + number)

    def _look_for_terminal(self) -> None:
        if not self.closing and not hangup.has_terminal():
            self._ended_by(signal.SIGHUP)

    async def on_event(self, event: events.Event) -> None:
        if isinstance(event, events.Key) and not event.is_forwarded:
            await self.key_order.take(event)
        else:
            await super().on_event(event)

    def on_mount(self) -> None:
        if not self.is_headless:
            endings.on_signal(self._ended_by)
            hangup.resume_only_after_a_stop(self._driver)
            self.set_interval(hangup.EVERY, self._look_for_terminal)
        if self.sweep is not None:
            self.push_screen(SweepScreen(self.sweep, self.palette))
        elif self.launch is None:
            self.push_screen(Desk(self.palette))
        else:
            self.push_screen(Bench(self.launch, self.palette, self.guided))
        for text in self.apply_keys(settings.load()[0].keys):
            self.notify(f"{text} The key keeps its default.", severity="warning", timeout=12)

    @property
    def desk(self) -> Desk | None:
        return next((s for s in self.screen_stack if isinstance(s, Desk)), None)

    def open_bench(self, launch: Launch, guided: bool = False) -> None:
        self.launch = launch
        self.push_screen(Bench(launch, self.palette, guided))

    def open_findings(self, launch: Launch) -> None:
        """Audit a script in a run of its own."""
        self.push_screen(Findings(replace(launch), self.palette))

    @work(group="dialog")
    async def compare(self, launch: Launch, earlier: dict[str, str]) -> None:
        """Compare a script with the text it had before an edit, or with what the user names."""
        pair = await pair_of(self.screen, self.palette, replace(launch), earlier)
        if isinstance(pair, Pair):
            self.push_screen(Differences(pair, self.palette))
        elif pair:
            self.notify(pair, severity="warning")

    def go_to_place(self, launch: Launch, goal: Goal) -> None:
        """The Bench, whose script runs to a line."""
        self.pop_screen()
        same = isinstance(self.screen, Bench) and self.screen.launch.program == launch.program
        if isinstance(self.screen, Bench) and same:
            self.screen.recording.rerun_to_finding(goal)
            return
        if isinstance(self.screen, Bench):
            self.notify(f"{launch.name} is another script than the one here. Open it on the Desk.", severity="warning")
            return
        self.launch = replace(launch)
        self.push_screen(Bench(self.launch, self.palette, finding=goal))

    def go_to_finding(self, launch: Launch, finding: Finding, then: str = "") -> None:
        """The Bench, whose script runs to the place of a finding.  `then`: there its changed line is tried (`try`),
        versions of it listed (`repairs`), its call kept (`keep`), or the origin of a value asked for (`origin`)."""
        self.pop_screen()
        if isinstance(self.screen, Bench):
            self.screen.recording.rerun_to_finding(finding, then)
            return
        self.launch = replace(launch)
        bench = Bench(self.launch, self.palette, finding=finding)
        bench.recording.awaited, bench.recording.then = finding, then
        self.push_screen(bench)

    def get_line_filters(self) -> Sequence[LineFilter]:
        """Textual's filters, and the one for all that is drawn."""
        return [*super().get_line_filters(), self.harmless]

    def notify(self, message: str, **how: Any) -> None:
        """In the line for it where the screen has one, else a toast; brackets in it are text."""
        self.messages.append(message)
        notices = self.screen.query(Notice)
        if not notices:
            super().notify(message, **{**how, "markup": False})
            return
        severity = how.get("severity", "information")
        for notice in notices:
            notice.say(message, severity)

    def screens(self) -> list[type[Keyed]]:
        return KEYED

    def show_help(self, screen: Keyed) -> None:
        self.push_screen(Help(self.palette, screen))

    # -- settings ------------------------------------------------------------------------------------

    def open_settings(self) -> None:
        self.push_screen(SettingsScreen(self.palette))

    def apply_keys(self, changes: Changes) -> list[str]:
        """Apply changed keys to all open screens; returns a sentence for each change that cannot apply."""
        for screen in self.screen_stack:
            if isinstance(screen, Keyed):
                screen.take_keys(changes)
        known = {kind.KEYS_OF: kind for kind in KEYED}
        told = [f"keys.{name}: there is no such screen." for name in changes if name not in known]
        for name, mine in changes.items():
            if name in known:
                told += fitting(BindingsMap(known[name].BINDINGS), mine, name)[1]
        return told

    def keys_of(self, screen: str) -> set[str]:
        """All keys that do something on a screen, by default, in Textual's names."""
        kind = next(k for k in KEYED if screen == k.KEYS_OF)
        return set(BindingsMap(kind.BINDINGS).key_to_bindings)

    def apply_settings(self, now: Settings, theme: bool) -> list[str]:
        """Apply the settings: limits from the next run, the theme only if it was changed (the command line may have
        set another).  Returns a sentence for each key that cannot apply."""
        if theme:
            self.theme = now.theme
        told = self.apply_keys(now.keys)
        for screen in self.screen_stack:
            if isinstance(screen, (Bench, Desk)):
                screen.take_settings(now)
        return told

    # -- screens -------------------------------------------------------------------------------------

    def to_desk(self) -> None:
        """Leaves the Bench for the Desk, opened if it is not there yet; or for the sweep whose run it shows."""
        while isinstance(self.screen, Bench) or (self.desk is not None and not isinstance(self.screen, Desk)):
            self.pop_screen()
        if self.desk is None and not isinstance(self.screen, SweepScreen):
            self.push_screen(Desk(self.palette))

    def refuse(self, message: str) -> None:
        """The script cannot be run: leave, and say why on the command line; or, from the Desk, there."""
        if self.desk is not None:
            self.to_desk()
            self.desk.say(message, bad=True)
            return
        self.refusal = message
        self.exit()
