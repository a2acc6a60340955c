"""The lookouts, tripwire switches, accepted places and stepping list of one case, as a front end keeps them."""

from __future__ import annotations

import os
from dataclasses import dataclass, field

from ..protocol import TRIPS, Lookout, Placed, Switches
from .events import Unwatched
from .placing import follow
from .sentences import badge, changed
from .sources import lines_of
from .verify import Result


@dataclass
class Kept:
    """One lookout with what is known of it."""

    lookout: Lookout
    met: int = 0
    message: str = ""
    verified: bool = True


@dataclass
class Book:
    """Lookouts by number; whoever changes it sends `wanted()` to the script."""

    kept: dict[int, Kept] = field(default_factory=dict)
    switches: Switches = field(default_factory=Switches)
    accepted: list[tuple[str, int]] = field(default_factory=list)
    accepted_as: list[str] = field(default_factory=list)  # `calls of f`, `values of x`: wherever they stand
    unread: dict[str, list[object]] = field(default_factory=dict)  # entries of the case file that are kept as they are
    over: list[str] = field(default_factory=list)
    recorded: list[tuple[str, int]] = field(default_factory=list)  # heads of loops whose passes are kept
    always: bool = False  # every loop of the user's code
    counting: bool = False  # how often each line runs
    results: list[Result] = field(default_factory=list)  # what is verified at the end of each run
    formats: dict[str, str] = field(default_factory=dict)  # of numbers: expression (empty: in general) -> style, digits
    removed: list[list[Kept]] = field(default_factory=list)  # what an undo brings back, latest last
    later: list[tuple[str, int]] = field(default_factory=list)  # breakpoints in a text that is not saved yet
    texts: dict[str, list[str]] = field(default_factory=dict)  # the files as they were when lookouts were placed

    def wanted(self) -> list[Lookout]:
        return [k.lookout for k in self.kept.values()]

    def add(self, lookout: Lookout) -> int:
        """Keeps a lookout under the first free number."""
        number = lookout.id or max(self.kept, default=0) + 1
        self.kept[number] = Kept(changed(lookout, id=number))
        self._remember(lookout.file)
        return number

    def record(self, path: str, line: int) -> None:
        self.recorded.append((path, line))
        self._remember(path)

    def edit(self, number: int, lookout: Lookout) -> None:
        before = self.kept[number]
        same = changed(lookout, id=number, on=before.lookout.on) == before.lookout
        self.kept[number] = Kept(changed(lookout, id=number), before.met if same else 0)
        self._remember(lookout.file)

    def remove(self, numbers: list[int]) -> None:
        """Removes some; `undo` brings them back together."""
        gone = [self.kept.pop(n) for n in numbers if n in self.kept]
        if gone:
            self.removed.append(gone)

    def undo(self) -> int:
        """Brings back what was removed last; how many."""
        if not self.removed:
            return 0
        back = self.removed.pop()
        for kept in back:
            self.kept[kept.lookout.id] = kept
        self.kept = dict(sorted(self.kept.items()))
        return len(back)

    def switch(self, number: int, on: bool) -> None:
        kept = self.kept[number]
        kept.lookout = changed(kept.lookout, on=on)

    def at_line(self, path: str, line: int) -> list[Kept]:
        places = ("line", "element", "lambda")
        return [
            k
            for k in self.kept.values()
            if k.lookout.where in places and _same(k.lookout.file, path) and k.lookout.line == line
        ]

    def toggle(self, path: str, line: int) -> bool:
        """A plain breakpoint on, or what is at the line off; True when something was added."""
        found = self.at_line(path, line)
        if found:
            self.remove([k.lookout.id for k in found])
            return False
        self.add(Lookout(file=path, line=line))
        return True

    def placed(self, told: list[Placed]) -> list[str]:
        """Takes up what became of each; the messages that are new."""
        news = []
        for one in told:
            kept = self.kept.get(one.id)
            if kept is None:
                continue
            if one.line and one.verified:
                kept.lookout = changed(kept.lookout, line=one.line)
            if one.message and one.message != kept.message:
                news.append(one.message)
            kept.message, kept.verified, kept.met = one.message, one.verified, max(kept.met, one.met)
        return news

    def left_alone(self, found: Unwatched) -> None:
        """Lookouts in what runs without probes say so."""
        for kept in self.kept.values():
            lk = kept.lookout
            inside = not found.line or found.line <= lk.line <= found.end_line
            if lk.file and _same(lk.file, found.file) and inside:
                kept.message, kept.verified = f"Not watched: {found.why}.", False

    def count(self, met: dict[int, int]) -> None:
        for number, times in met.items():
            if number in self.kept:
                self.kept[number].met = times

    def marks(self, path: str) -> dict[int, tuple[str, bool]]:
        """For the gutter: line -> badge (`if`, `x3`, `log` or nothing) and whether it is on."""
        found: dict[int, tuple[str, bool]] = {}
        for kept in self.kept.values():
            lk = kept.lookout
            if lk.line and _same(lk.file, path):
                on = lk.on and kept.verified
                before = found.get(lk.line)
                found[lk.line] = (badge(lk) or (before[0] if before else ""), on or bool(before and before[1]))
        return found

    # -- edited files --------------------------------------------------------------------------------

    def _remember(self, path: str) -> None:
        if path and path not in self.texts:
            self.texts[path] = lines_of(path)

    def follow_edits(self) -> list[str]:
        """Moves lookouts and accepted places with their lines in files that were edited; a sentence for each
        that is gone (it is kept, unplaced)."""
        lost = []
        for path, old in list(self.texts.items()):
            new = lines_of(path)
            if new == old:
                continue
            for kept in self.kept.values():
                lk = kept.lookout
                if not lk.line or not _same(lk.file, path):
                    continue
                line = follow(old, new, lk.line)
                if line is None:
                    kept.verified = False
                    kept.message = f"Its line {lk.line} is not in {os.path.basename(path)} now; the breakpoint is kept."
                    lost.append(kept.message)
                    kept.lookout = changed(lk, on=False)
                else:
                    kept.lookout = changed(lk, line=line)
            for places in (self.accepted, self.recorded):
                moved = [(f, follow(old, new, n) or 0) if _same(f, path) else (f, n) for f, n in places]
                places[:] = [(f, n) for f, n in moved if n]
            self.texts[path] = new
        wanted, self.later = self.later, []
        for path, line in wanted:
            if not self.at_line(path, line):
                self.add(Lookout(file=path, line=line))
        return lost

    def add_later(self, path: str, lines: list[int]) -> None:
        """Breakpoints by the lines of a text that is about to be saved."""
        self._remember(path)
        self.later = [place for place in self.later if not _same(place[0], path)] + [(path, n) for n in lines]


def switches_for(pause_on: set[str]) -> Switches:
    """The tripwires that a launch's `pause_on` stands for."""
    switches = Switches()
    for name in TRIPS:
        getattr(switches, name).on = name in pause_on
    return switches


def _same(a: str, b: str) -> bool:
    return a == b or (bool(a) and os.path.realpath(a) == os.path.realpath(b))
