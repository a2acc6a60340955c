"""What is wrong in the text of the chosen case, before it runs."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.text import Text
from textual.widgets import Static

from ...client.before import ASIDE, KINDS, Finding, looked_at, of_order
from ...client.setup import Setup
from ...client.sources import place_words, python_in, text_in
from ...notebooks import files
from ...protocol import Note
from ..shell.controller import background
from ..widgets.dialogs import Choice, Choose
from ..widgets.sheet import Sheet
from .controller import Controller

if TYPE_CHECKING:
    from .screen import Desk


class Checks(Controller):
    """`found`: what is wrong in the text, in the order of its lines.  `off`: kinds of checks that are off."""

    found: list[Finding]
    off: set[str]

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.found = []
        self.at = -1  # the finding that was shown last
        self.off = set()

    def look(self) -> None:
        """Reads the text again."""
        setup, sheet = self.desk.setup, self.desk.query_one(Sheet)
        if setup is None:
            return
        self.at = -1
        if setup.module:
            self.found = []
            sheet.show_file(setup.program, f"# The module {setup.program} is looked for when it is run.")
            self._summary()
            return
        try:
            with open(setup.program, "rb") as f:
                data = f.read(4_000_000 if not files.is_notebook(setup.program) else -1)
        except OSError as e:
            self.found = [Finding(0, 0, "syntax", True, f"{setup.program} cannot be read: {e.strerror}")]
            sheet.show_file(setup.program, "")
            self._summary()
            return
        sheet.show_file(setup.program, text_in(setup.program, data))
        if len(data) > ASIDE:
            self.found = []
            self.desk.query_one("#wrong", Static).update(Text("being looked at …", self.desk.palette.quiet))
        self._find(data, setup)

    @background(exclusive=True, group="find")
    async def _find(self, data: bytes, setup: Setup) -> None:
        if files.is_notebook(setup.program):
            data = python_in(setup.program, data).encode()
        found = await looked_at(data, setup.program, frozenset(self.off))
        if files.is_notebook(setup.program) and "cells" not in self.off:
            found += of_order(setup.program)
        if setup is not self.desk.setup or not self.desk.query("#wrong"):
            return
        self.found = found
        sheet = self.desk.query_one(Sheet)
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
        p, out = self.desk.palette, Text()
        path = self.desk.setup.program if self.desk.setup is not None else ""
        errors = [f for f in self.found if f.error]
        hints = [f for f in self.found if not f.error]
        if not self.found:
            out.append("no findings", p.fine)
        for word, colour, part in (("error", p.error, errors), ("hint", p.warning, hints)):
            if part:
                out.append("\n" if out else "")
                out.append(f"{len(part)} {word}{'s' * (len(part) != 1)}  ", f"bold {colour}")
                out.append(
                    "   ".join(f"{place_words(path, f.line)}: {f.text}" for f in part[:2])[: 2 * self.desk.size.width],
                    p.text,
                )
                out.append(f"   and {len(part) - 2} more: n" if len(part) > 2 else "", p.quiet)
        self.desk.query_one("#wrong", Static).update(out)

    def action_next_finding(self) -> None:
        sheet = self.desk.query_one(Sheet)
        path = self.desk.setup.program if self.desk.setup is not None else ""
        if self.found:
            self.at = (self.at + 1) % len(self.found)
            one = self.found[self.at]
            sheet.cursor = max(1, one.line)
            sheet.reveal(sheet.cursor)
            place = place_words(path, one.line) + (f", column {one.column}" if one.column else "")
            self.desk.say(f"{'error' if one.error else 'hint'} in {place}: {one.text}", bad=one.error)

    @background(group="dialog")
    async def action_kinds(self) -> None:
        """What is looked for in the text: one kind on or off."""
        choices = [Choice(k, f"{'off' if k in self.off else 'on '}  {words}") for k, words in KINDS.items()]
        chosen = await self.desk.app.push_screen_wait(Choose(self.desk.palette, "Which checks?", choices))
        if chosen is not None:
            self.off ^= {chosen}
            self.look()
            self.desk.keep_settings()
