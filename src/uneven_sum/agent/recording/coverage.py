"""Which branches were taken, and how often each statement ran.

A mark is one attribute of a constant object: setting it costs a few nanoseconds.  Its name stands among those of the
script's code; it is `None`, which whoever looks through those names leaves out, as `inspect.getclosurevars` does.  The
branches of one decision form a group: one of them has never run when another one has.
"""

from __future__ import annotations

from dataclasses import field

from ..core.records import record
from ..source.source_file import SourceFile

ATTRIBUTE = "None"


class BranchMark:
    """`n`: whether a branch was taken, or how often a statement ran."""

    __slots__ = (ATTRIBUTE,)

    def __init__(self) -> None:
        setattr(self, ATTRIBUTE, 0)

    @property
    def n(self) -> int:
        found: int = getattr(self, ATTRIBUTE)
        return found


@record
class Branch:
    mark: BranchMark
    lines: tuple[int, int] = (0, -1)  # first and last; none for what has no text of its own


@record
class Count:
    """How often a statement was begun: as often as its block, but for the times that one before it has raised."""

    block: BranchMark
    raised: tuple[BranchMark, ...] = ()

    @property
    def n(self) -> int:
        return self.block.n - sum(m.n for m in self.raised)


@record
class Coverage:
    """The marks of one text of a file."""

    groups: list[list[Branch]] = field(default_factory=list)
    counts: dict[int, Count] = field(default_factory=dict)  # by line
    functions: list[tuple[int, BranchMark]] = field(default_factory=list)  # line of the `def`


_numbers: dict[object, int] = {}
all_marks: list[BranchMark] = []
of_file: dict[tuple[str, int], Coverage] = {}


def number_of(file: SourceFile, line: int, column: int, word: str) -> int:
    """The number of the mark at a place of a text: the same whenever the text is rewritten."""
    key = (file.path, file.print, line, column, word)
    if key not in _numbers:
        _numbers[key] = len(all_marks)
        all_marks.append(BranchMark())
    return _numbers[key]


def begin(file: SourceFile) -> Coverage:
    """A file is rewritten: its groups are found again, with the marks that it has."""
    found = of_file[file.path, file.print] = Coverage(counts=of_file.get((file.path, file.print), Coverage()).counts)
    return found


def never_ran(file: SourceFile, ended: bool = False) -> dict[int, str]:
    """`never ran` by the first lines of statements that were not reached while what surrounds them was; at the end of
    the script, `never called` by the lines of functions."""
    marks = of_file.get((file.path, file.print))
    if marks is None:
        return {}
    ranges = []
    for group in marks.groups:
        ran = sum(bool(b.mark.n) for b in group)
        if ran:
            ranges += [b.lines for b in group if not b.mark.n and b.lines[1] >= b.lines[0] > 0]
    found = {}
    if ranges:
        starts = [s.line for s in file.statements]
        found = {line: "never ran" for first, last in ranges for line in starts if first <= line <= last}
    if ended:
        found.update({line: "never called" for line, mark in marks.functions if not mark.n and line not in found})
    return found


def counts(file: SourceFile) -> dict[int, int]:
    """How often each statement ran, by its first line; empty when it is not counted."""
    marks = of_file.get((file.path, file.print))
    return {line: count.n for line, count in marks.counts.items()} if marks is not None else {}
