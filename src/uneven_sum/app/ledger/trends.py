"""The facts beside the table: statistics and trend of the column, and two compared passes."""

from __future__ import annotations

import textwrap
from typing import TYPE_CHECKING, cast

from rich.text import Text
from textual.widgets import Static

from ...client import BadUse
from ...client.ledger import Ledger
from ...safe_text import cut
from ..plotting.number_format import shown
from ..shell.controller import Controller
from ..shell.keymap import Application
from .units import UNIT, in_units

if TYPE_CHECKING:
    from .screen import LedgerScreen


class Trends(Controller["LedgerScreen"]):
    """A controller of the Ledger."""

    screen: LedgerScreen

    def draw_facts(self) -> None:
        """What is known of the cursor's column; or what differs between two passes."""
        screen = self.screen
        p, ledger, column, kind = screen.palette, screen.ledger, screen.column, screen.of.kind
        out = Text()
        if ledger is not None and screen.beside is not None and screen.order:
            self.two_passes(out, ledger, screen.beside, screen.order[screen.place])
        elif ledger is not None and column is not None and ledger.rows:
            out.append(f"{column.name}\n", f"bold {p.text}")
            out.append(f"{column.facts.type}\n\n", p.quiet)
            key = (screen.number, screen.run_number, column.name)
            said = [] if column.facts.of == "digits" else screen.courses.get(key)
            if said is None:
                screen.run_worker(self.course(ledger, column.name), group="course", exclusive=True)
            for text in said or []:
                for n, piece in enumerate(textwrap.wrap(in_units(text, kind), 38)):
                    out.append(("  " if n else "▍ ") + piece + "\n", p.changed if not n else p.text)
            out.append("\n" if said else "")
            facts = column.facts
            for word, number, value in (("minimum", facts.low, facts.least), ("maximum", facts.high, facts.most)):
                if number and value is not None:
                    out.append(f"{word:<14}", p.quiet)
                    value = int(value) if facts.type == "int" and value == int(value) else value
                    out.append(f"{shown(value, screen.format):<14} {UNIT[kind]} {number}\n", p.text)
            if column.facts.bad:
                out.append(f"{'! not finite':<14}", p.nonfinite)
                said_bad = f"in {column.facts.bad} passes, first {column.facts.first_bad}\n"
                out.append(in_units(said_bad, kind), p.nonfinite)
            if column.name == "branches":
                out.append(in_units("The first lines of the branches that a pass took.\n", kind), p.quiet)
        screen.query_one("#facts-text", Static).update(out)

    def add_digits(self, ledger: Ledger) -> None:
        """Columns of the digits that hold, where shaken runs have shown them for this loop."""
        screen, of = self.screen, self.screen.of
        known = cast("Application", screen.app).digits
        if known is None or ledger.told.kind == "calls" or ledger.told.begun != 1:
            return
        ledger.add_digits(lambda name: known.by_pass(of.file, name, of.line, ledger.told.passes))

    async def course(self, ledger: Ledger, name: str) -> None:
        """Sentences about a column, when the cursor has come to it."""
        screen = self.screen
        key = (screen.number, screen.run_number, name)
        client = screen.bench.client
        if client is None or screen.bench.state != "paused" or not ledger.told.run:
            return
        try:
            screen.courses[key] = await client.course(ledger, name)
        except BadUse:
            screen.courses[key] = []
        self.draw_facts()

    def two_passes(self, out: Text, ledger: Ledger, a: int, b: int) -> None:
        p = self.screen.palette
        unit = UNIT[self.screen.of.kind]
        out.append(f"{unit} {ledger.numbers[a]} compared with {unit} {ledger.numbers[b]}\n\n", f"bold {p.text}")
        found = ledger.differences(a, b)
        for name, one, two, by in found:
            out.append(f"{name}\n", f"bold {p.text}")
            out.append(f"  {cut(one, 36)}\n  {cut(two, 36)}", p.changed)
            out.append(f"   by {by}\n" if by else "\n", p.quiet)
        if not found:
            out.append("Nothing differs.\n" if a != b else f"Move to another {unit}.\n", p.quiet)
