"""The texts of source files, of notebooks their sheets; and how a line of one is called."""

from __future__ import annotations

import io
import os
import tokenize

from ..notebooks import files, sheet


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


def text_in(path: str, data: bytes) -> str:
    """The text of a file that holds `data`; empty for a notebook that is damaged."""
    if not files.is_notebook(path):
        return decoded(data)
    try:
        return files.sheet(data)[0]
    except ValueError:
        return ""


def text_of(path: str) -> str:
    """The text of a file; empty where it cannot be read."""
    try:
        with open(path, "rb") as f:
            return text_in(path, f.read())
    except OSError:
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
            with open(path, "rb") as f:
                return files.sheet(f.read())[1]
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


def short_place(path: str, line: int) -> str:
    """`model.py:12`; of a notebook `model.ipynb cell 7:2`."""
    name = os.path.basename(path)
    words = place_words(path, line)
    return f"{name}:{line}" if words.startswith("line") else f"{name} {words.replace(', line ', ':')}"
