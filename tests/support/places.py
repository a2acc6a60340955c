"""Many short bodies in one script, each in a function of its own: where each is to pause, and where it does."""

from __future__ import annotations

import textwrap

Places = dict[str, tuple[str, str]]  # by name: a body, and the term that is named


class InOneScript:
    """A script of all bodies.  `case`: what is around one, with `{number}` and `{body}`, which is indented by `depth`.

    `mark` ends the line that pauses in a body where that is not the last one with `term`.
    """

    def __init__(self, places: Places, head: str, case: str, depth: int, mark: str, term: str) -> None:
        self.places, self.text = places, head
        self.wanted: list[tuple[str, int, str]] = []
        for number, (name, (body, named)) in enumerate(places.items()):
            self.text += case.format(number=number, body=textwrap.indent(body, " " * depth))
            at = self.text.rindex(mark if mark in body else term)
            self.wanted.append((name, self.text[:at].count("\n") + 1, named))

    async def compare(self, run, facts) -> None:
        """Goes on from pause to pause, from the first; each must be at its line and name its term."""
        found = []
        while facts is not None:
            found.append((facts.line, facts.culprit.text if facts.culprit else None))
            facts = await run.step("on")
        assert [(name, *one) for name, one in zip(self.places, found)] == self.wanted
        assert len(found) == len(self.wanted)
