"""The cells of a notebook that runs: its text as it is shown, and the Python that is compiled for it.

Both have the same lines, so that every place is one of the text shown.
"""

from __future__ import annotations

import ast
from bisect import bisect_right
from dataclasses import dataclass, field
from typing import Any

from . import magics

FUTURE = "from __future__ import "


@dataclass(frozen=True)
class Cell:
    """`first`, `last`: lines of the text that are the cell's; `count`: its execution count in the file, 0 for none."""

    number: int
    kind: str
    first: int
    last: int
    id: str = ""
    count: int = 0

    def told(self, line: int) -> dict[str, Any]:
        return {"number": self.number, "id": self.id, "line": max(1, line - self.first + 1)}


@dataclass
class Cells:
    """One notebook.  `left_out`: number of a cell, and what of it does not run."""

    text: str
    cells: list[Cell]
    python: str = ""
    left_out: list[tuple[int, str]] = field(default_factory=list)

    def __post_init__(self) -> None:
        lines = self.text.split("\n")
        made = [""] * len(lines)
        futures = []
        for cell in self.code:
            read = magics.read("\n".join(lines[cell.first - 1 : cell.last]))
            self.left_out += [(cell.number, what) for what in read.left_out]
            for n, line in enumerate(read.lines):
                if line.startswith(FUTURE) and "(" not in line:  # may stand at the beginning of a file only
                    futures.append(line.partition("#")[0].strip())
                    line = "pass"
                made[cell.first - 1 + n] = line
        if futures and made:
            made[0] = "; ".join(futures)
        self.python = "\n".join(made)
        self.firsts = [cell.first - 1 for cell in self.cells]

    @property
    def code(self) -> list[Cell]:
        return [cell for cell in self.cells if cell.kind == "code" and cell.last >= cell.first]

    def at(self, line: int) -> Cell | None:
        """The cell that a line is in; its mark is its, too."""
        n = bisect_right(self.firsts, line)
        return self.cells[n - 1] if n else None

    def begins(self, tree: ast.Module) -> dict[int, Cell]:
        """By the identity of a top-level statement: the cell that begins with it."""
        found: dict[int, Cell] = {}
        seen = set()
        for s in tree.body:
            cell = self.at(s.lineno)
            if cell is not None and s.lineno >= cell.first and cell.number not in seen:
                seen.add(cell.number)
                found[id(s)] = cell
        return found

    def shown(self, tree: ast.Module) -> dict[int, Cell]:
        """By the identity of an expression's statement: the cell whose output its value is."""
        last: dict[int, tuple[Cell, ast.stmt]] = {}
        for s in tree.body:
            cell = self.at(s.lineno)
            if cell is not None:
                last[cell.number] = cell, s
        lines = self.text.split("\n")
        found = {}
        for cell, s in last.values():
            if isinstance(s, ast.If) and lines[s.lineno - 1].lstrip().startswith("%time ") and len(s.body) == 1:
                s = s.body[0]
            if isinstance(s, ast.Expr) and s.end_lineno and s.end_col_offset is not None:
                after = lines[s.end_lineno - 1].encode()[s.end_col_offset :].decode(errors="replace")
                if not after.lstrip().startswith(";"):
                    found[id(s)] = cell
        return found


known: dict[str, Cells] = {}  # by the file name that the notebook's code has


def note(path: str, told: dict[str, Any]) -> Cells:
    """Take up the cells of a notebook as the host has read them."""
    cells = [Cell(*one) for one in told["cells"]]
    found = known[path] = Cells(str(told["text"]), cells)
    return found


def place_words(path: str, line: int) -> str:
    """`line 12`; of a notebook `cell 7, line 2`."""
    cell = known[path].at(line) if path in known else None
    return f"cell {cell.number}, line {max(1, line - cell.first + 1)}" if cell is not None else f"line {line}"
