"""A place whose values differ, in words and figures: its entry in the list, both values, how the difference grew."""

from __future__ import annotations

from dataclasses import dataclass

from rich.text import Text

from ...client.differing.comparing import Difference, Differing
from ...client.differing.runs import Compared
from ...client.digits.slices import Ways
from ...client.sources import place_words
from ...protocol.messages import Picture, PictureLine
from ...safe_text import cut
from ..plotting.pictures import curves
from ..shell.theme import Palette

WIDEST = 46  # columns of a term
VALUE = 40  # of a value
LINES = 2  # of the output before the one that differs


@dataclass
class Row:
    """A difference of the list: of values at a place, or of the paths."""

    difference: Difference
    at: Differing | None = None

    @property
    def only(self) -> bool:
        """Only one of the runs comes to the place."""
        return self.difference.a is self.difference.b


def rows(found: Compared) -> list[Row]:
    """The place where they first differ, the others in the order in which they came, the paths."""
    path = found.comparer.first_path
    values = [Row(d.first, d) for d in sorted(found.comparer.course.values(), key=lambda d: d.record)]
    paths = [Row(path)] if path is not None else []
    return [*paths, *values] if path is not None and path is found.first else [*values, *paths]


def origin(found: Compared, rows: list[Row], row: Row) -> Row | None:
    """The first difference among what a value is made from, as the text says; None where it begins here."""
    if row.at is None:
        return None
    place = row.difference.a.place
    ways = Ways(found.comparer.matching.text(0, place.file))
    start = ways.node_at(place)
    within = ways.made_from(start) if start is not None else set()
    for other in rows:  # in the order in which they first differ
        if other.at is not None and other.at.record < row.at.record and other.difference.a.place.file == place.file:
            if id(ways.node_at(other.difference.a.place)) in within:
                return other
    return None


def side_of(found: Compared, row: Row) -> int:
    """Of a place that one run alone comes to: which."""
    return 0 if row.difference.a.place in found.comparer.matching.at[0].values() else 1


def entry(found: Compared, row: Row, p: Palette, width: int) -> Text:
    """One line: the place in the first text, the term, by how much."""
    met = row.difference.a
    side = side_of(found, row) if row.only else 0
    term = cut(found.term(side, met.place), WIDEST)
    word, colour = ("path", p.warning) if row.difference.path else ("value", p.error)
    out = Text()
    out.append(f"{word:<9}", f"bold {colour}")
    out.append(f"{met.place.line:>5}  ", p.quiet)
    out.append(f"{term:<{WIDEST}}  ", p.text)
    if row.at is not None:
        largest, first = row.at.largest.size, row.difference
        by = "" if largest is None else f"by up to {largest:.3g} of its size, "
        more = f"{row.at.count:,} times" if row.at.count > 1 else "once"
        more += f", first in {first.a.when}" if first.a.loop is not None else ""
        out.append(cut(by + more, max(10, width - 64)), p.quiet)
    elif row.only:
        out.append("one run alone comes here", p.quiet)
    else:
        out.append("the runs take different paths from here on", p.quiet)
    return out


def values(found: Compared, row: Row, p: Palette) -> Text:
    """Both values of the first and of the largest difference beside each other."""
    out = Text()
    shown = [("first", row.difference)]
    if row.at is not None and row.at.largest is not row.difference:
        shown.append(("largest", row.at.largest))
    for title, one in shown:
        pass_ = f", {one.a.when}" if one.a.when else ""
        by = f", by {one.size:.3g} of its size" if one.size is not None else ""
        out.append(("\n\n" if out else "") + f"{title} difference{pass_}{by}\n", f"bold {p.quiet}")
        for side, met in enumerate((one.a, one.b)):
            if row.only and side != side_of(found, row):
                continue
            words = place_words(met.place.file, met.place.line)
            place = f"line {met.place.line:>5}" if words.startswith("line") else words
            out.append(f"{'left ' if side == 0 else 'right'}  {place}  ", p.quiet)
            out.append(cut(met.text, VALUE), p.text)
            if side == 0 and not row.only:
                out.append("\n")
    if found.line is not None:
        out.append("\n\noutput, first line that differs\n", f"bold {p.quiet}")
        for side, line in enumerate((found.line.a, found.line.b)):
            out.append(f"{'left ' if side == 0 else 'right'}  line {found.line.number:>5}  ", p.quiet)
            out.append("(no such line)" if line is None else cut(line, VALUE), p.text)
            out.append("\n" if side == 0 else "")
    return out


def growth(row: Row, p: Palette) -> Text:
    """The relative difference by pass, as a curve."""
    if row.at is None or len(row.at.course.values) < 2:
        return Text("")
    known: list[float | None] = list(row.at.course.values)
    of = Picture("", lines=[PictureLine("difference", known, known)], size=len(known) * row.at.course.step, first=1)
    out = Text("difference by pass, relative to the value\n", f"bold {p.quiet}")
    out.append_text(curves(of, p))
    return out


def headline(found: Compared, stopped: bool) -> Text:
    """What comparing has shown, in a sentence or two."""
    comparer = found.comparer
    if found.equal:
        until = "until you ended the runs" if stopped else "to the end"
        near = (
            f" {comparer.near:,} differ within the tolerance, by up to {comparer.nearest:.3g}." if comparer.near else ""
        )
        return Text(f"The runs are equal {until}: {comparer.records:,} values at {comparer.places:,} places.{near}")
    parts = []
    first = found.first
    if first is not None and first.path:
        parts.append("The runs take different paths." if first.a is not first.b else "One run goes on alone.")
    elif first is not None:
        by = f", by {first.size:.3g} of its size" if first.size is not None else ""
        parts.append(f"The values first differ in {place_words(first.a.place.file, first.a.place.line)}{by}.")
    elif found.line is not None:
        parts.append(f"The values agree, and line {found.line.number} of the output differs.")
    else:
        parts.append("The values agree, and the runs end otherwise.")
    if comparer.near:
        parts.append(f"{comparer.near:,} values before differ within the tolerance, by up to {comparer.nearest:.3g}.")
    if found.why:
        parts.append(found.why)
    if found.a.ended != found.b.ended:
        parts.append(f"The left one ended {found.a.ended or 'early'}, the right one {found.b.ended or 'early'}.")
    if comparer.lost:
        parts.append("They do not meet again; what comes after is not compared.")
    return Text(" ".join(parts))
