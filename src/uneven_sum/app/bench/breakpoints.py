"""Lookouts on the Bench: set, edited, sent to the script, drawn in the gutter."""

from __future__ import annotations

import asyncio
import os

from ...client import BadUse
from ...client.sentences import WORDS, Unclear, parse, sentence
from ...client.sources import place_words
from ...protocol import Facts, Lookout
from ..widgets.dialogs import Choice, Choose, EditSentence
from ..widgets.sheet import Sheet
from .controller import Controller, background
from .source_texts import stamp


class Breakpoints(Controller):
    """A controller of the Bench."""

    def draw_marks(self) -> None:
        sheet = self.bench.query_one(Sheet)
        sheet.marks = self.bench.book.marks(sheet.path)
        sheet.refresh()

    async def send_lookouts(self) -> None:
        """After a change of the book: to the script, and into the gutter."""
        client = self.bench.client
        if client is not None and client.alive and self.bench.state != "starting":
            try:
                news = self.bench.book.placed(await client.set_lookouts(self.bench.book.wanted()))
                for text in news:
                    self.bench.notify(text)
            except BadUse as e:
                self.bench.notify(str(e), severity="warning")
        self.draw_marks()

    async def send_switches(self) -> None:
        client = self.bench.client
        if client is not None and client.alive and self.bench.state != "starting":
            try:
                await client.set_switches(self.bench.book.switches)
                await client.set_stepping(self.bench.appearance.over)
            except BadUse as e:
                self.bench.notify(str(e), severity="warning")

    async def action_breakpoint(self) -> None:
        sheet = self.bench.query_one(Sheet)
        await self.toggle(sheet.path, sheet.cursor)

    async def on_sheet_breakpoint_asked(self, message: Sheet.BreakpointAsked) -> None:
        await self.toggle(self.bench.query_one(Sheet).path, message.line)

    async def toggle(self, path: str, line: int) -> None:
        self.bench.book.toggle(path, line)
        await self.send_lookouts()

    @background(group="dialog")
    async def action_edit_lookout(self) -> None:
        """The sentence of the cursor line's lookout; with several, the user chooses."""
        sheet, bench = self.bench.query_one(Sheet), self.bench
        here = self.bench.book.at_line(sheet.path, sheet.cursor)
        number: int | None = here[0].lookout.id if here else None
        if len(here) > 1:
            choices = [Choice(str(k.lookout.id), sentence(k.lookout)) for k in here]
            chosen = await bench.app.push_screen_wait(Choose(bench.palette, "Which of them?", choices))
            if chosen is None:
                return
            number = int(chosen)
        await self.edit_sentence(number, Lookout(file=sheet.path, line=sheet.cursor))

    async def edit_sentence(self, number: int | None, like: Lookout) -> bool:
        """Opens a sentence, keeps what becomes of it.  True when something was kept."""
        bench = self.bench
        lookout = self.bench.book.kept[number].lookout if number is not None else like
        title = f"Lookout {number}" if number is not None else "A new lookout"
        text = await bench.app.push_screen_wait(
            EditSentence(
                bench.palette, title, sentence(lookout), WORDS, lambda t: self.check(t, lookout.file), self.names
            )
        )
        if text is None:
            return False
        made = parse(text, lookout.file or bench.script_path(), bench.source.known_files())
        if number is not None:
            self.bench.book.edit(number, made)
        else:
            self.bench.book.add(made)
        await self.send_lookouts()
        return True

    async def add_sentence(self, text: str) -> tuple[bool, str]:
        """Set a breakpoint from the ask drawer; returns whether it was set, and the message."""
        path = self.bench.query_one(Sheet).path
        fine, why = await self.check(text, path)
        if not fine:
            return False, why
        number = self.bench.book.add(parse(text, path, self.bench.source.known_files()))
        await self.send_lookouts()
        return True, f"lookout {number} is set. {why}".strip()

    async def check(self, text: str, file: str) -> tuple[bool, str]:
        """Whether a sentence can stand, and what is to be said of it."""
        try:
            lookout = parse(text, file or self.bench.script_path(), self.bench.source.known_files())
        except Unclear as e:
            return False, str(e)
        for other in (lookout.after, lookout.until):
            if other and other not in self.bench.book.kept:
                return False, f"There is no lookout {other}."
        client = self.bench.client
        if client is not None and client.alive and self.bench.state != "starting":
            try:
                placed = await client.check_lookout(lookout)
                return placed.verified, placed.message
            except BadUse as e:
                return False, str(e)
        if lookout.file and not os.path.isfile(lookout.file):
            return False, f"There is no file {lookout.file}."
        return True, ""

    async def names(self, begun: str) -> list[str]:
        if self.bench.client is None or self.bench.state != "paused":
            return []
        try:
            found = await self.bench.client.complete(begun, self.bench.frame_number())
        except BadUse:
            return []
        return [f["label"] for f in found]

    def _at_nonfinite(self) -> Facts | None:
        facts = self.bench.facts
        paused = self.bench.client is not None and self.bench.state == "paused"
        return facts if paused and facts is not None and facts.reason == "nonfinite" else None

    async def action_accept(self) -> None:
        """Accept non-finite values at the paused statement."""
        facts = self._at_nonfinite()
        if facts is None or self.bench.client is None:
            return
        await self.bench.client.accept(facts.file, facts.line)
        if (facts.file, facts.line) not in self.bench.book.accepted:
            self.bench.book.accepted.append((facts.file, facts.line))
        self._say_accepted(f"at {place_words(facts.file, facts.line)}")

    @background(group="dialog")
    async def action_accept_as(self) -> None:
        """Accept non-finite values of a callee or a name, at every place."""
        facts = self._at_nonfinite()
        choices = [Choice(what, f"nan/inf in {what}", "at every place") for what in facts.accepts] if facts else []
        if not choices:
            self.bench.notify("Works at a pause for nan/inf that a call or a stored name has.")
            return
        chosen = await self.bench.app.push_screen_wait(Choose(self.bench.palette, "Accept which?", choices))
        if chosen is None or self.bench.client is None:
            return
        await self.bench.client.accept_as(chosen)
        if chosen not in self.bench.book.accepted_as:
            self.bench.book.accepted_as.append(chosen)
        self._say_accepted(f"in {chosen}")

    def _say_accepted(self, where: str) -> None:
        self.bench.notify(f"nan/inf {where} accepted. Undo in Lookouts ({self.bench.key('5')}).")

    async def look_at_files(self) -> None:
        """Now and then: whether a file that is shown was edited outside; lookouts stay with their lines."""
        bench = self.bench
        edited = [p for p, before in bench.stamps.items() if stamp(p) != before]
        for path in edited:
            bench.stamps[path] = stamp(path)
        if not edited:
            return
        names = ", ".join(sorted(os.path.basename(p) for p in edited))
        if self.bench.state in ("paused", "running"):
            bench.notify(f"{names} changed on disk; the script runs the old source. {bench.key('R')} reruns.")
        else:
            for text in self.bench.book.follow_edits():
                bench.notify(text, severity="warning")
            bench.texts.clear()
            bench.sources.show_text(bench.query_one(Sheet).path)
        await asyncio.sleep(0)
