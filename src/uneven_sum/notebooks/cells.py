"""Scripts with cells: `# %%`, `# %% title`, `#%%`, `# In[3]:` begin one.

In a script that is made from a notebook, text cells are comments, and lines that are no Python (`%matplotlib inline`,
`!ls`) are comments with a mark, so that the way back gives the same cells.
"""

from __future__ import annotations

import ast
import re
from dataclasses import dataclass

MARK = re.compile(r"#\s?%%(?!%)\s*(?:\[(?P<kind>markdown|md|raw)\])?\s*(?P<title>.*?)\s*$|#\s?In\s?\[[\d ]*\]:?\s*$")
MAGIC, TEXT = "# magic: ", "# text: "  # a line that is no Python; a comment that would be taken for a mark
KINDS = {"md": "markdown", "markdown": "markdown", "raw": "raw"}
NO_PYTHON = re.compile(r"\s*[%!]|.*\?\s*$")


@dataclass
class Cell:
    """`kind`: code, markdown or raw; `line`: of its first line in a script, from 1; `id`, `count`: of a notebook's
    cell, its execution count."""

    kind: str
    source: str
    title: str = ""
    line: int = 0
    id: str = ""
    count: int = 0


def cells_of(text: str) -> list[Cell]:
    """The cells of a script; what is before the first mark is one, too."""
    found: list[Cell] = []
    kind, title, begun, lines = "code", "", 1, list[str]()
    marked = False

    def end() -> None:
        source = "\n".join(lines).strip("\n")
        if marked or source.strip():
            body = uncommented(source) if kind != "code" else _as_written(source)
            found.append(Cell(kind, body, title, begun + _blank(lines)))

    for number, line in enumerate(text.split("\n"), 1):
        mark = MARK.match(line)
        if mark is None:
            lines.append(line)
            continue
        end()
        kind, title = KINDS.get(mark["kind"] or "", "code"), mark["title"] or ""
        marked, begun, lines = True, number + 1, []
    end()
    return found


def script_of(cells: list[Cell]) -> str:
    """A script with a mark before each cell."""
    parts = []
    for cell in cells:
        kind = f" [{cell.kind}]" if cell.kind != "code" else ""
        head = f"# %%{kind} {' '.join(cell.title.split())}".rstrip()
        body = commented(cell.source) if cell.kind != "code" else _as_python(cell.source)
        parts.append(f"{head}\n{body}".rstrip("\n") + "\n")
    return "\n".join(parts)


def _blank(lines: list[str]) -> int:
    return next((n for n, line in enumerate(lines) if line.strip()), 0)


def commented(source: str) -> str:
    lines = (f"# {line}" if line else "#" for line in source.split("\n"))
    return "\n".join(TEXT + line if MARK.match(line) or line.startswith(TEXT) else line for line in lines)


def uncommented(source: str) -> str:
    lines = (line.removeprefix(TEXT) for line in source.split("\n"))
    return "\n".join(line[2:] if line.startswith("# ") else line.removeprefix("#") for line in lines)


def _as_python(source: str) -> str:
    """The lines of a code cell; what is no Python is a comment.  A cell magic is none as a whole."""
    whole = source.lstrip().startswith("%%")
    fine = not whole and _is_python(source)
    found = []
    for line in source.split("\n"):
        if whole or (not fine and NO_PYTHON.match(line)):
            found.append(MAGIC + line)
        elif MARK.match(line) or line.startswith((MAGIC, TEXT)):
            found.append(TEXT + line)
        else:
            found.append(line)
    return "\n".join(found)


def _as_written(source: str) -> str:
    marks = (MAGIC, TEXT)
    return "\n".join(
        next((line[len(mark) :] for mark in marks if line.startswith(mark)), line) for line in source.split("\n")
    )


def _is_python(source: str) -> bool:
    """Whether a cell is Python; `await` may stand at its top."""
    try:
        compile(source, "<cell>", "exec", ast.PyCF_ALLOW_TOP_LEVEL_AWAIT | ast.PyCF_ONLY_AST)
    except (SyntaxError, ValueError):
        return False
    return True
