"""A notebook as one text with lines, and where its cells are in it.

Everything that goes by lines (breakpoints, pauses, terms, ledgers) goes by the lines of this text.  Each cell stands
under a line that marks it, as in a script with cells; a blank line ends it.  What a user reads is the cell and the
line in it: see `places`.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from .cells import KINDS, MARK, TEXT, Cell, commented, uncommented


@dataclass(frozen=True)
class Place:
    """A cell in a text.  `number`: its position, from 1.  `first`, `last`: lines of the text that are the cell's
    (`last` is before `first` where it is empty).  `count`: its execution count in the file, 0 for none."""

    number: int
    kind: str
    first: int
    last: int
    id: str = ""
    count: int = 0
    title: str = ""

    @property
    def mark(self) -> int:
        """The line that marks the cell."""
        return self.first - 1


def sheet_of(cells: Sequence[Cell]) -> tuple[str, list[Place]]:
    """The text of a notebook, and the places of its cells."""
    lines: list[str] = []
    places = []
    for number, cell in enumerate(cells, 1):
        lines.append(_mark(cell))
        body = _shown(cell)
        places.append(Place(number, cell.kind, len(lines) + 1, len(lines) + len(body), cell.id, cell.count, cell.title))
        lines += [*body, ""]
    return "\n".join(lines), places


def cells_in_sheet(text: str) -> list[Cell]:
    """The cells of such a text, exactly; what is before the first mark is a cell, too, unless it is blank."""
    found: list[Cell] = []
    kind, title, lines = "code", "", list[str]()
    marked = False

    def end() -> None:
        body = lines[:-1] if lines and not lines[-1] else lines
        if marked or any(line.strip() for line in body):
            source = "\n".join(body)
            found.append(Cell(kind, uncommented(source) if kind != "code" else _bare(source), title))

    for line in text.split("\n"):
        mark = MARK.match(line)
        if mark is None:
            lines.append(line)
            continue
        end()
        kind, title, marked = KINDS.get(mark["kind"] or "", "code"), mark["title"] or "", True
        lines = []
    end()
    return found


def places_in_script(text: str) -> list[Place]:
    """The cells of a script; none where no line of it marks one."""
    lines = text.split("\n")
    marks = [(n, m) for n, line in enumerate(lines, 1) if (m := MARK.match(line))]
    if not marks:
        return []
    starts = [(n + 1, KINDS.get(m["kind"] or "", "code"), m["title"] or "") for n, m in marks]
    if any(line.strip() for line in lines[: marks[0][0] - 1]):
        starts.insert(0, (1, "code", ""))
    ends = [first - 2 for first, _, _ in starts[1:]] + [len(lines)]
    found = []
    for number, ((first, kind, title), last) in enumerate(zip(starts, ends), 1):
        while last >= first and not lines[last - 1].strip():
            last -= 1
        found.append(Place(number, kind, first, last, title=title))
    return found


def place_of(places: Sequence[Place], line: int) -> Place | None:
    """The cell that a line is in; its mark and the blank lines after it are its, too."""
    found = None
    for place in places:
        if place.mark > line and place.first > line:
            break
        found = place
    return found


def _mark(cell: Cell) -> str:
    kind = f" [{cell.kind}]" if cell.kind != "code" else ""
    return f"# %%{kind} {' '.join(cell.title.split())}".rstrip()


def _shown(cell: Cell) -> list[str]:
    if not cell.source:
        return []
    if cell.kind != "code":
        return commented(cell.source).split("\n")
    return [TEXT + s if MARK.match(s) or s.startswith(TEXT) else s for s in cell.source.split("\n")]


def _bare(source: str) -> str:
    return "\n".join(line.removeprefix(TEXT) for line in source.split("\n"))
