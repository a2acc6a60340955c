"""Places of a ledger that are one key away; sorting, filtering, searching, comparing two passes."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ...client.ledger import Column
from ..shell.controller import Controller, background
from .units import UNIT

if TYPE_CHECKING:
    from .screen import LedgerScreen


class Search(Controller["LedgerScreen"]):
    """A controller of the Ledger."""

    screen: LedgerScreen

    async def _to_row(self, row: int | None, said: str, nothing: str) -> None:
        """To a row of the table as it was recorded."""
        screen = self.screen
        if row is None:
            screen.say(nothing)
            return
        if row not in screen.order:
            screen.say(f"That {UNIT[screen.of.kind]} is filtered out.")
            return
        screen.aimed = said
        await screen.to_place(screen.order.index(row))

    def _pass_row(self, number: int) -> int | None:
        return self.screen.ledger.row_of(number) if number and self.screen.ledger is not None else None

    async def action_extreme(self, which: str) -> None:
        """The pass of the column's minimum or maximum."""
        column = self.screen.column
        if column is not None:
            number = column.facts.low if which == "min" else column.facts.high
            word = "minimum" if which == "min" else "maximum"
            said = f"{word} of {column.name}, in {UNIT[self.screen.of.kind]} {number}"
            await self._to_row(self._pass_row(number), said, f"{column.name} has no {word}.")

    async def action_bad(self, back: bool) -> None:
        """The first pass whose value is not finite, of this column or of any; then the next one."""
        screen, ledger = self.screen, self.screen.ledger
        if ledger is None or screen.column is None:
            return
        own = [screen.column] if screen.column.facts.bad else ledger.columns
        bad = [p for p, row in enumerate(screen.order) if any(c.facts.marks[row] == "!" for c in own)]
        here = screen.place
        found = [p for p in reversed(bad) if p < here] if back else [p for p in bad if p > here] or bad[:1]
        if not found:
            exact = [c for c in ledger.columns if c.facts.first_bad]
            screen.say("No bad value that way." if bad or back else "All recorded values are finite.")
            if exact and not bad:
                unit = UNIT[screen.of.kind]
                screen.say(f"{exact[0].name} was not finite in {unit} {exact[0].facts.first_bad}, which is not shown.")
            return
        row = screen.order[found[0]]
        names = [c.name for c in ledger.columns if c.facts.marks[row] == "!"]
        await self._to_row(row, f"not finite: {', '.join(names)}", "")

    async def action_change(self) -> None:
        column, ledger = self.screen.column, self.screen.ledger
        if column is not None and ledger is not None:
            row = ledger.largest_change(column)
            said = f"largest change of {column.name}"
            if row is not None:
                said += f": {column.text(row - 1)} → {column.text(row)}"
            await self._to_row(row, said, f"{column.name} does not change.")

    async def action_sign(self) -> None:
        column, ledger = self.screen.column, self.screen.ledger
        if column is not None and ledger is not None and self.screen.order:
            row = ledger.next_sign_change(column, self.screen.order[self.screen.place])
            await self._to_row(row, f"{column.name} changes its sign", f"{column.name} never changes its sign.")

    async def action_sort(self) -> None:
        """By the cursor's column: rising, falling, in the order of the passes."""
        screen = self.screen
        if screen.column is None:
            return
        name = screen.column.name
        falling = screen.sort == (name, False)
        screen.sort = (name, True) if falling else None if screen.sort == (name, True) else (name, False)
        screen.set_order()
        await screen.to_place(0)

    def sorted_rows(self, column: Column, down: bool) -> list[int]:
        """Numbers by size, texts after them; what was not assigned last."""
        marks, values = column.facts.marks, column.values

        def key(row: int) -> tuple[int, float, str]:
            if marks[row] == "m":
                return (3, 0.0, "")
            if marks[row] == "t":
                return (2, 0.0, column.text(row))
            return (1, 0.0, "") if values[row] != values[row] else (0, -values[row] if down else values[row], "")

        return sorted(range(len(values)), key=key)

    @background(group="dialog")
    async def action_filter(self) -> None:
        screen = self.screen
        hint = "like head < 0, or inflow.mean > 3 and number > 100; nothing shows all"
        text = await screen.prompt("Show only the passes where …", screen.filter, hint)
        if text is not None:
            await screen.read(filter=text.strip())

    @background(group="dialog")
    async def action_find(self) -> None:
        screen = self.screen
        text = await screen.prompt("Find which text in the table?", screen.sought, "a part of a value")
        if text:
            screen.sought = text
            await self.action_find_next()

    async def action_find_next(self) -> None:
        screen, ledger = self.screen, self.screen.ledger
        if ledger is None or not screen.sought:
            return
        places = range(len(screen.order))
        for place in [*places[screen.place + 1 :], *places[: screen.place + 1]]:
            row = screen.order[place]
            for n, column in enumerate(ledger.columns):
                if screen.sought in column.text(row):
                    screen.aimed = f"{screen.sought} found"
                    await screen.to_place(place, n)
                    return
        screen.say(f"{screen.sought} is in no cell.")

    def action_compare(self) -> None:
        """Puts this pass beside the one under the cursor; again: no longer."""
        screen, ledger = self.screen, self.screen.ledger
        if ledger is None or not screen.order:
            return
        row = screen.order[screen.place]
        screen.beside = None if screen.beside == row else row
        screen.trends.draw_facts()
        if screen.beside is not None:
            screen.say(f"Pass {ledger.numbers[row]} marked. Move to compare; = unmarks.")
