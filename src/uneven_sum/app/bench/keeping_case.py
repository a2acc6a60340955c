"""What is kept of a case, and of the values from pause to pause."""

from __future__ import annotations

import base64
import math
import struct

from ...client import case
from ...client.book import switches_for
from ...client.setup import of_launch
from ...protocol import TRIPS, Card, Recent
from ..plotting.number_format import made
from .controller import Controller


class CaseKeeper(Controller):
    """A controller of the Bench."""

    def take_case(self) -> None:
        """What was kept of this case before: lookouts, tripwires, accepted places, watches."""
        if self.bench.launch.as_module:
            return
        self.bench.claim = case.Claim(self.bench.script_path())
        if self.bench.claim.other and self.bench.kept_as_case:
            other = f" (process {self.bench.claim.other})" if self.bench.claim.other > 0 else ""
            said = f"This case is open in another Uneven Sum{other}. Changes made here are not saved."
            self.bench.notify(said, severity="warning", timeout=12)
            self.bench.kept_as_case = False
        try:
            self.bench.watches, told = case.load(self.bench.script_path(), self.bench.book)
        except case.Damaged as e:
            told, self.bench.case_damaged = [str(e)], True
        self.bench.formats.update({k: made(v) for k, v in self.bench.book.formats.items()})
        for text in told:
            self.bench.notify(text, severity="warning", timeout=12)
        if self.bench.launch.pause_on_given:
            switches = switches_for(self.bench.launch.pause_on)
            for name in TRIPS:
                getattr(self.bench.book.switches, name).on = getattr(switches, name).on

        self.saved = self._state_of_case()

    saved = ""  # the state of the case when it was saved last
    failed = ""  # why it could not be saved

    def _state_of_case(self) -> str:
        """A text that changes whenever something does that the case file holds."""
        book, formats = self.bench.book, self.bench.formats
        lookouts = [kept.lookout for kept in book.kept.values()]
        rest = (book.accepted, book.accepted_as, book.over, book.recorded, book.always, book.results)
        return repr((lookouts, book.switches, rest, formats, self.bench.watches))

    def keep_case_if_changed(self) -> None:
        if self.failed or self._state_of_case() != self.saved:
            self.keep_case()

    def keep_case(self) -> None:
        if self.bench.launch.as_module or self.bench.case_damaged or not self.bench.kept_as_case:
            return
        formats = self.bench.formats
        self.bench.book.formats = {k: how.kept() for k, how in formats.items() if how != self.bench.usual}
        state = self._state_of_case()
        try:
            setup = of_launch(self.bench.launch) if self.bench.launch.entries_given else None
            case.save(self.bench.script_path(), self.bench.book, self.bench.watches, setup)
        except (OSError, case.Damaged) as e:
            why = f"The case cannot be saved: {getattr(e, 'strerror', None) or e}. It is tried again until it can be."
            if why != self.failed:
                self.failed = why
                self.bench.notify(why, severity="warning", timeout=12)
            return
        if self.failed:
            self.bench.notify("The case is saved again.")
        self.saved, self.failed = state, ""

    def sparks(self, cards: list[Card], recent: Recent) -> None:
        """Scalars by pass, as a spark on their cards: recorded ones, else their values at the pauses of one loop."""
        by_name = {v.name: v for v in recent.values}
        for card in cards:
            if card.name in by_name and card.kind == "scalar":
                card.spark, card.spark_marks = by_name[card.name].picture, by_name[card.name].marks
        if recent.line:
            return
        loop = self.bench.facts.loops[0] if self.bench.facts and self.bench.facts.loops else None
        place = (loop.file, loop.line) if loop else ("", 0)
        if place != self.bench.history_of:
            self.bench.history, self.bench.history_of = {}, place
        for card in cards:
            if loop is None or card.kind != "scalar" or not card.assigned:
                continue
            try:
                value = float(card.text)
            except ValueError:
                continue
            kept = self.bench.history.setdefault(card.name, [])
            kept.append(value)
            del kept[:-48]
            if len(kept) > 2 and len(set(kept)) > 1:
                finite = [v if math.isfinite(v) else math.nan for v in kept]
                pairs = [v for v in finite for _ in (0, 1)]
                card.spark = base64.b64encode(struct.pack(f"<{len(pairs)}d", *pairs)).decode()
                card.spark_marks = "".join("0" if math.isfinite(v) else "1" for v in kept)
