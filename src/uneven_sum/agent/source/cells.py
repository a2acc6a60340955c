"""The cells of a notebook that runs: its text as it is shown, and the Python that is compiled for it.

Both have the same lines, so that every place is one of the text shown.
"""

from __future__ import annotations

import ast
import importlib.util
from bisect import bisect_right
from dataclasses import dataclass
from typing import Any

from ..core.records import record
from ..core.trees import walk

HISTORY = ("_", "__", "___", "_i", "In", "Out")


@dataclass(frozen=True)
class Cell:
    """`first`, `last`: lines of the text that are the cell's; `count`: its execution count in the file, 0 for none."""

    number: int
    kind: str
    first: int
    last: int
    id: str = ""
    count: int = 0

    def told(self, line: int) -> dict[str, object]:
        return {"number": self.number, "id": self.id, "line": max(1, line - self.first + 1)}


@record
class Cells:
    """One notebook.  `left_out`: number of a cell, and what of it does not run."""

    text: str
    cells: list[Cell]
    python: str
    left_out: list[tuple[int, str]]
    start: int = 0  # the number of the cell with which the next run of the module begins; 0: the first

    def __post_init__(self) -> None:
        self.firsts = [cell.first - 1 for cell in self.cells]
        self.by_number = {cell.number: cell for cell in self.cells}
        self.lines = self.text.split("\n")
        lines = self.python.split("\n")
        for cell in self.code:
            here = slice(cell.first - 1, cell.last)
            if not _is_python(lines[here]) and not self.lines[cell.first - 1].startswith("%%"):
                lines[here] = _as_ipython_reads(self.lines[here]) or lines[here]
        self.python = "\n".join(lines)

    @property
    def code(self) -> list[Cell]:
        return [cell for cell in self.cells if cell.kind == "code" and cell.last >= cell.first]

    def of(self, number: int) -> Cell:
        return self.by_number[number]

    def source(self, number: int) -> str:
        cell = self.of(number)
        return "\n".join(self.lines[cell.first - 1 : cell.last])

    def from_start(self, body: list[ast.stmt]) -> list[ast.stmt]:
        """The statements of a module from the first cell that is to run; imports from `__future__` stay."""
        if not self.start:
            return body
        first = self.of(self.start).first
        return [s for s in body if s.lineno >= first or s.lineno < self.cells[0].first]

    def uses_history(self) -> bool:
        """Whether cells read `_`, `In` or `Out`, which they do not assign themselves."""
        names = [n for n in walk(ast.parse(self.python)) if isinstance(n, ast.Name)]
        own = {n.id for n in names if not isinstance(n.ctx, ast.Load)}
        return any(n.id in HISTORY and n.id not in own for n in names)

    def place_words(self, line: int) -> str:
        """`cell 7, line 2`."""
        cell = self.at(line)
        return f"cell {cell.number}, line {max(1, line - cell.first + 1)}" if cell is not None else f"line {line}"

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
        lines, found = self.lines, {}
        for cell, s in last.values():
            if isinstance(s, ast.If) and lines[s.lineno - 1].lstrip().startswith("%time ") and len(s.body) == 1:
                s = s.body[0]
            if isinstance(s, ast.Expr) and s.end_lineno and s.end_col_offset is not None:
                after = lines[s.end_lineno - 1].encode()[s.end_col_offset :].decode(errors="replace")
                if not after.lstrip().startswith(";"):
                    found[id(s)] = cell
        return found


def _is_python(lines: list[str]) -> bool:
    try:
        ast.parse("\n".join(lines))
    except (SyntaxError, ValueError, RecursionError, MemoryError):
        return False
    return True


def _as_ipython_reads(given: list[str]) -> list[str] | None:
    """As the interpreter's own IPython reads a cell, without its shell; None where it is not there, or where it does
    not keep the lines."""
    try:
        if importlib.util.find_spec("IPython") is None:
            return None
        from IPython.core.inputtransformer2 import TransformerManager  # type: ignore[import-not-found]  # the script's

        lines = str(TransformerManager().transform_cell("\n".join(given))).removesuffix("\n").split("\n")
    except Exception:  # another version's, or one that does not import
        return None
    lines += [""] * (len(given) - len(lines))
    return lines if len(lines) == len(given) and _is_python(lines) else None


known: dict[str, Cells] = {}  # by the file name that the notebook's code has


def note(path: str, told: dict[str, Any]) -> Cells:
    """Take up the cells of a notebook as the host has read them."""
    cells = [Cell(*one) for one in told["cells"]]
    left_out = [(int(number), str(what)) for number, what in told["leftOut"]]
    found = known[path] = Cells(str(told["text"]), cells, str(told["python"]), left_out)
    return found


def place_words(path: str, line: int) -> str:
    """`line 12`; of a notebook `cell 7, line 2`."""
    return known[path].place_words(line) if path in known else f"line {line}"
