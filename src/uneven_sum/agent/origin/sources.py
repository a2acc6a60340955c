"""Values that came from files: which line, and which field of it."""

from __future__ import annotations

import ast
import csv
import os
from typing import Any

from ..core.data_types import Array
from ..diagnosis import provenance
from ..frames.namespace import Scope
from ..source.sites import callee
from ..values import nonfinite
from .cells import Cell
from .rows import cell_in

TABLES = ("read_csv", "read_table", "read_fwf")
ARRAYS = ("loadtxt", "genfromtxt")
OTHERS = (
    "load",
    "fromfile",
    "read_excel",
    "read_parquet",
    "read_pickle",
    "read_json",
    "memmap",
    "loadmat",
    "fromregex",
)
MOST = 5_000_000  # bytes of a text file that are searched
EMPTY = ("", "na", "nan", "n/a", "null", "none", "#n/a", "<na>", "-nan")


def source_of(root: ast.expr, scope: Scope, cell: Cell, at: str) -> str:
    """`np.loadtxt at line 4: row 212 of gauge.csv`, or as much as is known; empty when nothing is read there."""
    for node in ast.walk(root):
        if not isinstance(node, ast.Call) or callee(node) not in (*TABLES, *ARRAYS, *OTHERS):
            continue
        path = _path(node, scope)
        name = " ".join(ast.unparse(node.func).split())
        if path is None:
            return f"{name} at {at}"
        where = _where(node, scope, path, cell, root is node)
        return f"{name} at {at}{': ' if where else ', of '}{where}{' of ' if where else ''}{os.path.basename(path)}"
    return ""


def line_source(iterable: ast.expr, scope: Scope, at: str, number: int) -> str:
    """Of a loop over the lines of a file: which line it is in."""
    thing: object = None
    skipped = 0
    for node in ast.walk(iterable):  # the file itself, or in a reader
        if isinstance(node, ast.Call) and callee(node) == "DictReader":
            skipped = 1  # the names of the fields
        try:
            thing = thing or _file(provenance.read(node, scope)) if isinstance(node, ast.Name) else thing
        except provenance.Unreadable:
            continue
    number += skipped
    name = getattr(thing, "name", None)
    if isinstance(name, str) and hasattr(thing, "readline"):
        return f"line {number} of {os.path.basename(name)}, read at {at}"
    return ""


def _file(value: object) -> Any:
    return value if hasattr(value, "readline") and isinstance(getattr(value, "name", None), str) else None


def element_source(root: ast.expr, scope: Scope, cell: Cell, place: str) -> str:
    """Of a comprehension over the lines of a file: the line that an element was made from."""
    if not isinstance(root, (ast.ListComp, ast.GeneratorExp)) or len(root.generators) != 1 or not cell.index:
        return ""
    (generator,) = root.generators
    names = {**scope.globals, **scope.locals, "__builtins__": scope.builtins}
    if generator.ifs or cell.index[0] < 0:
        return ""
    try:
        reader = iter(eval(compile(ast.Expression(generator.iter), "<read>", "eval"), names))
        for _ in range(cell.index[0] + 1):
            next(reader)
        at = getattr(reader, "line_num", 0) or cell.index[0] + 1
    except Exception:
        return ""
    files = [_file(names.get(n.id)) for n in ast.walk(generator.iter) if isinstance(n, ast.Name)]
    name = next((str(one.name) for one in files if one is not None), "")
    return f"line {at} of {os.path.basename(name)}, read at {place}" if name else ""


def _path(node: ast.Call, scope: Scope) -> str | None:
    given = node.args[0] if node.args else next((k.value for k in node.keywords if k.arg and "name" in k.arg), None)
    if given is None:
        return None
    names = {**scope.globals, **scope.locals, "__builtins__": scope.builtins}
    try:
        value = eval(compile(ast.Expression(given), "<path>", "eval"), names)
        value = getattr(value, "name", value)
        return str(os.fspath(value))
    except Exception:
        return None


def _where(node: ast.Call, scope: Scope, path: str, cell: Cell, whole: bool) -> str:
    """The line, and the field or column, of a cell; empty when it cannot be told for sure."""
    try:
        if os.path.getsize(path) > MOST or not whole:
            return ""
        names = {**scope.globals, **scope.locals, "__builtins__": scope.builtins}
        value = eval(compile(ast.Expression(node), "<read>", "eval"), names)
        with open(path, encoding="utf-8", errors="replace", newline="") as f:
            text = f.read()
    except Exception:
        return ""
    lines = text.splitlines()
    separator = next((c for c in (",", ";", "\t") if c in (lines[-1] if lines else "")), None)
    if callee(node) in TABLES:
        return _in_table(value, cell, lines, separator)
    return _in_array(value, cell, lines, separator)


def _in_array(value: Array, cell: Cell, lines: list[str], separator: str | None) -> str:
    numpy = nonfinite.module("numpy")
    if not cell.index or numpy is None or value.ndim != len(cell.index):
        return ""
    row, column = cell.index[0], cell.index[1] if len(cell.index) > 1 else None
    held = value[cell.index]
    data = [
        (number, line) for number, line in enumerate(lines, 1) if line.partition("#")[0].strip()
    ]  # comments and empty lines are no rows
    skipped = len(data) - len(value)
    if skipped < 0 or row + skipped >= len(data):
        return ""
    number, line = data[row + skipped]
    fields = [f.strip() for f in line.split(separator)]
    for at, field in enumerate(fields):
        if (column is None or column == at) and _fits(field, held):
            return f"row {row + 1} (line {number}" + (f", field {at + 1})" if len(fields) > 1 else ")")
    return ""


def _in_table(value: Any, cell: Cell, lines: list[str], separator: str | None) -> str:
    pandas = nonfinite.module("pandas")
    if not cell.suffix or pandas is None:
        return ""
    try:
        label, column = cell_in(pandas, value, cell.suffix)
    except (ValueError, SyntaxError, TypeError):
        return ""  # a whole column, or a part of one
    place = value.index.get_loc(label)
    held = value.at[label, column]
    rows = list(csv.reader(lines, delimiter=separator or ","))
    header = next((n for n, row in enumerate(rows) if column in [f.strip() for f in row]), None)
    if header is None or not isinstance(place, int):
        return ""
    at = [f.strip() for f in rows[header]].index(column)
    data = [n for n in range(header + 1, len(rows)) if rows[n]]
    number = data[place] if place < len(data) else -1
    if number < 0 or at >= len(rows[number]) or not _fits(rows[number][at].strip(), held):
        return ""
    return f"row {place + 1} (line {number + 1}, column {column})"


def _fits(field: str, held: Array) -> bool:
    """Whether a field of a file is what was read from it."""
    try:
        if nonfinite.any_bad(held):
            return field.lower() in EMPTY or "inf" in field.lower()
        return float(field) == float(held)
    except (TypeError, ValueError):
        return bool(field == held)
