"""A run beside the one before it: the old places, new trips, the results that the user named."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ...client import BadUse, Client, verify
from ...protocol import TRIPS, Facts
from .controller import Controller

if TYPE_CHECKING:
    from .screen import Bench


class Verifying(Controller):
    """A controller of the Bench."""

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        self.before = verify.Seen()  # of the run before
        self.seen = verify.Seen()

    def next_run(self) -> None:
        """Another run begins."""
        if self.seen.trips or self.seen.ended:
            self.before = self.seen
        self.seen = verify.Seen()

    async def look_at_run(self, facts: Facts, client: Client) -> None:
        """At a pause: what is to be said beside the run before, in the headline."""
        if facts.nested:
            return
        if facts.reason in TRIPS:
            self.seen.texts.setdefault(facts.file, self.bench.sources.text_of(facts.file).split("\n"))
            said = verify.at_pause(self.before, facts, self.seen)
            self.seen.trips.append(facts)
        elif facts.reason == "end":
            self.seen.ended = True
            wanted = list(self.bench.book.results)
            try:
                self.seen.results, self.seen.against = await verify.results(client, wanted)
            except BadUse:
                return
            known = self.before.trips or self.before.ended
            said = verify.at_end(self.before, self.seen) if known else ""
            self.bench.notes.verified = said
        else:
            return
        if said:
            facts.headline += f"\n{said}"

    def name_result(self, text: str) -> str:
        """`verify …` in the ask drawer: kept with the case; given again, it is kept no longer."""
        result = verify.parse(text)
        if result in self.bench.book.results:
            self.bench.book.results.remove(result)
            return f"{result.expression} is not verified any longer"
        self.bench.book.results.append(result)
        return f"{result.sentence}: compared with the previous run at each end"
