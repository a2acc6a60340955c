"""The Findings: audits a script, and shows where a finite result cannot be trusted, with the evidence."""

from __future__ import annotations

import contextlib
import os
from typing import cast

from rich.text import Text
from textual import work
from textual.app import ComposeResult
from textual.containers import Horizontal, Vertical, VerticalScroll
from textual.screen import Screen
from textual.widgets import OptionList, Static
from textual.widgets.option_list import Option

from ...client import BadUse, Launch, accepted, notes
from ...client.auditing import Audit
from ...client.differing.runs import Watch
from ...client.digits.findings import number
from ...client.digits.known import Known
from ...client.digits.merging import merged, rows
from ...client.digits.runs import digits
from ...client.events import Where
from ...client.fault import Repair
from ...client.finding_repairs import finding_repairs
from ...client.sources import lines_of, place_words
from ...protocol import DIGITS, Finding, Note
from ...safe_text import cut
from ..editor.screen import edit
from ..shell.clipboard import copy
from ..shell.commands import bindings, hints
from ..shell.keymap import Application, Keyed
from ..shell.theme import PALETTES, Palette
from ..widgets.bars import Keys, TopLine
from ..widgets.notice import Notice
from ..widgets.options import Options
from ..widgets.sheet import Sheet
from . import commands
from .evidence import entry, evidence

WITH_FIX = hints(commands.COMMANDS, "enter", "w", "o", "A", "d", "ctrl+k", "e", "r", "escape", "?")
DONE = hints(commands.COMMANDS, "enter", "o", "A", "d", "ctrl+k", "e", "r", "escape", "?")
ROW = hints(commands.COMMANDS, "enter", "ctrl+k", "e", "r", "escape", "?")
NONE = hints(commands.COMMANDS, "d", "e", "r", "escape", "?")
WATCHED = 4  # pauses that are shown
RUNS = hints(commands.COMMANDS, "x", "escape", "?")


class Findings(Keyed, Screen[None]):
    """The findings above, the source and the evidence of the chosen one below."""

    DEFAULT_CSS = """
    Findings #list { height: auto; max-height: 45%; background: $panel; border: none; border-bottom: solid $rule; }
    Findings #list > .option-list--option-highlighted { background: $rule; color: $foreground; text-style: none; }
    Findings #list:focus > .option-list--option-highlighted { background: $rule; color: $foreground; text-style: bold; }
    Findings #none { height: auto; padding: 1 2; display: none; }
    Findings #below { height: 1fr; }
    Findings #source { width: 1fr; height: 100%; }
    Findings #evidence { width: 48; height: 100%; background: $panel; padding: 0 1; border-left: solid $rule; }
    Findings.running #evidence, Findings.empty #evidence { display: none; }
    Findings #evidence Static { background: $panel; }
    Findings #watched { height: auto; padding: 0 1; display: none; }
    Findings #said { height: 1; padding: 0 1; }
    Findings.narrow #below { layout: vertical; }
    Findings.narrow #source { width: 100%; height: 1fr; }
    Findings.narrow #evidence { width: 100%; height: 8; border-left: none; border-top: solid $rule; }
    """
    KEYS_OF = "findings"
    HEADING, ACTIONS = commands.TITLE, commands.COMMANDS
    BINDINGS = bindings(commands.COMMANDS)

    def __init__(self, launch: Launch, palette: Palette) -> None:
        super().__init__()
        self.palette = palette
        self.audit = Audit(launch)
        self.state = "running"
        self.hidden = False  # whether accepted ones are
        self.rows: list[Finding] = []
        self.digits: list[Finding] = []  # rows of the digits that hold, once that is known
        self.under_way: Watch | None = None  # of the shaken runs under way

    @property
    def uneven(self) -> Application:
        return cast("Application", self.app)

    def compose(self) -> ComposeResult:
        yield TopLine(self.palette)
        yield Options(id="list")
        yield Static("", id="none")
        with Horizontal(id="below"):
            with Vertical(id="source"):
                yield Sheet(self.palette)
            with VerticalScroll(id="evidence", can_focus=False):
                yield Static("", id="evidence-text")
        yield Static("", id="watched")
        yield Static("", id="said")
        yield Notice(self.palette)
        yield Keys(self.palette)

    def on_mount(self) -> None:
        self.set_class(self.app.size.width < 100, "narrow")
        self.begin()

    def on_resize(self) -> None:
        self.set_class(self.app.size.width < 100, "narrow")
        if self.state == "done":
            self.call_after_refresh(self.fill)

    def say(self, text: str, bad: bool = False) -> None:
        self.query_one("#said", Static).update(Text(text, self.palette.error if bad else self.palette.quiet))

    # -- the audit -------------------------------------------------------------------------------------

    def begin(self) -> None:
        self.state = "running"
        self.add_class("running")
        self.query_one("#watched", Static).display = False
        self.query_one(TopLine).show(f"Findings   {self.audit.launch.name}", "audit under way")
        self.query_one(Keys).show(self.keys_shown())
        self.query_one(Options).display = False
        self.tell(f"{self.audit.launch.name} is being audited: it runs from its start to its end without pauses.")
        if not self.audit.launch.as_module:
            self.query_one(Sheet).show_file(self.audit.script, "\n".join(lines_of(self.audit.script)))
        self._run()

    def watched_words(self) -> str:
        """What an audit does not look for, and what a watched run has found of it."""
        found = self.audit.watched
        if found is None:
            return "An audit looks at finite results, not for errors, warnings, nan or inf: run the script for those."
        if not found:
            return "Watched for what an audit does not look at (errors, warnings, nan, inf): no pause."
        rows = ["· " + cut(" ".join(f.headline.split()), 2 * self.size.width - 6) for f in found[:WATCHED]]
        more = f" The first {WATCHED} of {len(found)}:" if len(found) > WATCHED else ""
        return "\n".join([f"Not findings of the audit; a run pauses at:{more}", *rows])

    def tell_watched(self, text: str) -> None:
        widget = self.query_one("#watched", Static)
        bad = bool(self.audit.watched)
        widget.update(Text(text, self.palette.nonfinite if bad else self.palette.quiet))
        widget.display = True

    def tell(self, text: str) -> None:
        """A sentence in the place of the list."""
        none = self.query_one("#none", Static)
        none.update(Text(text, self.palette.text))
        none.display = True

    @work(exclusive=True, group="audit")
    async def _run(self) -> None:
        try:
            await self.audit.run(self.progress)
        except BadUse as e:
            self.audit.ended = str(e)
        self.done()
        if not self.audit.ended:
            self.tell_watched("Finite results only. The script runs once more, watched, in a copy of its folder …")
            with contextlib.suppress(BadUse):
                await self.audit.watch()
            self.tell_watched(self.watched_words())

    def progress(self, where: Where) -> None:
        """The line and pass that the run is at."""
        sheet = self.query_one(Sheet)
        if os.path.realpath(where.file) == os.path.realpath(sheet.path or ""):
            sheet.show_place(where.line, where.line, "in", move=True)
        told = [place_words(where.file, where.line)]
        for loop in where.loops[:2]:
            if loop.number:
                of = f" of {loop.of:,}" if loop.of is not None else ""
                told.append(f"pass {loop.number:,}{of} of the loop at {place_words(loop.file, loop.line)}")
        self.tell(f"{self.audit.launch.name} is being audited: {', '.join(told)}.")

    def done(self) -> None:
        self.state = "done"
        self.remove_class("running")
        self.fill()
        if self.audit.ended:
            self.say(self.audit.ended, bad=True)
        elif self.audit.notes:
            more = f" And {len(self.audit.notes) - 1} more." if len(self.audit.notes) > 1 else ""
            self.say(self.audit.notes[0] + more)

    def keys_shown(self) -> list[tuple[str, str]]:
        if self.state != "done":
            return list(RUNS)
        chosen = self.chosen
        if chosen is not None and chosen.rule == DIGITS:
            return list(ROW)
        if chosen is None:
            return list(NONE)
        return list(WITH_FIX if chosen.fix or self._repairs(chosen) else DONE)

    @staticmethod
    def _repairs(finding: Finding) -> list[Repair]:
        return finding_repairs(finding, "\n".join(lines_of(finding.file)))

    def counted(self) -> str:
        """`3 wrong · 1 question`."""
        open_ = [f for f in self.audit.findings if not f.accepted]
        parts = [(w, sum(f.word == w for f in open_)) for w in ("wrong", "doubtful", "question")]
        said = [f"{n} {w}{'s' if w == 'question' and n > 1 else ''}" for w, n in parts if n]
        gone = len(self.audit.findings) - len(open_)
        said += [f"{gone} accepted"] if gone else []
        return " · ".join(said) or "no findings"

    def fill(self) -> None:
        """The list again, with the same one chosen."""
        options = self.query_one(Options)
        at = options.highlighted or 0
        self.rows = [f for f in self.audit.findings if not (self.hidden and f.accepted)]
        self.rows.sort(key=lambda f: f.accepted)
        self.rows += self.digits
        options.clear_options()
        width = self.size.width - 7  # the sign, the scroll bar
        options.add_options([Option(entry(f, self.palette, width)) for f in self.rows])
        took = f"audited in {self.audit.seconds:.1f} s"
        self.query_one(TopLine).show(f"Findings   {self.audit.launch.name}", f"{took} · {self.counted()}")
        options.display = bool(self.rows)
        self.set_class(not self.rows, "empty")
        self.query_one(Keys).show(self.keys_shown())
        self.query_one("#none", Static).display = not self.rows
        if self.rows:
            options.highlighted = min(at, len(self.rows) - 1)
            options.focus()
            self.show(self.rows[options.highlighted or 0])
        else:
            self.query_one(Sheet).show_place(0, 0, "")
            self.query_one(Sheet).show_notes([])
            self.tell(
                "No findings: no rule has found a result that cannot be trusted. Rules see what the script itself "
                "calculates, and what goes into and comes out of libraries."
            )

    def on_option_list_option_highlighted(self, event: OptionList.OptionHighlighted) -> None:
        if event.option_index < len(self.rows):
            self.show(self.rows[event.option_index])

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        self.action_go()

    def show(self, finding: Finding) -> None:
        """The lines of a finding, and its evidence."""
        sheet = self.query_one(Sheet)
        sheet.show_file(finding.file, "\n".join(lines_of(finding.file)))
        by_line: dict[int, list[Finding]] = {}
        for one in self.rows:
            if one.file == finding.file:
                by_line.setdefault(one.line, []).append(one)
        sheet.show_notes(
            [
                Note(n, "; ".join(f.word for f in fs), any(f.word == "wrong" for f in fs))
                for n, fs in by_line.items()
                if n != finding.line
            ]
            + [
                Note(n, f"comes from {place_words(finding.file, finding.line)}", False)
                for n in sorted({f.line for f in finding.follows} - {*by_line})
            ]
        )
        sheet.show_place(finding.line, finding.line, "in", move=True)
        self.query_one("#evidence-text", Static).update(evidence(finding, self.palette))
        self.query_one(Keys).show(self.keys_shown())
        self.query_one("#evidence", VerticalScroll).scroll_home(animate=False)

    @property
    def chosen(self) -> Finding | None:
        at = self.query_one(Options).highlighted
        return self.rows[at] if self.state == "done" and at is not None and at < len(self.rows) else None

    # -- what can be done ------------------------------------------------------------------------------

    def action_go(self) -> None:
        finding = self.chosen
        if finding is not None:
            self.uneven.go_to_finding(self.audit.launch, finding)

    def action_origin(self) -> None:
        finding = self.chosen
        if finding is not None:
            self.uneven.go_to_finding(self.audit.launch, finding, "origin")

    def action_keep_call(self) -> None:
        finding = self.chosen
        if finding is not None:
            self.uneven.go_to_finding(self.audit.launch, finding, "keep")

    def action_try_line(self) -> None:
        finding = self.chosen
        if finding is not None and self._repairs(finding):
            self.uneven.go_to_finding(self.audit.launch, finding, "repairs")
        elif finding is not None and finding.fix is None:
            self.say("No change is safe to propose here: enter goes there, and w tries an edit.")
        elif finding is not None:
            self.uneven.go_to_finding(self.audit.launch, finding, "try")

    def action_accept(self) -> None:
        finding = self.chosen
        if finding is None or finding.rule == DIGITS:
            return
        if not self.audit.launch.keep_case or self.audit.launch.as_module:
            finding.accepted = not finding.accepted
            self.say("Accepted for this audit only: a shipped case and a module keep nothing.")
        else:
            try:
                accepted.accept(self.audit.script, finding, not finding.accepted)
            except BadUse as e:
                self.say(str(e), bad=True)
                return
            self.say("Accepted, and kept with the case." if finding.accepted else "It counts again.")
        self.fill()

    def action_keep(self) -> None:
        finding = self.chosen
        if finding is not None:
            made = notes.of_finding(finding, lines_of(finding.file))
            script = finding.file if self.audit.launch.as_module else self.audit.script
            try:
                notes.add(script, made, {finding.file: "\n".join(lines_of(finding.file))})
                self.say(f"Saved to the Notes: {made.title}.")
            except BadUse as e:
                self.say(str(e), bad=True)

    @work(group="dialog")
    async def action_edit(self) -> None:
        finding = self.chosen
        if self.state != "done" or (finding is None and self.audit.launch.as_module):
            return
        path = finding.file if finding is not None else self.audit.script
        line = finding.line if finding is not None else 1
        if await edit(self, self.palette, path, line, self.say, frozenset()):
            self.say(f"Saved. {self.key('r')} audits the new text.")
            if finding is not None:
                self.show(finding)

    def action_hide(self) -> None:
        if self.state == "done":
            self.hidden = not self.hidden
            self.fill()

    def action_copy(self) -> None:
        finding = self.chosen
        if finding is not None:
            copy(self, f"{finding.headline} ({os.path.basename(finding.file)}:{finding.line})")
            self.say("Copied.")

    def action_digits(self) -> None:
        if self.state != "done":
            return
        self.state, self.digits, self.under_way = "shaken", [], Watch(self.compared)
        self.add_class("running")
        self.query_one("#watched", Static).display = False
        self.query_one(TopLine).show(f"Findings   {self.audit.launch.name}", "four runs under way")
        self.query_one(Keys).show(self.keys_shown())
        self.query_one(Options).display = False
        self.compared(0)
        self._shake(self.under_way)

    def compared(self, records: int) -> None:
        """How far the shaken runs are."""
        self.tell(
            f"{self.audit.launch.name} runs four times, each in a copy of its folder, three times with other last "
            f"digits: {records:,} values compared."
        )

    @work(exclusive=True, group="audit")
    async def _shake(self, watch: Watch) -> None:
        said, bad = "", False
        try:
            launch = self.audit.launch
            given = None
            if launch.stdin_file is not None:
                with open(launch.stdin_file, encoding="utf-8", errors="replace") as f:
                    given = f.read()
            found = await digits(launch, given=given, watch=watch)
            self.audit.findings = merged(self.audit.findings, found)
            if not launch.as_module:
                accepted.mark(self.audit.script, self.audit.findings)
            self.digits, self.uneven.digits = rows(found), Known.of(found)
            low = min((r.digits for r in found.judged.results), default=None)
            said = "No results were seen." if low is None else f"The worst result holds {number(low)} digits."
            said, bad = (found.ended, True) if found.ended else (" ".join([said, *found.notes]), False)
        except (BadUse, OSError) as e:
            said, bad = str(e), True
        self.under_way = None
        self.state = "done"
        self.remove_class("running")
        self.fill()
        self.say(said, bad)

    def action_again(self) -> None:
        if self.state == "done":
            self.digits = []
            self.audit = Audit(self.audit.launch)
            self.begin()

    async def action_end(self) -> None:
        if self.state == "running":
            await self.audit.stop()
        if self.under_way is not None:
            self.under_way.stop()

    async def action_back(self) -> None:
        if self.state == "running":
            await self.audit.stop()
        if self.under_way is not None:
            self.under_way.stop()
        self.app.pop_screen()

    def action_theme(self) -> None:
        names = list(PALETTES)
        self.app.theme = names[(names.index(self.palette.name) + 1) % len(names)]
        self.palette = self.uneven.palette
        for widget in self.query("TopLine, Sheet, Notice, Keys"):
            widget.palette = self.palette  # type: ignore[attr-defined]  # each of these has one
        self.query_one(Sheet).path = ""
        if self.state == "done":
            self.fill()
        self.query_one(Keys).show(self.keys_shown())
