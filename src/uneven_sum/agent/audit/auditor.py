"""The state of an audit: which rules look, and what they have found."""

from __future__ import annotations

import sys
import types
from collections.abc import Callable
from typing import Any

from ..frames import stack
from ..frames.namespace import locals_of
from ..source.cells import place_words
from ..source.registry import file_of
from ..source.sites import sites
from ..source.source_file import Position, SourceFile
from .care import with_care
from .causes import grouped
from .finding import Finding, Place, loops_of, pass_of
from .rules import RULES
from .rules.base import Rule
from .running_sums import Running

MOST = 2_000  # findings of a run


class Auditor:
    """The state of one audit: places by the number of their site, findings by place and rule."""

    def __init__(self, names: set[str] | None = None) -> None:
        wanted = [kind for kind in RULES if (not kind.WEAK if names is None else kind.NAME in names)]
        self.sums: dict[int, Running] = {}  # by site
        self.rules: list[Rule] = [kind(self) for kind in wanted]
        self.places: dict[int, Place] = {}
        self.found: dict[tuple[int, str], Finding] = {}
        self.heard: Callable[[Finding], None] | None = None  # hears of each finding when it is made
        self.step = 1  # one of so many slices of large operands is looked at now
        self.say: Callable[[str], None] = lambda text: None
        self.left_out: set[int] = set()  # sites whose arrays are too large
        self.passes = [0] * 10_000  # by site, of sums and differences of plain numbers
        self.by_operator: dict[str, list[Rule]] = {}
        for rule in self.rules:
            for name in rule.WANTS:
                self.by_operator.setdefault(name, []).append(rule)

    def wants(self) -> frozenset[str]:
        return frozenset(self.by_operator)

    def place(self, site: int) -> Place:
        found = self.places.get(site)
        if found is None:
            found = self.places[site] = Place(sites[site])
        return found

    def report(self, rule: Rule, site: int, headline: str, weight: float, **more: Any) -> Finding | None:
        """A finding at a place; the first one of a rule there stands, later ones are counted."""
        place = self.place(site)
        place.times[rule.NAME] = place.times.get(rule.NAME, 0) + 1
        key = (site, rule.NAME)
        if key in self.found or len(self.found) >= MOST:
            return self.found.get(key)
        made = Finding(rule.NAME, headline, weight, place, **more)
        if self.step > 1:  # numbers of cells are those of the part
            made.headline += f" One of every {self.step} slices of the array was looked at."
            made.evidence, made.cell = {**made.evidence, "looked at": f"1 of {self.step} slices"}, None
        frame = self.user_frame()
        if frame is not None:
            made.function, made.loops = stack.function_name(frame), loops_of(frame)
            made.at_pass = pass_of(frame)
        self.found[key] = made
        if self.heard is not None:
            self.heard(made)
        return made

    def not_looked_at(self, site: int, cells: int) -> None:
        """Say once of a place that its arrays are too large for the rules."""
        if site not in self.left_out:
            self.left_out.add(site)
            place = self.place(site)
            text = " ".join(place.text.split())[:80]
            self.say(f"Not looked at: {text} in {place_words(place.file, place.line)}, with {cells:,} cells.")

    def has(self, rule: Rule, site: int) -> bool:
        """Count one more time of what was found already; False where it is new."""
        if (site, rule.NAME) not in self.found:
            return False
        self.place(site).times[rule.NAME] += 1
        return True

    def report_at(
        self, rule: Rule, file: SourceFile, at: Position, headline: str, weight: float, **more: object
    ) -> None:
        """A finding at a place that has no probe."""
        self.report(rule, sites.add(file, at, at, "audit"), headline, weight, **more)

    def present_pass(self) -> int:
        """The pass of the innermost loop around the calculation under way."""
        frame = self.user_frame()
        return pass_of(frame) if frame is not None else 0

    def value_of(self, name: str) -> object:
        """What a name stands for in the user's call under way; None where it is not known."""
        frame = self.user_frame()
        if frame is None:
            return None
        names = locals_of(frame)
        return names[name] if name in names else frame.f_globals.get(name)

    def drop(self, rule: Rule, site: int) -> None:
        self.found.pop((site, rule.NAME), None)

    @staticmethod
    def user_frame() -> types.FrameType | None:
        """The user's call under way."""
        frame: types.FrameType | None = sys._getframe(1)
        while frame is not None and file_of(frame) is None:
            frame = frame.f_back
        return frame

    def forked(self) -> None:
        """In a forked process: what was found and counted before is left to the process that has forked it."""
        for place in self.places.values():
            place.before = dict(place.times)
        self.found.clear()
        self.sums.clear()
        self.passes[:] = [0] * len(self.passes)
        for rule in self.rules:
            with_care(rule.forked)

    def findings(self) -> list[Finding]:
        """The causes, the weightiest first, with what follows from each; what a rule knows at the end only is added."""
        for rule in self.rules:
            with_care(rule.finish)
        found = sorted(self.found.values(), key=lambda f: (-f.weight, f.place.file, f.place.line))
        return with_care(grouped, found) or found
