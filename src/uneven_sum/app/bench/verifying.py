"""A run beside the one before it: the old places, new trips, the results that the user named."""

from __future__ import annotations

from ...client import BadUse, Client, verify
from ...client.book import Book
from ...protocol import TRIPS, Facts
from .part import Part


class Verifying(Part):
    """A part of the Bench."""

    book: Book

    def __init__(self) -> None:
        super().__init__()
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
            self.seen.texts.setdefault(facts.file, self.bench.text_of(facts.file).split("\n"))
            said = verify.at_pause(self.before, facts, self.seen)
            self.seen.trips.append(facts)
        elif facts.reason == "end":
            self.seen.ended = True
            wanted = list(self.book.results)
            try:
                self.seen.results, self.seen.against = await verify.results(client, wanted)
            except BadUse:
                return
            known = self.before.trips or self.before.ended
            said = verify.at_end(self.before, self.seen) if known else ""
            self.bench.verified = said
        else:
            return
        if said:
            facts.headline += f"\n{said}"

    def name_result(self, text: str) -> str:
        """`verify …` in the ask drawer: kept with the case; given again, it is kept no longer."""
        result = verify.parse(text)
        if result in self.book.results:
            self.book.results.remove(result)
            return f"{result.expression} is not verified any longer"
        self.book.results.append(result)
        return f"{result.sentence}: compared with the previous run at each end"
