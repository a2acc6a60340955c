"""A notebook as a script with cells, and back."""

from __future__ import annotations

import os

from ..host.launch import BadUse
from ..notebooks import files
from ..notebooks.cells import cells_of, script_of
from .edits import write_whole
from .sources import decoded


def convert(source: str, target: str) -> str:
    """Write a notebook as a script, or a script as a notebook; a sentence that says what was written.

    The target must be new.  BadUse with the reason where nothing was written."""
    if files.is_notebook(source) == files.is_notebook(target):
        raise BadUse("One of the two files must be a notebook (.ipynb), the other a script (.py).")
    if os.path.exists(target):
        raise BadUse(f"{target} is there already. Give another name, or remove it first.")
    if files.is_notebook(source):
        try:
            cells = files.cells_in(files.read(source))
        except files.BadNotebook as e:
            raise BadUse(str(e)) from None
        if not cells:
            raise BadUse(f"{source} has no cells.")
        write_whole(os.path.realpath(target), script_of(cells).encode())
    else:
        try:
            with open(source, "rb") as f:
                cells = cells_of(decoded(f.read()))
        except OSError as e:
            raise BadUse(f"{source} cannot be read: {e.strerror}.") from None
        if not cells:
            raise BadUse(f"{source} has no cells: it is empty.")
        write_whole(os.path.realpath(target), files.as_text(files.made_of(cells)).encode())
    return f"Written: {target}, {_count(len(cells), 'cell')}."


def _count(number: int, what: str) -> str:
    return f"{number} {what}{'s' if number != 1 else ''}"
