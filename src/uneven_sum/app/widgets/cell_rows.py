"""Cells in the sheet: a rule above each, numbers within them, texts and outputs folded."""

from __future__ import annotations

from bisect import bisect_right

from ...client.sources import cell_words, cells_of
from ...notebooks.files import is_notebook
from ...notebooks.sheet import Place, places_in_script

MOST_OUTPUT = 400  # lines of an output that are shown when it is unfolded


class CellRows:
    """Of the text in a sheet; without cells it changes nothing.  `outputs`, `notes`: by the number of a cell."""

    def __init__(self) -> None:
        self.lines: list[str] = []
        self.places: list[Place] = []
        self.firsts: list[int] = []
        self.counted = False  # lines are counted in their cell
        self.unfolded: set[int] = set()
        self.outputs: dict[int, list[str]] = {}
        self.notes: dict[int, str] = {}

    def take_text(self, path: str, lines: list[str]) -> None:
        self.lines = lines
        text = "\n".join(lines)
        self.counted = is_notebook(path)
        self.places = places_in_script(text)
        if self.counted:  # what the text does not have: counts and ids
            known = cells_of(path)
            if [one.first for one in known] == [one.first for one in self.places]:
                self.places = known
        self.firsts = [one.first - 1 for one in self.places]
        self.outputs, self.notes, self.unfolded = {}, {}, set()

    def at(self, line: int) -> Place | None:
        """The cell that a line, or the rule above, belongs to."""
        n = bisect_right(self.firsts, line)
        return self.places[n - 1] if n else None

    def label(self, line: int) -> str:
        """The number of a line as the user counts."""
        cell = self.at(line) if self.counted else None
        if cell is None:
            return str(line)
        return str(line - cell.first + 1) if cell.first <= line <= cell.last else ""

    def rule(self, line: int) -> tuple[str, str] | None:
        """The words of the rule that a line is shown as, and what is to be said of the cell's runs."""
        cell = self.at(line)
        if cell is None or line != cell.mark:
            return None
        return cell_words(cell), self.notes.get(cell.number, "")

    def text_of(self, line: int) -> str | None:
        """A line of a text cell without the sign that makes it a comment; None for other lines."""
        cell = self.at(line) if self.counted else None
        if cell is None or cell.kind == "code" or not cell.first <= line <= cell.last:
            return None
        text = self.lines[line - 1].removeprefix("#").removeprefix(" ")
        more = cell.last - cell.first
        folded = line == cell.first and more and cell.number not in self.unfolded
        return f"{text}   … {more} more" if folded else text

    def is_folded(self, line: int) -> bool:
        """Whether a line is hidden: of a text its first line stays."""
        cell = self.at(line) if self.counted else None
        if cell is None or cell.kind == "code" or cell.number in self.unfolded:
            return False
        return cell.first < line <= cell.last

    def fold(self, line: int) -> bool:
        cell = self.at(line)
        if cell is None:
            return False
        self.unfolded ^= {cell.number}
        return True

    def visible(self, line: int, by: int) -> int:
        """The next line in a direction that is not folded."""
        cell = self.at(line)
        if cell is None or not self.is_folded(line):
            return line
        return cell.first if by < 0 else cell.last + 1

    def outputs_after(self, line: int) -> list[str]:
        """The output under the last line of a cell: its first line, or all."""
        cell = self.at(line)
        if cell is None or line != max(cell.last, cell.mark):
            return []
        lines = self.outputs.get(cell.number, [])
        if len(lines) > 1 and cell.number not in self.unfolded:
            return [f"{lines[0]}   … {len(lines) - 1} more"]
        more = [f"… {len(lines) - MOST_OUTPUT} more"] if len(lines) > MOST_OUTPUT else []
        return [*lines[:MOST_OUTPUT], *more]
