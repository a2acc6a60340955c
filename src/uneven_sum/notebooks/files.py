"""Notebook files, read and written with nbformat."""

from __future__ import annotations

import json
import os
import re
import types
import warnings
from collections.abc import Mapping
from typing import Any, Protocol

from .cells import Cell
from .magics import python_of
from .sheet import Place, sheet_of


class BadNotebook(ValueError):
    """A file that is no notebook, or one that cannot be used; the sentence says what to do."""


LARGEST = 200 * 1024 * 1024  # bytes of a notebook that is read


class _Cell(Protocol):
    cell_type: str
    source: str
    metadata: Mapping[str, object]

    def get(self, key: str) -> Any: ...


class Notebook(Protocol):
    """What is used of an nbformat notebook."""

    cells: list[_Cell]
    metadata: Mapping[str, Mapping[str, object]]


def is_notebook(path: str) -> bool:
    return path.endswith(".ipynb")


def _nbformat() -> types.ModuleType:
    """The library, whose functions have no types; imported once it is needed."""
    import nbformat

    return nbformat


def read(path: str) -> Notebook:
    """A notebook of nbformat 4, checked against its schema.  BadNotebook with what is wrong, and where."""
    nbformat = _nbformat()
    name = os.path.basename(path)
    try:
        if os.path.getsize(path) > LARGEST:
            raise BadNotebook(f"{name} has more than {LARGEST // 2**20} MB. Clear its outputs first.")
        with open(path, encoding="utf-8") as f:
            text = f.read()
    except OSError as e:
        raise BadNotebook(f"{path} cannot be read: {e.strerror}.") from None
    except UnicodeDecodeError as e:
        raise BadNotebook(f"{name} is no notebook: byte {e.start} is no UTF-8.") from None
    try:
        told = json.loads(text)
    except json.JSONDecodeError as e:
        raise BadNotebook(f"{name} is damaged at line {e.lineno}, column {e.colno}: {e.msg}.") from None
    version = told.get("nbformat") if isinstance(told, dict) else None
    if version is None:
        raise BadNotebook(f"{name} is no notebook: it does not say which nbformat it has.")
    if version != 4:
        raise BadNotebook(
            f"{name} is of nbformat {version}; only nbformat 4 is read. Save it anew with a newer program."
        )
    try:
        made = nbformat.from_dict(told)
        with warnings.catch_warnings(action="ignore"):  # of cells without an id
            nbformat.validate(made)
    except nbformat.ValidationError as e:
        place = "".join(f"[{p}]" if isinstance(p, int) else f".{p}" for p in getattr(e, "absolute_path", ()) or ())
        said = str(getattr(e, "message", e)).split("\n")[0][:200]
        raise BadNotebook(
            f"{name} does not fit nbformat 4{f', at {place.strip(chr(46))}' if place else ''}: {said}."
        ) from None
    found: Notebook = nbformat.v4.rwbase.rejoin_lines(made)
    language = _language(found)
    if language and language != "python":
        raise BadNotebook(f"{name} is a notebook for {language}, not for Python.")
    return found


def _language(notebook: Notebook) -> str:
    """The language of a notebook in lower case; empty where it is not told."""
    metadata = notebook.metadata
    told = metadata.get("kernelspec", {}).get("language") or metadata.get("language_info", {}).get("name") or ""
    return re.sub(r"^(i?python)\d*$", "python", str(told).lower())


def cells_in(notebook: Notebook) -> list[Cell]:
    return [
        Cell(
            one.cell_type,
            one.source.replace("\r\n", "\n").replace("\r", "\n"),
            " ".join(str(one.metadata.get("title", "")).split()),
            id=str(one.get("id") or ""),
            count=one.get("execution_count") or 0,
        )
        for one in notebook.cells
    ]


def sheet(data: bytes) -> tuple[str, list[Place]]:
    """The text of a notebook and its cells, not checked against the schema.  ValueError where it is none."""
    found = json.loads(data)
    try:
        cells = [
            Cell(
                one["cell_type"],
                _joined(one["source"]).replace("\r\n", "\n").replace("\r", "\n"),
                " ".join(str(one.get("metadata", {}).get("title", "")).split()),
                id=str(one.get("id") or ""),
                count=one.get("execution_count") or 0,
            )
            for one in found["cells"]
        ]
    except (KeyError, TypeError, AttributeError) as e:
        raise ValueError(f"no notebook: {e}") from None
    return sheet_of(cells)


def as_run(data: bytes) -> dict[str, object]:
    """What the agent needs to run a notebook: its text, the Python of it, its cells, what does not run."""
    text, places = sheet(data)
    python, left_out = python_of(text, places)
    cells = [[c.number, c.kind, c.first, c.last, c.id, c.count] for c in places]
    return {"text": text, "python": python, "cells": cells, "leftOut": left_out}


def _joined(source: str | list[str]) -> str:
    return source if isinstance(source, str) else "".join(source)


def made_of(cells: list[Cell]) -> object:
    """A notebook without outputs."""
    v4 = _nbformat().v4
    new = {"code": v4.new_code_cell, "markdown": v4.new_markdown_cell, "raw": v4.new_raw_cell}
    made = []
    for number, cell in enumerate(cells):
        one = new[cell.kind](cell.source)
        one["id"] = f"cell-{number + 1}"  # the same file for the same cells
        if cell.title:
            one.metadata["title"] = cell.title
        made.append(one)
    kernel = {"display_name": "Python 3", "language": "python", "name": "python3"}
    return v4.new_notebook(cells=made, metadata={"kernelspec": kernel})


def as_text(notebook: object) -> str:
    return str(_nbformat().writes(notebook)).rstrip("\n") + "\n"
