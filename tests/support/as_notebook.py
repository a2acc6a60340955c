"""Notebooks for tests."""

from __future__ import annotations

import ast
import json
from pathlib import Path

import nbformat

from uneven_sum.notebooks.files import sheet

V4 = nbformat.v4


def code(source: str, count: int | None = None, title: str = "", outputs: tuple = ()):
    cell = V4.new_code_cell(source, execution_count=count)
    cell.outputs = list(outputs)
    if title:
        cell.metadata["title"] = title
    return cell


def value(text: str, count: int = 1):
    return V4.new_output("execute_result", {"text/plain": text}, execution_count=count)


def written(text: str):
    return V4.new_output("stream", name="stdout", text=text)


def write(path: Path, *cells) -> str:
    """A notebook of these cells: texts are code."""
    made = [code(one) if isinstance(one, str) else one for one in cells]
    for number, one in enumerate(made, 1):
        one["id"] = f"c{number}"
    path.write_text(nbformat.writes(V4.new_notebook(cells=made)) + "\n", encoding="utf-8")
    return str(path)


def split(source: str) -> tuple[list[str], dict[int, tuple[int, int]]]:
    """A script with a cell for each top-level statement; and for each of its lines the cell and the line in it."""
    lines = source.removesuffix("\n").split("\n")
    cells, places, begin = [], {}, 1
    ends = [s.end_lineno or s.lineno for s in ast.parse(source).body]
    for end in [*ends[:-1], len(lines)] if ends else [len(lines)]:
        if end < begin:
            continue  # two statements in a line
        cells.append("\n".join(lines[begin - 1 : end]))
        places.update({n: (len(cells), n - begin + 1) for n in range(begin, end + 1)})
        begin = end + 1
    return cells, places


def line_of(path: str, number: int, line: int) -> int:
    """The line of a notebook's text that is this line of a cell."""
    _, places = sheet(Path(path).read_bytes())
    return places[number - 1].first + line - 1


def sources(path: str) -> list[str]:
    return ["".join(one["source"]) for one in json.loads(Path(path).read_text())["cells"]]
