"""Lookouts: everything that can pause the script, each as one sentence that can be edited in place."""

from __future__ import annotations

import os
import textwrap
from dataclasses import dataclass

from rich.text import Text
from textual import events, work
from textual.app import ComposeResult
from textual.containers import VerticalScroll
from textual.screen import Screen
from textual.widgets import Input, Static

from ...client.sentences import ABOUT, Unclear, parse, parse_tripwire, sentence, tripwire_sentence
from ...client.sources import place_words
from ...protocol import TRIPS, Lookout
from ..shell.commands import bindings, hints
from ..shell.keymap import Keyed
from ..shell.theme import Palette
from ..widgets.bars import Keys, TopLine
from ..widgets.bench_view import BenchView
from ..widgets.fields import Field
from ..widgets.notice import Notice
from . import commands

KEYS = hints(commands.COMMANDS, "space", "enter", "n", "delete", "U", "g", "N", "F", "D", "escape", "?")


@dataclass
class Line:
    """One row: a heading, or something that can be switched and edited."""

    kind: str  # heading, tripwire, text, lookout, accepted, over, note
    text: str
    key: str = ""
    on: bool = True
    met: int = 0
    told: str = ""
    wrong: bool = False


class Row(Static):
    """A row of the list; the chosen one is highlighted, and can hold a line to type in."""


class Lookouts(Keyed, Screen[None]):
    """The list is the Bench's book; every change goes to the script at once."""

    DEFAULT_CSS = """
    Lookouts VerticalScroll { height: 1fr; padding: 1 1; background: $background; scrollbar-size-vertical: 1; }
    Lookouts Row { height: auto; width: 100%; padding: 0 1; }
    Lookouts Row.chosen { background: $panel; }
    Lookouts Input { height: 1; border: none; background: $panel; padding: 0 1; margin: 0 0 0 9; width: 1fr; }
    Lookouts #said { height: 2; padding: 0 2; background: $background; }
    """
    KEYS_OF = "lookouts"
    HEADING, ACTIONS = commands.TITLE, commands.COMMANDS
    BINDINGS = bindings(commands.COMMANDS)

    def __init__(self, bench: BenchView, palette: Palette) -> None:
        super().__init__()
        self.bench, self.palette = bench, palette
        self.lines: list[Line] = []
        self.at = 1
        self.editing = False
        self.metered: dict[str, int] = {}

    def compose(self) -> ComposeResult:
        yield TopLine(self.palette)
        yield VerticalScroll(can_focus=True)
        yield Static("", id="said")
        yield Notice(self.palette)
        yield Keys(self.palette)

    async def on_mount(self) -> None:
        self.query_one(TopLine).show("lookouts: breakpoints and tripwires", self.bench.launch.name)
        self.query_one(Keys).show(KEYS)
        await self._count()
        await self.fill()
        self.query_one(VerticalScroll).focus()

    async def _count(self) -> None:
        client = self.bench.client
        if client is not None and client.alive and self.bench.state != "starting":
            try:
                met, self.metered = await client.met()
                self.bench.book.count(met)
            except Exception:  # the script has just ended: what was known stays
                return

    # -- the rows ------------------------------------------------------------------------------------

    def _gather(self) -> list[Line]:
        book = self.bench.book
        s = book.switches
        lines = [Line("heading", "tripwires")]
        for name in ABOUT:
            wire = getattr(s, name)
            extras = {e for e in TRIPS[name].extras if getattr(s, e)}
            shown = tripwire_sentence(name, wire, extras)
            lines.append(Line("tripwire", shown, name, wire.on, self.metered.get(name, 0)))
        lines.append(Line("text", "pause at breakpoint() in the script's text", "breakpoint", s.breakpoint))
        lines.append(Line("heading", "your breakpoints"))
        for number, kept in book.kept.items():
            lines.append(
                Line(
                    "lookout",
                    sentence(kept.lookout),
                    str(number),
                    kept.lookout.on,
                    kept.met,
                    kept.message,
                    not kept.verified,
                )
            )
        if not book.kept:
            lines.append(Line("note", "none yet: n makes one, or m on a line of the Bench"))
        if book.accepted or book.accepted_as:
            lines.append(Line("heading", "accepted nan/inf: no pause at these lines"))
            for path, line in book.accepted:
                at = f"{place_words(path, line)} of {os.path.basename(path)}"
                lines.append(Line("accepted", at, f"{path}|{line}"))
            lines += [Line("accepted as", what, what) for what in book.accepted_as]
        lines.append(Line("heading", "skipped by a step into a call"))
        over = ", ".join(f"`{o}`" for o in book.over)
        lines.append(Line("over", over or "nothing; enter names files, functions or classes", "over"))
        return lines

    async def fill(self) -> None:
        self.lines = self._gather()
        box = self.query_one(VerticalScroll)
        await box.remove_children()
        await box.mount_all([Row(self._text(line)) for line in self.lines])
        self.at = max(0, min(self.at, len(self.lines) - 1))
        if self.lines[self.at].kind in ("heading", "note"):
            self.at = next(n for n, ln in enumerate(self.lines) if ln.kind not in ("heading", "note"))
        self._mark()

    def _text(self, line: Line) -> Text:
        p = self.palette
        if line.kind == "heading":
            return Text("\n" + line.text, f"bold {p.quiet}")
        if line.kind == "note":
            return Text("         " + line.text, p.quiet)
        out = Text()
        if line.kind in ("accepted", "accepted as", "over"):
            out.append("         ")
        else:
            out.append("on   " if line.on else "off  ", p.fine if line.on else p.quiet)
            out.append(f"{line.key if line.kind == 'lookout' else '':>2}  ", f"bold {p.breakpoint}")
        room = max(30, self.app.size.width - 16)
        shown = "\n         ".join(textwrap.wrap(line.text, room, break_on_hyphens=False))
        out.append(shown, p.text if line.on and not line.wrong else p.quiet)
        if line.kind in ("lookout", "tripwire"):
            times = "once" if line.met == 1 else f"{line.met} times"
            out.append(f"   hit {times}" if line.met else "   not hit yet", p.changed if line.met else p.quiet)
        if line.told:
            out.append("\n         " + line.told, p.error if line.wrong else p.warning)
        return out

    def _mark(self) -> None:
        for number, row in enumerate(self.query(Row)):
            row.set_class(number == self.at, "chosen")
            if number == self.at:
                row.scroll_visible(animate=False)

    @property
    def here(self) -> Line:
        return self.lines[self.at]

    def say(self, text: str, bad: bool = False) -> None:
        self.query_one("#said", Static).update(Text(text, self.palette.error if bad else self.palette.quiet))

    # -- actions -------------------------------------------------------------------------------------

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        return not self.editing

    def action_along(self, by: int) -> None:
        at = self.at + by
        while 0 <= at < len(self.lines) and self.lines[at].kind in ("heading", "note"):
            at += by
        if 0 <= at < len(self.lines):
            self.at = at
        self._mark()

    async def on_click(self, event: events.Click) -> None:
        row = event.widget
        rows = list(self.query(Row))
        if isinstance(row, Row) and row in rows and self.lines[rows.index(row)].kind not in ("heading", "note"):
            self.at = rows.index(row)
            self._mark()

    async def action_switch(self) -> None:
        line, book = self.here, self.bench.book
        if line.kind == "tripwire":
            wire = getattr(book.switches, line.key)
            wire.on = not wire.on
        elif line.kind == "text":
            book.switches.breakpoint = not book.switches.breakpoint
        elif line.kind == "lookout":
            book.switch(int(line.key), not line.on)
        await self._changed()

    async def _changed(self) -> None:
        await self.bench.send_lookouts()
        await self.bench.send_switches()
        await self.fill()

    async def action_all(self, on: bool) -> None:
        book = self.bench.book
        for name in ABOUT:
            getattr(book.switches, name).on = on
        for number in book.kept:
            book.switch(number, on)
        await self._changed()

    async def action_remove(self) -> None:
        line, book = self.here, self.bench.book
        if line.kind == "lookout":
            book.remove([int(line.key)])
            self.say(f"Lookout {line.key} is removed. U brings it back.")
        elif line.kind == "accepted as":
            book.accepted_as.remove(line.key)
            client = self.bench.client
            if client is not None and client.alive:
                await client.accept_as(line.key, False)
        elif line.kind == "accepted":
            path, _, number = line.key.rpartition("|")
            book.accepted.remove((path, int(number)))
            client = self.bench.client
            if client is not None and client.alive:
                await client.unaccept(path, int(number))
        await self._changed()

    async def action_remove_all(self) -> None:
        numbers = list(self.bench.book.kept)
        self.bench.book.remove(numbers)
        self.say(f"{len(numbers)} removed. U brings them back.")
        await self._changed()

    async def action_undo(self) -> None:
        back = self.bench.book.undo()
        self.say(f"{back} brought back." if back else "Nothing was removed.")
        await self._changed()

    @work(group="dialog")
    async def action_new(self) -> None:
        sheet = self.bench.sheet
        if await self.bench.edit_sentence(None, Lookout(file=sheet.path, line=sheet.cursor)):
            await self.fill()

    async def action_edit(self) -> None:
        line = self.here
        if line.kind not in ("tripwire", "lookout", "over"):
            return
        row = list(self.query(Row))[self.at]
        text = line.text if line.kind != "over" else ", ".join(self.bench.book.over)
        self.editing = True
        field = Field(text, compact=True)
        await self.query_one(VerticalScroll).mount(field, after=row)
        row.display = False
        field.focus()
        field.cursor_position = len(text)
        hints = {
            "tripwire": ", handled ones too   , only `CLASS`   , not `CLASS`   , not in `FILE or FUNCTION`   , off"
        }
        self.say(hints.get(line.kind, "enter: save · escape: cancel"))

    async def on_input_submitted(self, event: Input.Submitted) -> None:
        event.stop()
        line, book, bench = self.here, self.bench.book, self.bench
        text = event.value
        try:
            if line.kind == "tripwire":
                said = parse_tripwire(line.key, text)
                setattr(book.switches, line.key, said.wire)
                for extra in TRIPS[line.key].extras:
                    setattr(book.switches, extra, extra in said.extras)
            elif line.kind == "lookout":
                lookout = book.kept[int(line.key)].lookout
                fine, why = await bench.check(text, lookout.file)
                if not fine:
                    raise Unclear(why)
                book.edit(int(line.key), parse(text, lookout.file or bench.script_path(), bench.known_files()))
            else:
                book.over = [part.strip(" `") for part in text.split(",") if part.strip(" `")]
        except Unclear as e:
            self.say(str(e), bad=True)
            return
        await self._done()
        await self._changed()

    async def _done(self) -> None:
        self.editing = False
        self.say("")
        for field in self.query(Input):
            await field.remove()
        await self.fill()
        self.query_one(VerticalScroll).focus()

    async def on_key(self, event: events.Key) -> None:
        if self.editing and event.key == "escape":
            event.stop()
            event.prevent_default()
            await self._done()

    def action_show_line(self) -> None:
        line = self.here
        if line.kind == "lookout":
            lookout = self.bench.book.kept[int(line.key)].lookout
            if lookout.line:
                self.dismiss()
                self.bench.show_source(lookout.file, lookout.line)

    def action_back(self) -> None:
        self.dismiss()
