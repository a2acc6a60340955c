"""A sweep while it runs: the faults so far, what tells their inputs apart, and the way to each run."""

from __future__ import annotations

import asyncio
import os
import time
from collections.abc import Sequence
from dataclasses import replace
from typing import cast

from rich.text import Text
from textual import work
from textual.app import ComposeResult
from textual.containers import Horizontal, VerticalScroll
from textual.screen import Screen
from textual.widgets import OptionList, Static
from textual.widgets.option_list import Option

from ...client import BadUse
from ...client.edits import write_whole
from ...sweep.faults import Fault, Tally
from ...sweep.kept import Kept
from ...sweep.one import FINE, Ran
from ...sweep.report import WORDS, as_report, counted, inputs_of, where_of
from ...sweep.sweep import Sweep
from ..shell.commands import bindings, hints
from ..shell.keymap import Application, Keyed
from ..shell.theme import Palette
from ..widgets.bars import Headline, Keys, TopLine
from ..widgets.dialogs import Prompt
from ..widgets.notice import Notice
from ..widgets.options import Options
from . import commands

LISTS = ("faults", "wrong", "results")
TITLES = {"faults": "faults", "wrong": "runs that went wrong", "results": "runs with their results"}
EVERY = 0.4  # seconds between two drawings while runs come in
MOST = 2000  # rows of a list


class SweepScreen(Keyed, Screen[None]):
    """The list at the left, what is known of the chosen one at the right."""

    DEFAULT_CSS = """
    SweepScreen #rows { width: 1fr; height: 100%; background: $background; padding: 0 1; border: none; }
    SweepScreen #rows > .option-list--option-highlighted { background: $rule; color: $foreground; text-style: bold; }
    SweepScreen #body { width: 1fr; height: 100%; padding: 0 1; background: $panel; border-left: solid $rule; }
    SweepScreen Horizontal { height: 1fr; }
    """
    KEYS_OF = "sweep"
    HEADING, ACTIONS = commands.TITLE, commands.COMMANDS
    BINDINGS = bindings(commands.COMMANDS)

    def __init__(self, sweep: Sweep, palette: Palette) -> None:
        super().__init__()
        self.sweep, self.palette = sweep, palette
        self.tally = Tally()
        self.rows: list[Ran] = []  # those that went wrong, and, up to a number, those with results
        self.shown: Sequence[Fault | Ran] = []
        self.kind = "faults"
        self.is_sweeping = False
        self.drawn = 0.0
        self.width = 0  # of what a list says of a run
        self.sweeping: asyncio.Task[object] | None = None

    @property
    def uneven(self) -> Application:
        return cast("Application", self.app)

    def compose(self) -> ComposeResult:
        yield TopLine(self.palette)
        yield Headline(self.palette)
        with Horizontal():
            yield Options(id="rows")
            with VerticalScroll(id="body", can_focus=False):
                yield Static("", id="told")
        yield Notice(self.palette)
        yield Keys(self.palette)

    def on_mount(self) -> None:
        self.query_one(OptionList).focus()
        self.action_go_on()

    async def on_unmount(self) -> None:
        if self.sweeping is not None:
            self.sweeping.cancel()
            await asyncio.gather(self.sweeping, return_exceptions=True)

    # -- the runs ------------------------------------------------------------------------------------

    def action_go_on(self) -> None:
        if not self.is_sweeping:
            self.is_sweeping, self.tally, self.rows = True, Tally(), []
            self.sweeping = asyncio.create_task(self._run())

    async def _run(self) -> None:
        said = ""
        try:
            await self.sweep.run(self._heard)
        except BadUse as e:
            said = str(e)
        finally:
            self.is_sweeping = False
            if self.is_attached:
                self._draw()
                if said:
                    self.query_one(Headline).show(said, "error")

    def _heard(self, done: int, before: int, ran: Ran | None) -> None:
        if ran is not None:
            self._take(ran)
        elif before:
            for one in Kept(self.sweep.kept, self.sweep.about()).rows():
                self._take(one)
        if time.monotonic() - self.drawn > EVERY and self.is_attached:
            self._draw()

    def _take(self, ran: Ran) -> None:
        self.tally.add(ran)
        if ran.outcome != FINE or (ran.results and len(self.rows) < MOST):
            self.rows.append(ran)

    def action_end(self) -> None:
        if self.sweeping is not None and self.is_sweeping:
            self.sweeping.cancel()

    # -- drawing -------------------------------------------------------------------------------------

    def _draw(self) -> None:
        self.drawn = time.monotonic()
        found, name = self.tally.summary(), os.path.basename(self.sweep.launch.program)
        state = "sweeping" if self.is_sweeping else "ended"
        self.query_one(TopLine).show(f"sweep of {name} · {TITLES[self.kind]}", state)
        faults = f" {len(found.faults)} different fault{'s' if len(found.faults) != 1 else ''}." if found.faults else ""
        self.query_one(Headline).show(counted(found, self.is_sweeping) + faults, "run" if self.is_sweeping else "end")
        if self.kind == "faults":
            self.shown = found.faults
        elif self.kind == "wrong":
            self.shown = sorted((ran for ran in self.rows if ran.outcome != FINE), key=by_row)[:MOST]
        else:
            self.shown = sorted((ran for ran in self.rows if ran.results), key=by_row)[:MOST]
        self.width = max((len(_told(one)) for one in self.shown if isinstance(one, Ran)), default=0)
        options = self.query_one(OptionList)
        chosen = options.highlighted or 0
        options.clear_options()
        options.add_options([Option(self._line(one)) for one in self.shown])
        options.highlighted = min(chosen, len(self.shown) - 1) if self.shown else None
        self._tell()
        if not self.shown:
            self.query_one("#told", Static).update(
                Text("nothing yet" if self.is_sweeping else "nothing", self.palette.quiet)
            )
        keys = ["enter", "tab", "x" if self.is_sweeping else "r", "w", "?", "q"]
        self.query_one(Keys).show(hints(commands.COMMANDS, *keys))

    def _line(self, one: Fault | Ran) -> Text:
        p, line = self.palette, Text(no_wrap=True, overflow="ellipsis")
        if isinstance(one, Fault):
            line.append(f"{len(one.rows):>6,} run{'s' if len(one.rows) != 1 else ' '}  ", f"bold {p.error}")
            line.append(where_of(one), p.text)
            line.append(f"   {one.fault[-1]}" if one.outcome in ("tripped", "found") else "", p.quiet)
            return line
        line.append(f"{one.row:>6}  ", p.quiet)
        line.append(f"{_told(one):<{self.width}}", p.text if one.outcome == FINE else p.error)
        line.append(f"   {inputs_of(one)}", p.quiet)
        return line

    @property
    def chosen(self) -> Fault | Ran | None:
        at = self.query_one(OptionList).highlighted
        return self.shown[at] if at is not None and at < len(self.shown) else None

    def on_option_list_option_highlighted(self) -> None:
        self._tell()

    def _tell(self) -> None:
        """Show what is known of the chosen row."""
        p, out, one = self.palette, Text(), self.chosen
        if one is None:
            return
        ran = one.smallest if isinstance(one, Fault) else one
        out.append(f"{ran.headline or 'It ran to its end.'}\n\n", f"bold {p.text}")
        if isinstance(one, Fault):
            for text in one.apart:
                out.append(f"{text}, unlike all that go well\n", p.changed)
            out.append("\n" if one.apart else "")
            numbers = ", ".join(str(r.row) for r in one.rows[:40])
            out.append(f"rows {numbers}{', …' if len(one.rows) > 40 else ''}\n\n", p.quiet)
            out.append(f"the smallest: row {ran.row}\n", p.text)
        for name, value in ran.values.items():
            out.append(f"  {name:<16} ", p.quiet)
            out.append(f"{value}\n", p.text)
        for name, value in ran.results.items():
            out.append(f"  {name:<16} ", p.quiet)
            out.append(f"{value}\n", f"bold {p.text}")
        out.append(f"\n{ran.seconds:.2f} s, with the arguments {' '.join(ran.args) or '(none)'}", p.quiet)
        self.query_one("#told", Static).update(out)

    # -- keys ----------------------------------------------------------------------------------------

    def on_option_list_option_selected(self) -> None:
        self.action_open()

    def action_open(self) -> None:
        one = self.chosen
        if one is None:
            return
        ran = one.smallest if isinstance(one, Fault) else one
        if ran.outcome == "bad":
            self.notify(f"Row {ran.row} has no run: {ran.headline}")
            return
        self.action_end()
        self.uneven.open_bench(replace(self.sweep.launch, args=ran.args, go_on=False, keep_case=False))

    def action_list(self) -> None:
        self.kind = LISTS[(LISTS.index(self.kind) + 1) % len(LISTS)]
        self.query_one(OptionList).highlighted = None
        self._draw()

    @work(group="dialog")
    async def action_write(self) -> None:
        name = os.path.basename(self.sweep.launch.program)
        ask = Prompt(self.palette, "Write the report to which file?", f"{name.partition('.')[0]}-sweep.md", ".md")
        path = await self.app.push_screen_wait(ask)
        if path:
            text = as_report(self.tally.summary(), [ran for ran in self.rows if ran.results], name)
            try:
                write_whole(os.path.abspath(os.path.expanduser(path)), text.encode())
                self.notify(f"The report is in {path}.")
            except BadUse as e:
                self.notify(str(e), severity="warning")

    def action_help(self) -> None:
        self.uneven.show_help(self)

    def action_leave(self) -> None:
        self.app.exit()


def by_row(ran: Ran) -> int:
    return ran.row


def _told(ran: Ran) -> str:
    """The results of a run, or in a word what went wrong."""
    if ran.outcome != FINE:
        return WORDS.get(ran.outcome, "")
    return ", ".join(f"{name} {value}" for name, value in ran.results.items())
