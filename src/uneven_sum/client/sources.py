"""The texts of source files, of notebooks their sheets; and how a line of one is called."""

from __future__ import annotations

import io
import os
import re
import tokenize
import zlib
from pathlib import Path

from ..host.launch import BadUse
from ..notebooks import files, magics, sheet
from ..notebooks.patch import patched

PLACE = re.compile(r"(?:(?P<file>(?!cell \d+:\d+$).+?):)?(?:cell (?P<cell>\d+)(?:, line |:))?(?P<line>\d+)$")


def decoded(data: bytes) -> str:
    """Source bytes as text: by cookie or BOM, line ends made one."""
    try:
        encoding, _ = tokenize.detect_encoding(io.BytesIO(data).readline)
        text = data.decode(encoding)
    except (SyntaxError, UnicodeDecodeError, LookupError):
        text = data.decode("utf-8", "replace")
    return text.replace("\r\n", "\n").replace("\r", "\n")


def encoded(text: str) -> bytes:
    """A source text as bytes, by the cookie in it."""
    data = text.encode()
    try:
        encoding, _ = tokenize.detect_encoding(io.BytesIO(data).readline)
        return text.encode(encoding)
    except (SyntaxError, UnicodeEncodeError, LookupError):
        return data


def with_text(path: str, file: Path, text: str) -> bytes:
    """What a file holds with another text; a notebook keeps all but that."""
    return patched(file.read_bytes(), text) if files.is_notebook(path) else encoded(text)


def text_in(path: str, data: bytes) -> str:
    """The text of a file that holds `data`; empty for a notebook that is damaged."""
    if not files.is_notebook(path):
        return decoded(data)
    try:
        return files.sheet(data)[0]
    except ValueError:
        return ""


def python_in(path: str, data: bytes) -> str:
    """The text of a file as Python: of a notebook with its magics replaced, line for line."""
    if not files.is_notebook(path):
        return decoded(data)
    try:
        return magics.python_of(*files.sheet(data))[0]
    except ValueError:
        return ""


def python_of(path: str) -> str:
    """The text of a file as Python; empty where it cannot be read."""
    try:
        with open(path, "rb") as f:
            return python_in(path, f.read())
    except OSError:
        return ""


def as_python(path: str, text: str) -> str:
    """A file's text, as it is shown, as Python."""
    return magics.python_of(text, sheet.places_in_script(text))[0] if files.is_notebook(path) else text


def print_of(path: str, data: bytes) -> int:
    """What distinguishes a text of a file from another one: a CRC-32, of a notebook's text."""
    return zlib.crc32(text_in(path, data).encode() if files.is_notebook(path) else data)


def _sheet_of(path: str) -> tuple[str, list[sheet.Place]]:
    """The text and the cells of a notebook; read again when the file has changed.  OSError, ValueError."""
    found = os.stat(path)
    stamp = found.st_mtime_ns, found.st_size, found.st_ino
    known = _sheets.get(path)
    if known is None or known[0] != stamp:
        with open(path, "rb") as f:
            known = _sheets[path] = stamp, *files.sheet(f.read())
    return known[1], known[2]


_sheets: dict[str, tuple[tuple[int, int, int], str, list[sheet.Place]]] = {}  # of notebooks, by path


def text_of(path: str) -> str:
    """The text of a file; empty where it cannot be read."""
    try:
        if files.is_notebook(path):
            return _sheet_of(path)[0]
        with open(path, "rb") as f:
            return text_in(path, f.read())
    except (OSError, ValueError):
        return ""


def lines_of(path: str) -> list[str]:
    """A source file's lines; none when it cannot be read."""
    text = text_of(path)
    return text.removesuffix("\n").split("\n") if text else []


def cells_of(path: str, text: str | None = None) -> list[sheet.Place]:
    """The cells of a notebook, or of a script with cells; none where there are none.  `text`: of a script, as a run
    has it."""
    try:
        if files.is_notebook(path):
            return _sheet_of(path)[1]
        return sheet.places_in_script(text_of(path) if text is None else text)
    except (OSError, ValueError):
        return []


def place_words(path: str, line: int) -> str:
    """`line 12`; of a notebook `cell 7, line 2`."""
    if files.is_notebook(path):
        cell = sheet.place_of(cells_of(path), line)
        if cell is not None:
            return f"cell {cell.number}, line {max(1, line - cell.first + 1)}"
    return f"line {line}"


def line_in_cell(path: str, number: int, line: int) -> int:
    """The line of a text that is line `line` of cell `number`.  BadUse where there is none."""
    cells = cells_of(path)
    name = os.path.basename(path)
    if not cells:
        raise BadUse(f"{name} has no cells. Give a line.")
    cell = next((one for one in cells if one.number == number), None)
    if cell is None:
        raise BadUse(f"{name} has no cell {number}: it has {len(cells)}.")
    lines = max(cell.last - cell.first + 1, 1)
    if not 1 <= line <= lines:
        raise BadUse(f"Cell {number} of {name} has no line {line}: it has {lines}.")
    return cell.first + line - 1


def read_place(text: str) -> tuple[str, int, int] | None:
    """A file (empty: the script's own), a cell (0: none) and a line, from `[FILE:]LINE` or `[FILE:]cell K:LINE`;
    None where the text is neither."""
    found = PLACE.match(text.strip())
    return (found["file"] or "", int(found["cell"] or 0), int(found["line"])) if found is not None else None


def with_cells(told: object) -> object:
    """A JSON report with the cell of a notebook, or of a script with cells, beside each line.  A finding's
    `cell` is a place in an array already: there it is `in_cell`."""
    return _with_cells(told, "", {})


def _with_cells(told: object, file: str, known: dict[str, list[sheet.Place]]) -> object:
    if isinstance(told, list):
        return [_with_cells(one, file, known) for one in told]
    if not isinstance(told, dict):
        return told
    file = told["file"] if isinstance(told.get("file"), str) and told["file"] else file
    made: dict[str, object] = {}
    for key, value in told.items():
        made[key] = _with_cells(value, file, known)
        if key == "line" and type(value) is int and value > 0 and file:
            if file not in known:
                known[file] = cells_of(file)
            cell = sheet.place_of(known[file], value)
            if cell is not None:
                name = "in_cell" if "cell" in told else "cell"
                made[name] = {"number": cell.number, "id": cell.id, "line": max(1, value - cell.first + 1)}
    return made


def around(path: str, lines: list[str], first: int, last: int, many: int) -> list[tuple[int, str, str]]:
    """The lines around some, each with the number that it has, as the user counts: of a notebook in its cell, whose
    mark says which it is."""
    found = [(n, f"{n}", lines[n - 1]) for n in range(max(1, first - many), min(len(lines), last + many) + 1)]
    cell = sheet.place_of(cells_of(path), first) if files.is_notebook(path) else None
    if cell is None:
        return found
    kept = [(n, str(n - cell.first + 1), text) for n, _, text in found if cell.first <= n <= cell.last]
    return [(cell.mark, "", cell_words(cell)), *kept]


def cell_words(cell: sheet.Place) -> str:
    """`cell 7 · In [12] · daily outflow`, as a cell's rule says it."""
    parts = [f"cell {cell.number}"]
    if cell.kind != "code":
        parts.append("text" if cell.kind == "markdown" else cell.kind)
    if cell.count:
        parts.append(f"In [{cell.count}]")
    if cell.title:
        parts.append(cell.title)
    return " · ".join(parts)


def short_place(path: str, line: int) -> str:
    """`model.py:12`; of a notebook `model.ipynb cell 7:2`."""
    name = os.path.basename(path)
    words = place_words(path, line)
    return f"{name}:{line}" if words.startswith("line") else f"{name} {words.replace(', line ', ':')}"
