"""The Notes: the kept evidence of a case, and its report."""

from __future__ import annotations

import asyncio
import os

from rich.text import Text
from textual import work
from textual.app import ComposeResult
from textual.containers import Horizontal, VerticalScroll
from textual.screen import Screen
from textual.widgets import Markdown, OptionList, Static
from textual.widgets.option_list import Option

from ...client import BadUse, notes, reporting
from ..plotting import image_export
from ..shell.commands import bindings, hints
from ..shell.keymap import Keyed
from ..shell.theme import Palette
from ..widgets.bars import Keys, TopLine
from ..widgets.bench_view import BenchView
from ..widgets.dialogs import Choice, Choose, Prompt
from ..widgets.notice import Notice
from ..widgets.options import Options
from . import commands

WORDS = {"pause": "pause", "value": "value", "plot": "plot", "ledger": "passes", "trial": "question", "text": "text"}


class Notes(Keyed, Screen[None]):
    """The entries at the left, the chosen one at the right."""

    DEFAULT_CSS = """
    Notes #entries { width: 44; height: 100%; background: $panel; padding: 0 1; }
    Notes #entries { border: none; border-right: solid $rule; }
    Notes #entries > .option-list--option-highlighted { background: $rule; color: $foreground; text-style: none; }
    Notes #entries:focus > .option-list--option-highlighted { background: $rule; color: $foreground; text-style: bold; }
    Notes #body { width: 1fr; height: 100%; padding: 0 1; }
    Notes Markdown { background: $background; padding: 0; margin: 0; }
    Notes Horizontal { height: 1fr; }
    Notes #said { height: 1; padding: 0 1; }
    """
    KEYS_OF = "notes"
    HEADING, ACTIONS = commands.TITLE, commands.COMMANDS
    BINDINGS = bindings(commands.COMMANDS)

    def __init__(self, bench: BenchView, palette: Palette) -> None:
        super().__init__()
        self.bench, self.palette = bench, palette
        self.script = bench.script_path()
        self.entries: list[notes.Entry] = []
        self.removed: list[tuple[int, notes.Entry]] = []
        self.damaged = False

    def compose(self) -> ComposeResult:
        yield TopLine(self.palette)
        with Horizontal():
            yield Options(id="entries")
            with VerticalScroll(id="body", can_focus=False):
                yield Markdown("")
        yield Static("", id="said")
        yield Notice(self.palette)
        yield Keys(self.palette)

    def on_mount(self) -> None:
        self.query_one(TopLine).show(f"notes of {self.bench.launch.name}", "")
        self.query_one(Keys).show(hints(commands.COMMANDS, "w", "t", "e", "< >", "delete u", "escape", "?"))
        try:
            self.entries = notes.load(self.script)
        except BadUse as e:
            self.damaged = True
            self.say(str(e), bad=True)
        self.fill(len(self.entries) - 1)
        self.query_one(OptionList).focus()

    def say(self, text: str, bad: bool = False) -> None:
        self.query_one("#said", Static).update(Text(text, self.palette.error if bad else self.palette.quiet))

    def fill(self, chosen: int) -> None:
        p, options = self.palette, self.query_one(OptionList)
        options.clear_options()
        for number, entry in enumerate(self.entries, 1):
            text = Text(
                f"{number:>2}  {WORDS.get(entry.kind, entry.kind):<9}", p.quiet, no_wrap=True, overflow="ellipsis"
            )
            text.append(entry.title, p.text)
            options.add_option(Option(text))
        if self.entries:
            options.highlighted = max(0, min(chosen, len(self.entries) - 1))
        else:
            hint = "Nothing is saved yet. On the Bench, a Close-up or the Ledger **ctrl+k** saves what is shown."
            self.query_one(Markdown).update(hint)

    @property
    def at(self) -> int | None:
        highlighted = self.query_one(OptionList).highlighted
        return highlighted if highlighted is not None and highlighted < len(self.entries) else None

    def on_option_list_option_highlighted(self, event: OptionList.OptionHighlighted) -> None:
        if event.option_index < len(self.entries):
            entry = self.entries[event.option_index]
            picture = f"\n\n*picture: {notes.pictures(self.script) / entry.picture}*" if entry.picture else ""
            self.query_one(Markdown).update(f"### {entry.title}\n\n{entry.body}{picture}")

    def _save(self, chosen: int) -> None:
        if self.damaged:
            self.say("The notes' file cannot be parsed; it is unchanged.", bad=True)
            return
        try:
            notes.save(self.script, self.entries)
        except BadUse as e:
            self.say(str(e), bad=True)
            return
        self.fill(chosen)

    @work(group="dialog")
    async def action_text(self) -> None:
        text = await self.app.push_screen_wait(
            Prompt(self.palette, "A text of your own", "", "Markdown, one paragraph")
        )
        if text and text.strip():
            self.entries.append(notes.own_text(text.strip()))
            self._save(len(self.entries) - 1)

    @work(group="dialog")
    async def action_edit(self) -> None:
        """The title; of a text of one's own the text."""
        at = self.at
        if at is None:
            return
        entry = self.entries[at]
        own = entry.kind == "text"
        text = await self.app.push_screen_wait(
            Prompt(self.palette, "The text" if own else "Its title", entry.body.strip() if own else entry.title, "")
        )
        if text and text.strip():
            if own:
                entry.body, entry.title = text.strip(), notes.own_text(text.strip()).title
            else:
                entry.title = text.strip()
            self._save(at)

    def action_remove(self) -> None:
        at = self.at
        if at is not None:
            self.removed.append((at, self.entries.pop(at)))
            self._save(at)
            self.say("Removed; u brings it back.")

    def action_undo(self) -> None:
        if self.removed:
            at, entry = self.removed.pop()
            self.entries.insert(at, entry)
            self._save(at)

    def action_move(self, by: int) -> None:
        at = self.at
        if at is not None and 0 <= at + by < len(self.entries):
            self.entries.insert(at + by, self.entries.pop(at))
            self._save(at + by)

    @work(group="dialog")
    async def action_write(self) -> None:
        """The report: Markdown, its pictures beside it; or pages."""
        name = f"{os.path.splitext(self.bench.launch.name)[0]}-report.md"
        question = Prompt(self.palette, "Write the report to which file?", name, ".md or .pdf")
        text = await self.app.push_screen_wait(question)
        if not text:
            return
        path = os.path.abspath(os.path.expanduser(text.strip()))
        if not path.endswith((".md", ".pdf")):
            self.say("The report is written as Markdown or as pages: a file that ends in .md or .pdf.", bad=True)
            return
        if os.path.exists(path):
            choices = [Choice("yes", "write over it"), Choice("no", "leave it")]
            if await self.app.push_screen_wait(Choose(self.palette, f"{path} exists.", choices)) != "yes":
                return
        try:
            version = await self.bench.runs_on()
            kept = notes.load_kept(self.script)
            changed = reporting.changes(kept.texts, os.path.dirname(self.script)) if kept.texts else None
            whole = reporting.report(self.bench.launch, self.entries, self.bench.verified, version, changed)
            if path.endswith(".pdf"):
                where, title = notes.pictures(self.script), self.bench.launch.name
                await asyncio.to_thread(image_export.write_pages, whole, where, path, title)
            else:
                reporting.write_report(self.script, path, whole, self.entries)
        except BadUse as e:
            self.say(str(e), bad=True)
            return
        except OSError as e:
            self.say(f"{path} cannot be written: {e.strerror}.", bad=True)
            return
        self.say(f"The report is in {path}.")

    def action_back(self) -> None:
        self.dismiss()
