"""From the Bench to screens about the script as a whole."""

from __future__ import annotations

from ..lookouts.screen import Lookouts
from ..widgets.sheet import Sheet
from .cards import Cards
from .controller import Controller


class OtherScreens(Controller):
    """A controller of the Bench."""

    def show_digits(self) -> None:
        """Let cards and terms say the digits that hold, where shaken runs have shown them."""
        bench = self.bench
        sheet, cards = bench.query_one(Sheet), bench.query_one(Cards)

        def of_term(line: int, text: str) -> str:
            known = bench.uneven.digits
            return known.of_term(sheet.path, line, text) if known is not None else ""

        def of_name(name: str) -> str:
            known = bench.uneven.digits
            return known.of_name(sheet.path, name) if known is not None else ""

        sheet.known_of, cards.remark_of = of_term, of_name

    def action_findings(self) -> None:
        self.bench.uneven.open_findings(self.bench.launch)

    def action_differences(self) -> None:
        self.bench.uneven.compare(self.bench.launch, self.bench.sources.before_edits())

    def action_lookouts(self) -> None:
        self.bench.app.push_screen(Lookouts(self.bench, self.bench.palette))
