"""The Bench: the screen of a paused or running script."""

from __future__ import annotations

import asyncio
import os
import signal
from typing import cast

from textual import events, work
from textual.app import ComposeResult
from textual.containers import Container
from textual.screen import Screen
from textual.widgets import Input, TextArea

from ...client import BadUse, Client, Goal, Launch, settings
from ...client.book import Book, switches_for
from ...client.case import Claim
from ...client.notes import Entry
from ...client.setup import of_launch, remember
from ...client.sources import place_words
from ...protocol import Facts, Finding, LedgerOf, Lookout, StackFrame
from ...protocol.names import reason
from ..plotting.number_format import Format
from ..shell import hangup, history
from ..shell.commands import bindings
from ..shell.controller import Controlled
from ..shell.keymap import Application, Keyed
from ..shell.theme import Palette
from ..widgets.bars import Headline, Keys, TopLine, Trail
from ..widgets.dialogs import Sure
from ..widgets.notice import Notice
from ..widgets.sheet import Sheet
from . import commands
from .ask_drawer import AskDrawer, AskLine
from .asking import Asking
from .breakpoints import Breakpoints
from .cards import Cards
from .cells import Cells
from .guide_bar import GuideBar
from .keep_call import Keeping
from .keeping_case import CaseKeeper
from .key_line import KeyLine
from .origin import Origins
from .origin_drawer import OriginDrawer
from .other_screens import OtherScreens
from .output_drawer import OutputDrawer
from .pass_strip import PassStrip
from .processes import Processes, in_process, top_words
from .recording import Recording, Step
from .running import Running
from .saving_notes import NoteSaver
from .settings_applied import Appearance
from .source_texts import SourceTexts
from .source_view import SourceView
from .stepping import Stepping
from .values import Values
from .verifying import Verifying

NARROW = 110  # columns below which the cards move under the sheet
MANY = 60  # cards from which on the notes at the line ends come a little later


class Bench(Keyed, Controlled, Screen[None]):
    """States: starting, running, paused, ended (by itself or by the user)."""

    DEFAULT_CSS = """
    Bench #work { layout: horizontal; height: 1fr; }
    Bench Sheet { width: 3fr; height: 100%; }
    Bench Cards { width: 2fr; max-width: 64; height: 100%; border-left: solid $rule; }
    Bench.narrow #work { layout: vertical; }
    Bench.narrow Sheet { width: 100%; height: 2fr; }
    Bench.narrow Cards { width: 100%; max-width: 100%; height: 1fr; min-height: 4; }
    Bench.narrow Cards { border-left: none; border-top: solid $rule; }
    """
    KEYS_OF = "bench"
    HEADING, ACTIONS = commands.TITLE, commands.COMMANDS
    BINDINGS = bindings(commands.COMMANDS)
    CONTROLLERS = (
        *(Asking, Appearance, CaseKeeper, KeyLine, Values, Stepping, NoteSaver, SourceView, Recording, Running),
        *(SourceTexts, Verifying, Breakpoints, OtherScreens, Origins, Keeping, Cells, Processes),
    )

    def __init__(
        self, launch: Launch, palette: Palette, guided: bool = False, finding: Finding | Goal | None = None
    ) -> None:
        super().__init__()
        self.guided = guided
        self.finding = finding  # to which the first run goes
        self.settings = settings.load()[0]
        self.settings.fit(launch)
        launch.capture = launch.pause_at_end = launch.children_pause = True
        launch.rewind = launch.return_points
        self.launch, self.palette = launch, palette
        self.client: Client | None = None
        self.state = "starting"
        self.facts: Facts | None = None
        self.frames: list[StackFrame] = []
        self.chosen = 0  # in the trail, from the outermost
        self.about: str = "line"
        self.book = Book()
        self.book.switches = switches_for(launch.pause_on)
        self.record_all = self.settings.record == "always"
        self.texts: dict[str, str] = {}
        self.versions: dict[tuple[str, int], str] = {}  # texts of files by their CRC-32: calls may run older ones
        self.stamps: dict[str, tuple[float, int]] = {}
        # Of numbers: in general, and by expression.
        self.usual = Format(self.settings.number_style, self.settings.digits, self.settings.thousands)
        self.formats: dict[str, Format] = {"": self.usual}
        self.began = 0.0
        self.ran = 0.0
        self.last_words = ""  # what `sys.exit` was given, and where
        self.exit_place = ("", 0)
        self.runs = 0
        self.watches: list[str] = []
        self.to_ask: list[str] = []
        self.asked = history.load()
        self.point = 0  # the return point of the present pause
        self.no_point = ""  # why this pause has no return point
        self.case_damaged = False
        self.kept_as_case = launch.keep_case
        self.ended, self.remembered = "not run", False
        self.claim: Claim | None = None
        self.history: dict[str, list[float]] = {}  # of scalars, from pause to pause in one loop
        self.history_of: tuple[str, int] = ("", 0)
        self.watcher: asyncio.Task[None] | None = None
        self.asking = Asking(self)
        self.appearance = Appearance(self)
        self.case = CaseKeeper(self)
        self.key_line = KeyLine(self)
        self.values = Values(self)
        self.stepping = Stepping(self)
        self.notes, self.source = NoteSaver(self), SourceView(self)
        self.recording = Recording(self)
        self.running = Running(self)
        self.sources = SourceTexts(self)
        self.verifying = Verifying(self)
        self.others = OtherScreens(self)
        self.breakpoints, self.origins = Breakpoints(self), Origins(self)
        self.keeping, self.cells, self.processes = Keeping(self), Cells(self), Processes(self)
        self.controllers = [
            *(self.asking, self.appearance, self.case, self.key_line, self.values, self.stepping, self.notes),
            *(self.source, self.recording, self.running, self.sources, self.verifying, self.breakpoints, self.others),
            *(self.origins, self.keeping, self.cells, self.processes),
        ]

    @property
    def typing(self) -> bool:
        return isinstance(self.app.focused, (Input, TextArea))

    @property
    def uneven(self) -> Application:
        return cast("Application", self.app)

    def compose(self) -> ComposeResult:
        p = self.palette
        yield TopLine(p)
        yield Headline(p)
        yield Trail(p)
        with Container(id="work"):
            yield Sheet(p)
            yield Cards(p)
        yield PassStrip(p)
        yield AskDrawer(p, self.asked)
        yield OutputDrawer(p, self.settings.output_lines)
        yield OriginDrawer(p)
        if self.guided:
            yield GuideBar(p)
        yield Notice(p)
        yield Keys(p)

    def on_mount(self) -> None:
        self.fit_width()
        self.query_one(Sheet).focus()
        self.others.show_digits()
        self.sources.show_text(self.script_path())
        self.case.take_case()
        self.running.start(self.recording.to_finding(self.finding) if self.finding is not None else None)
        self.set_interval(1.5, self.breakpoints.look_at_files)
        self.set_interval(0.25, self.case.keep_case_if_changed)

    async def on_unmount(self) -> None:
        self.case.keep_case()
        self.remember_run()
        if self.claim is not None:
            self.claim.release()
        history.save(self.asked)
        await self.running.drop()
        await self.origins.forget()

    def on_resize(self, event: events.Resize) -> None:
        self.fit_width()

    def fit_width(self) -> None:
        narrow = self.app.size.width < NARROW
        self.set_class(narrow, "narrow")
        cards = self.query_one(Cards)
        if cards.narrow != narrow:
            cards.narrow = narrow
            cards.show(cards.cards, cards.about)

    @property
    def sheet(self) -> Sheet:
        return self.query_one(Sheet)

    def script_path(self) -> str:
        return os.path.abspath(os.path.join(self.launch.cwd or "", self.launch.program))

    # -- a pause -------------------------------------------------------------------------------------

    async def show_values_of_pause(self, facts: Facts, client: Client) -> None:
        reading = asyncio.gather(client.stack(), client.cards(0, "line" if self.about == "watched" else self.about))
        noting = asyncio.ensure_future(client.notes(0))
        remembering = asyncio.ensure_future(self.recording.recent(client))
        quick = not facts.terms  # a step: everything in one painting
        if not quick:
            self.show_pause(facts)
        try:
            self.frames, cards = await reading
            if len(cards) < MANY:
                await noting
        finally:
            if quick:
                self.show_pause(facts)
        recent = await remembering
        self.case.sparks(cards, recent)
        self.recording.show_strip(recent)
        if self.about != "watched":
            self.query_one(Cards).show(cards, self.about)
        if self.about == "watched":
            await self.values.show_cards()
        elif any(c.pending for c in cards):
            self.query_one(Cards).show(await self.values.filled(client, cards), self.about)
        self.query_one(Sheet).show_notes(await noting)
        self.values.fill_room()

    def show_pause(self, facts: Facts) -> None:
        self.facts = facts
        paused = f"paused at {place_words(facts.file, facts.line)}: {reason(facts.reason)}"
        self.ended = "ran to its end" if facts.reason == "end" else paused
        with self.app.batch_update():
            self.show_state("paused")
            self.show_headline(facts)
            self.chosen = max(0, len(facts.trail) - 1)
            if facts.reason == "end":  # calls that have ended: the last one comes first
                self.chosen = next((n for n, call in enumerate(facts.trail) if call.function == facts.function), 0)
            self.show_trail(facts)
            sheet = self.query_one(Sheet)
            self.sources.show_text(facts.file, facts.text)
            sheet.fold()
            if facts.terms and facts.reason != "end":
                sheet.unfold(facts.end_line or facts.line, facts.terms, facts.trial or facts.differs)
            sheet.show_place(facts.line, facts.end_line, facts.state)

    def show_trail(self, facts: Facts) -> None:
        name = facts.test.name if facts.test else ""
        self.query_one(Trail).show(facts.trail, self.chosen, name, ended=facts.reason == "end")

    def show_headline(self, facts: Facts) -> None:
        self.query_one(Headline).show(in_process(facts) + facts.headline, facts.reason, facts.expectations)

    def frame_number(self) -> int:
        """The number of the chosen call; 0 is the paused one."""
        at_end = self.facts is not None and self.facts.reason == "end"
        number = self.chosen if at_end else len(self.frames) - 1 - self.chosen
        return self.frames[number].id if self.facts and self.facts.trail and 0 <= number < len(self.frames) else 0

    async def read_call(self, client: Client) -> None:
        """The values and notes of the chosen call."""
        try:
            await self.values.show_cards()
            self.query_one(Sheet).show_notes(await client.notes(self.frame_number()))
        except BadUse as e:
            if client.alive and not client.running:  # else it ended, or went on, while it was being read
                self.notify(str(e), severity="warning")

    def show_state(self, state: str) -> None:
        self.state = state
        folder = os.path.basename(os.path.dirname(self.script_path()))
        self.query_one(TopLine).show(f"{folder} / {self.launch.name}", top_words(state, self.facts, self.ran))
        self.query_one(Keys).show(self.key_line.present_keys())
        self.query_one(Cards).age(state != "running")
        at_end = self.facts is not None and self.facts.reason == "end"
        self.query_one(OutputDrawer).set_class(state == "ended" or at_end, "over")

    # -- what other screens ask for (BenchView) ------------------------------------------------------

    @property
    def verified(self) -> str:
        return self.notes.verified

    def known_files(self) -> list[str]:
        return self.source.known_files()

    def copy_text(self, text: str) -> None:
        self.values.copy_text(text)

    def keep_entry(self, entry: Entry) -> str:
        return self.notes.keep_entry(entry)

    async def runs_on(self) -> str:
        return await self.notes.runs_on()

    def find_origin(self, text: str) -> None:
        self.origins.action_origin(text)

    def show_source(self, path: str, line: int) -> None:
        self.source.show_source(path, line)

    async def send_lookouts(self) -> None:
        await self.breakpoints.send_lookouts()

    async def send_switches(self) -> None:
        await self.breakpoints.send_switches()

    async def edit_sentence(self, number: int | None, like: Lookout) -> bool:
        return await self.breakpoints.edit_sentence(number, like)

    async def check(self, text: str, file: str) -> tuple[bool, str]:
        return await self.breakpoints.check(text, file)

    async def go_to_pass(self, of: LedgerOf, number: int, around: list[dict[str, object]], keep: bool = False) -> None:
        await self.recording.go_to_pass(of, number, around, keep)

    async def record_from_start(self, of: LedgerOf) -> None:
        await self.recording.record_from_start(of)

    async def record_off(self, one: LedgerOf) -> None:
        await self.recording.record_off(one)

    def take_settings(self, now: settings.Settings) -> None:
        self.appearance.take_settings(now)

    # -- messages of the widgets ---------------------------------------------------------------------

    def on_ask_drawer_asked(self, message: AskDrawer.Asked) -> None:
        self.asking.on_ask_drawer_asked(message)

    async def on_ask_line_complete(self, message: AskLine.Complete) -> None:
        await self.asking.on_ask_line_complete(message)

    def on_cards_opened(self, message: Cards.Opened) -> None:
        self.values.on_cards_opened(message)

    def on_cards_menu_asked(self, message: Cards.MenuAsked) -> None:
        self.values.on_cards_menu_asked(message)

    def on_sheet_term_chosen(self, message: Sheet.TermChosen) -> None:
        self.values.on_sheet_term_chosen(message)

    async def on_sheet_pointed(self, message: Sheet.Pointed) -> None:
        await self.values.on_sheet_pointed(message)

    async def on_sheet_hovered(self, message: Sheet.Hovered) -> None:
        await self.values.on_sheet_hovered(message)

    def on_sheet_menu_asked(self, message: Sheet.MenuAsked) -> None:
        self.source.on_sheet_menu_asked(message)

    async def on_sheet_breakpoint_asked(self, message: Sheet.BreakpointAsked) -> None:
        await self.breakpoints.on_sheet_breakpoint_asked(message)

    # -- actions -------------------------------------------------------------------------------------

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """While text is typed, only what leaves the line acts."""
        if self.typing:
            return action in ("close", "leave") and not (action == "leave" and parameters)
        return True

    async def action_interrupt(self) -> None:
        if self.client and self.state == "running":
            await self.client.interrupt()

    async def action_terms(self) -> None:
        sheet = self.query_one(Sheet)
        if self.client is None or self.state != "paused" or self.facts is None:
            return
        for line in list(sheet.terms):
            if line == sheet.cursor or (sheet.at_line <= sheet.cursor <= line and line == sheet.at_end):
                sheet.fold(line)
                return
        try:
            if self.facts.terms and sheet.cursor == self.facts.line and self.frame_number() <= 1:
                line, terms, remark = self.facts.end_line or self.facts.line, self.facts.terms, self.facts.trial
            else:
                line, terms, remark = await self.client.terms(self.frame_number(), sheet.cursor)
        except BadUse as e:
            self.notify(str(e), severity="warning")
            return
        if not terms:
            self.notify("This line has no terms.")
        end = sheet.at_end if line == sheet.at_line else line
        sheet.unfold(end, terms, remark)
        sheet.reveal(line)

    async def action_about(self) -> None:
        if self.typing:
            return
        order = ["line", "call", "module", "watched"]
        self.about = order[(order.index(self.about) + 1) % 4]
        await self.values.show_cards()
        self.values.fill_room()

    async def action_walk(self, by: int) -> None:
        if self.facts is None or self.client is None or self.state != "paused" or not self.facts.trail:
            return
        self.chosen = max(0, min(len(self.facts.trail) - 1, self.chosen + by))
        call = self.facts.trail[self.chosen]
        self.show_trail(self.facts)
        self.sources.show_text(call.file, call.text)
        sheet = self.query_one(Sheet)
        sheet.fold()
        at_end = self.facts.reason == "end"
        inner = self.chosen == len(self.facts.trail) - 1 and not at_end
        if inner and self.facts.terms:
            sheet.unfold(self.facts.end_line or self.facts.line, self.facts.terms)
        last, state = (self.facts.end_line, self.facts.state) if inner else (call.line, "ran" if at_end else "in")
        sheet.show_place(call.line, last, state)
        await self.read_call(self.client)

    def action_ask(self) -> None:
        if self.state == "paused":
            self.query_one(OutputDrawer).remove_class("open")
            self.query_one(OutputDrawer).fit()
            self.query_one(AskDrawer).add_class("open")
            self.query_one(AskLine).focus()

    def action_output(self) -> None:
        drawer = self.query_one(OutputDrawer)
        drawer.toggle_class("open")
        drawer.fit()
        if drawer.has_class("open"):
            self.query_one(AskDrawer).remove_class("open")
            if self.state == "running":
                drawer.query_one(Input).focus()
        else:
            self.query_one(Sheet).focus()

    def action_close(self) -> None:
        if self.asking.under_way and self.client is not None:
            self.client.cancel_all()
            self.asking.under_way = False  # the same key again closes the line
            return
        typing = self.typing
        if typing:
            self.query_one(Sheet).focus()
        if typing or not self.origins.cancel():
            for drawer in (AskDrawer, OutputDrawer, OriginDrawer):
                self.query_one(drawer).remove_class("open")
            self.query_one(OutputDrawer).fit()
            self.origins.closed()

    async def on_output_drawer_typed(self, message: OutputDrawer.Typed) -> None:
        if self.client is not None:
            await self.client.write_input(message.text)

    def action_place(self) -> None:
        self.sources.show_place()

    def action_move(self, by: int) -> None:
        drawer = self.query_one(OutputDrawer)
        if drawer.is_open and abs(by) > 1:
            drawer.scroll(1 if by > 0 else -1)
        else:
            self.query_one(Sheet).move(by)

    def action_again(self, steps: list[Step] | None = None) -> None:
        if self.launch.attach and self.client is not None and self.client.alive:
            self.notify("A held script does not rerun: leave it (q), or stop it first (X).")
            return
        self.launch.attach = ""  # once it has ended, it runs from here
        self.ran, self.last_words, self.exit_place = 0.0, "", ("", 0)
        self.case.keep_case()
        for text in self.book.follow_edits():
            self.notify(text, severity="warning")
        self.verifying.next_run()
        self.sources.run_ends()
        self.texts.clear()
        self.stamps.clear()
        self.facts = None
        self.query_one(OutputDrawer).clear()
        self.query_one(Sheet).fold()
        self.running.start(steps)

    async def action_end(self) -> None:
        if self.client is not None and self.client.alive:
            await self.client.stop()

    def on_key(self, event: events.Key) -> None:
        if self.stepping.slow_key(event.key):
            event.stop()
            event.prevent_default()

    @work(group="leave")
    async def action_leave(self) -> None:
        if await self.may_leave():
            await self.running.drop()
            self.app.exit()

    @work(group="leave")
    async def action_desk(self) -> None:
        """To the Desk; the script is ended."""
        if await self.may_leave():
            await self.running.drop()
            self.remember_run()  # before the Desk lists the recent cases
            self.uneven.to_desk()

    def remember_run(self) -> None:
        if not self.remembered:
            self.remembered = True
            ended = self.ended
            if self.uneven.closing == signal.SIGHUP and not ended.startswith(hangup.TERMINAL):
                ended = hangup.TERMINAL + (ended if self.facts is not None else "while it ran")
            remember(of_launch(self.running.given()), ended)

    async def may_leave(self) -> bool:
        if isinstance(self.app.screen, Sure):
            return False
        at_end = self.facts is not None and self.facts.reason == "end"
        if self.client is not None and self.client.alive and not at_end and not self.launch.attach:
            state = "running" if self.state == "running" else "paused"
            return await self.app.push_screen_wait(Sure(self.palette, f"Stop the {state} script?", "stop it", "stay"))
        return True
