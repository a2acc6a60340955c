"""Why an operation raised, where a rule knows more than the message: nearest keys, lengths, shapes, files, types."""

from __future__ import annotations

import ast
import contextlib
import datetime
import difflib
import itertools
import os
import re
import sys
from collections.abc import Iterator
from dataclasses import replace
from typing import Any

from ..core.text import plural, str_of
from ..core.type_identity import is_one_of
from ..values import nonfinite
from ..values.safe_read import read_attribute
from .reasons import NONE, Reason

INDEXERS = ("loc", "at")
PLACES = (*INDEXERS, "iloc", "iat")
LARGE = 400  # rows of a matrix that is looked into
MOST_KEYS = 10_000
PROGRAMS = ("run", "Popen", "call", "check_call", "check_output")  # of subprocess: what they do not find is no file
SEPARATORS = (";", "\t", "|", " ")  # of a file, where a comma was expected
SHOWN = 3  # keys, where none is near
# What messages are about.
OF_LABELS = re.compile(r"not in index|not found in axis|are in the|are not columns|do not exist|are not present in")
INTO_SHAPE = re.compile(r"from shape .* into shape|Length of values")  # it has both
NOT_FOUND = re.compile(r"^(\S.*) not found\.?$")
OF_COORDINATE = re.compile(r"not all values found in index '([^']+)'")
OF_AXIS = re.compile(r"axis -?\d+ is out of bounds for array of dimension")
OF_BAD_CELLS = re.compile(
    r"\b(nans?|infs?|infinit\w*|(not |non-?)?finite|converge\w*|singular|overflow\w*|too large)\b", re.I
)
OF_PRODUCT = re.compile(r"core dimension|not aligned")
UNDEFINED = re.compile(r"name '([^']+)' is not defined")
OUT_OF_BOUNDS = re.compile(r"index (-?\d+) is out of bounds for axis (\d+) with size (\d+)")
OF_INDEX_TYPE = re.compile(r"valid indices|integer \(or boolean\) type|indices must be integers")
OF_SHAPES = re.compile(r"shape|dimension|broadcast|size|length|align|match|ax[ie]s|inconsistent|conform|elements", re.I)


def of_bad_operands(exc: BaseException, operands: list[tuple[str, object]]) -> Reason | None:
    """Which operands hold non-finite cells, where a library refuses them, or does not converge with them."""
    if not isinstance(exc, (ValueError, ArithmeticError, RuntimeError)) or not OF_BAD_CELLS.search(str_of(exc)):
        return None
    held = [(text, nonfinite.count(value)) for text, value in operands if _shape(value) or not _is_scalar(value)]
    bad = [f"{text} holds {plural(cells, 'non-finite cell')}" for text, cells in held if cells]
    return Reason("non-finite-operand", " and ".join(bad)) if bad else None


def _is_scalar(value: object) -> bool:
    """A number, whose value is shown beside its name."""
    return nonfinite.is_number_kind(type(value)) or _shape(value) == ()


def of_error(exc: BaseException, operands: list[object], node: ast.AST | None = None) -> Reason:
    """Why an operation (`node`) on these operands raised: the nearest keys, index and length, the two shapes, the two
    types, what makes a matrix singular, where a file is instead."""
    if by_place := _by_place(exc, operands, node):
        return by_place
    if isinstance(exc, KeyError):
        return _nearest_key(exc.args[0] if exc.args else None, operands, node)
    if type(exc).__name__ == "ColumnNotFoundError":  # of polars
        return _nearest_key(next(iter(re.findall(r'"([^"]+)"', str_of(exc))), None), operands, node)
    if isinstance(exc, NameError) and (undefined := UNDEFINED.match(str_of(exc))):  # in a query of pandas
        return _nearest_column(undefined[1], operands)
    if isinstance(exc, AttributeError):
        return _nearest_column(read_attribute(exc, "name"), operands)
    if isinstance(exc, IndexError):
        return _index(str_of(exc), operands)
    if isinstance(exc, OSError):
        return NONE if _callee(node) in PROGRAMS else _file(exc)
    if isinstance(exc, ValueError) and "Singular matrix" in str_of(exc):
        return _singular(operands)
    if isinstance(exc, ValueError) and "positive definite" in str_of(exc):
        return _not_positive(operands)
    if isinstance(exc, ValueError) and "inhomogeneous" in str_of(exc):
        return _uneven_rows(operands)
    if isinstance(exc, TypeError) and OF_INDEX_TYPE.search(str_of(exc)) and (found := _index_type(operands)).text:
        return found
    if isinstance(exc, (ValueError, TypeError)):
        of_shapes = OF_SHAPES.search(str_of(exc) or "shapes") and not INTO_SHAPE.search(str_of(exc))
        shapes = [s for v in _spread(operands) if (s := _shape(v)) is not None] if of_shapes else []
        if len(shapes) == 2 and len(shapes[0]) == 2 and shapes[0] == shapes[1] and OF_PRODUCT.search(str_of(exc)):
            return Reason("shapes", f"shapes {shapes[0]} and {shapes[1]}", shapes=(shapes[0], shapes[1]))
        shapes = list(dict.fromkeys(shapes))
        if len(shapes) >= 2 and shapes[0] != shapes[1]:
            whole = all(type(n) is int for shape in shapes[:2] for n in shape)  # else some library's own sizes
            return Reason("shapes", f"shapes {shapes[0]} and {shapes[1]}", shapes=tuple(shapes[:2]) if whole else ())
    if isinstance(exc, TypeError) and (zones := _zones(operands)).text:
        return zones
    if isinstance(exc, TypeError) and len(operands) == 2 and type(operands[0]) is not type(operands[1]):
        return Reason("types", f"types {type(operands[0]).__name__} and {type(operands[1]).__name__}")
    return NONE


def _spread(operands: list[object]) -> list[object]:
    """The operands; of a list or tuple that holds arrays, its elements."""
    found: list[object] = []
    for value in operands:
        held = list(value[:20]) if type(value) is list or type(value) is tuple else []
        found += held if held and all(_shape(part) is not None for part in held) else [value]
    return found


def _zones(operands: list[object]) -> Reason:
    """Of times, of which only some have a time zone."""
    zones = []
    for value in operands:
        kind = read_attribute(value, "dtype")
        if getattr(kind, "kind", "") == "M":
            zones.append(getattr(kind, "tz", None))
        elif isinstance(value, datetime.datetime):
            zones.append(datetime.datetime.tzinfo.__get__(value))
    if len(zones) < 2 or (None in zones) == all(zone is None for zone in zones):
        return NONE
    zone = next(zone for zone in zones if zone is not None)
    first, second = ("first", "second") if zones[0] is not None else ("second", "first")
    return Reason("time-zones", f"the {first} has a time zone ({zone}), the {second} has none")


def _uneven_rows(operands: list[object]) -> Reason:
    """Of rows that make no table: the first that has another length than the one before."""
    for value in operands:
        if type(value) is not list and type(value) is not tuple:
            continue
        sizes = [len(row) if is_one_of(type(row), list, tuple) else None for row in value[:100_000]]
        for number, (before, size) in enumerate(itertools.pairwise(sizes), 1):
            if size != before:
                told = [
                    f"row {n} has {plural(s, 'element')}" if s is not None else f"row {n} is one value"
                    for n, s in ((number - 1, before), (number, size))
                ]
                return Reason("uneven-rows", ", ".join(told))
    return NONE


def _file(exc: OSError) -> Reason:
    """Of a file that is not there: the folder that is missing, or the nearest name in it."""
    named = NOT_FOUND.search(str_of(exc))
    given = read_attribute(exc, "filename")
    path = given if isinstance(given, str) else named[1] if named else ""
    if not isinstance(exc, FileNotFoundError) or not path or "://" in path:
        return NONE
    script = str(getattr(sys.modules.get("__main__"), "__file__", None) or "")
    own = os.path.dirname(os.path.abspath(script))
    if script and os.path.exists(os.path.join(own, path)):
        return Reason("other-folder", f"it is in {own}, the folder of the script, which runs in {os.getcwd()}")
    folder, name = os.path.split(os.path.abspath(path))
    missing = ""
    while folder and not os.path.isdir(folder) and os.path.dirname(folder) != folder:
        folder, missing = os.path.split(folder)
    if missing:
        return Reason("no-folder", f"there is no folder {missing} in {folder}")
    try:
        names = sorted(os.listdir(folder))[:MOST_KEYS]
    except OSError:
        return NONE
    close = [n for n in names if n.casefold() == name.casefold()] or difflib.get_close_matches(name, names, 3, 0.6)
    if close:
        return Reason("near-file", f"the nearest in {folder}: {', '.join(close)}", near=tuple(repr(n) for n in close))
    return Reason("no-file", f"looked for in {folder}")


def _square(operands: list[object]) -> Iterator[Any]:
    """The operands that are square matrices of numbers, not too large to look into, as floats."""
    np = nonfinite.module("numpy")
    for value in operands:
        shape = _shape(value)
        if np is None or shape is None or len(shape) != 2 or shape[0] != shape[1] or not 0 < shape[0] <= LARGE:
            continue
        cells = np.asarray(value)
        if cells.dtype.kind in "fiub":
            yield cells.astype(float)


def _singular(operands: list[object]) -> Reason:
    """What makes a matrix singular: a row or column of zeros, two that are multiples of each other, or its rank."""
    np = nonfinite.module("numpy")
    for cells in _square(operands):
        both = (("row", cells), ("column", cells.T))
        for word, table in both:
            empty = np.flatnonzero(~table.any(axis=1))
            if empty.size:
                return Reason("singular", f"{word} {int(empty[0])} holds zeros only")
        for word, table in both:
            lengths = np.sqrt((table * table).sum(axis=1))
            units = table / lengths[:, None]
            alike = np.argwhere(np.triu(np.abs(units @ units.T) > 1 - 1e-14, 1))
            if alike.size:
                a, b = (int(n) for n in alike[0])
                equal = "are equal" if np.array_equal(table[a], table[b]) else "are multiples of each other"
                return Reason("singular", f"{word}s {a} and {b} {equal}")
        return Reason("singular", f"its rank is {int(np.linalg.matrix_rank(cells))} of {len(cells)}")
    return NONE


def _not_positive(operands: list[object]) -> Reason:
    """Why a matrix is not positive definite: two cells that differ, or its smallest eigenvalue."""
    np = nonfinite.module("numpy")
    for cells in _square(operands):
        unlike = np.argwhere(np.abs(cells - cells.T) > 1e-8 * np.abs(cells).max())
        if unlike.size:
            a, b = (int(n) for n in unlike[0])
            told = f"[{a}, {b}] is {cells[a, b]:.6g}, [{b}, {a}] is {cells[b, a]:.6g}"
            return Reason("not-symmetric", f"it is not symmetric: {told}")
        return Reason("not-positive", f"its smallest eigenvalue is {np.linalg.eigvalsh(cells)[0]:.6g}")
    return NONE


def _home(value: object) -> str:
    """The package that a value's class belongs to."""
    return str(type.__getattribute__(type(value), "__module__")).partition(".")[0]


def _shape(value: object) -> tuple[Any, ...] | None:
    found = read_attribute(value, "shape")
    return found if isinstance(found, tuple) else None


def _by_place(exc: BaseException, operands: list[object], node: ast.AST | None) -> Reason | None:
    """Of a frame that is asked for rows and columns at once: `frame[:, 1:]`."""
    if not isinstance(node, ast.Subscript) or not isinstance(node.slice, ast.Tuple) or not operands:
        return None
    columns = getattr(operands[0], "columns", None) if _home(operands[0]) == "pandas" else None
    if getattr(columns, "nlevels", 0) != 1:
        return None  # no frame, or one whose columns have several labels each
    known = isinstance(exc, (KeyError, TypeError)) or type(exc).__name__ == "InvalidIndexError"
    if getattr(node.value, "attr", "") in PLACES or not known:
        return None
    owner, index = ast.unparse(node.value), ", ".join(map(ast.unparse, node.slice.elts))
    if all(isinstance(one, ast.Constant) and type(one.value) is str for one in node.slice.elts):
        return Reason("columns", f"several columns are {owner}[[{index}]]")
    return Reason("by-place", f"rows and columns by place are {owner}.iloc[{index}], by label .loc[…]")


def _nearest_column(name: object, operands: list[object]) -> Reason:
    """Of an attribute that a frame has not: a column of nearly the same name."""
    for owner in operands[:1]:
        if _home(owner) not in ("pandas", "polars") or not hasattr(owner, "columns"):
            continue
        found = _near(*_keys(owner, name, None, operands), name)
        if found.kind == "key":
            return Reason("column", found.text)
    return NONE


def _nearest_key(wanted: object, operands: list[object], node: ast.AST | None = None) -> Reason:
    if isinstance(wanted, str) and (index := OF_COORDINATE.search(wanted)):
        return _coordinate(index[1], operands)
    if isinstance(wanted, str) and OF_LABELS.search(wanted):
        named = re.findall(r"\['([^']+)'", wanted) or re.findall(r"\[(\d+)[\],]", wanted)
        wanted = next((int(n) if n.isdigit() and f"'{n}'" not in str(wanted) else n for n in named), wanted)
    for number, owner in enumerate(operands):
        keys, word = _keys(owner, wanted, node, operands)
        plain = is_one_of(type(wanted), str, int, float)
        if plain and number < len(operands) - 1 and any(type(k) is type(wanted) and k == wanted for k in keys):
            continue  # it is another one that has it not
        found = _near(keys, word, wanted)
        if found.text:
            of_two = number == 1 and _keys(operands[0], None, None, [])[0]
            return replace(found, text=f"the second has no {word} {wanted!r}: {found.text}") if of_two else found
    return NONE


def _coordinate(name: str, operands: list[object]) -> Reason:
    """From where to where a coordinate of xarray goes, which has no such value."""
    for owner in operands[:1] if _home(operands[0]) == "xarray" else []:
        with contextlib.suppress(Exception):
            values = nonfinite.module("numpy").asarray(owner[name].values)  # type: ignore[index]  # xarray's
            return Reason("no-key", f"{name} has {plural(values.size, 'value')}: {values[0]} … {values[-1]}")
    return NONE


def _keys(owner: object, wanted: object, node: ast.AST | None, operands: list[object]) -> tuple[list[Any], str]:
    """What an operand is looked up by, and the word for it: keys, columns, labels of rows."""
    if isinstance(owner, dict):
        return [k for k, _ in zip(dict.keys(owner), range(MOST_KEYS))], "key"
    home = _home(owner)
    if home == "xarray":
        found = [*getattr(owner, "data_vars", ()), *getattr(owner, "coords", ()), *getattr(owner, "dims", ())]
        return list(dict.fromkeys(map(str, found))), "name"
    if home == "polars" and hasattr(owner, "columns"):
        return list(owner.columns), "column"
    if home == "pandas" and type(owner).__name__.endswith("GroupBy"):
        if _callee(node) in ("agg", "aggregate") and hasattr(getattr(owner, "obj", None), "columns"):
            return list(owner.obj.columns[:MOST_KEYS]), "column"  # type: ignore[attr-defined]  # of pandas
        return list(getattr(owner, "groups", ()))[:MOST_KEYS], "group"
    if home != "pandas" or not hasattr(owner, "index"):
        return [], ""
    of_rows = _callee(node) == "drop" and not any(k.arg in ("axis", "columns") for k in getattr(node, "keywords", ()))
    of_rows = of_rows and hasattr(owner, "columns") and wanted not in list(owner.columns[:MOST_KEYS])
    if not hasattr(owner, "columns") or of_rows or _is_label_of_row(wanted, node, operands):
        return list(owner.index[:MOST_KEYS]), "row label"
    return list(owner.columns[:MOST_KEYS]), "column"


def _is_label_of_row(wanted: object, node: ast.AST | None, operands: list[object]) -> bool:
    """Whether `frame.loc[…]` has looked for a row."""
    if not isinstance(node, ast.Subscript) or getattr(node.value, "attr", "") not in INDEXERS:
        return False
    if not isinstance(node.slice, ast.Tuple) or len(node.slice.elts) != 2:
        return True
    column = node.slice.elts[1]
    value = column.value if isinstance(column, ast.Constant) else operands[-1]
    asked = value if type(value) is list else [value]
    return not any(is_one_of(type(one), str, int) and one == wanted for one in asked)


def _callee(node: ast.AST | None) -> str:
    return getattr(getattr(node, "func", None), "attr", "")


def _near(keys: list[Any], word: str, wanted: object) -> Reason:
    if not keys:
        return NONE
    count = plural(len(keys), word)
    if isinstance(wanted, str):
        texts = [k for k in keys if isinstance(k, str)]
        parted = [s for s in SEPARATORS if len(texts) == len(keys) == 1 and wanted in map(str.strip, texts[0].split(s))]
        if parted and parted[0] in texts[0]:
            return Reason("separator", f"its only {word} is {texts[0]!r}: read the file with sep={parted[0]!r}")
        numbers = [k for k in keys if is_one_of(type(k), int, float) and str(k) == wanted]
        if numbers:
            return Reason("key", f"its key is the number {numbers[0]}", near=(repr(numbers[0]),))
        close = [k for k in texts if k.strip().casefold() == wanted.strip().casefold()][:3]
        close = close or difflib.get_close_matches(wanted, texts, 3, 0.5)
        near, written = [k if k == k.strip() else repr(k) for k in close], [repr(k) for k in close]
    else:
        if is_one_of(type(wanted), int, float) and str(wanted) in [k for k in keys if isinstance(k, str)]:
            return Reason("key", f"its key is the text {str(wanted)!r}", near=(repr(str(wanted)),))
        numbers = [k for k in keys if is_one_of(type(k), int, float) and is_one_of(type(wanted), int, float)]
        near = written = [repr(k) for k in sorted(numbers, key=lambda k: abs(k - wanted))[:3]]
    if near:
        text = f"the nearest of its {count}: {', '.join(near)}" if len(keys) > 1 else f"its only {word} is {near[0]}"
        return Reason("key", text, near=tuple(written))
    if len(keys) == 1:
        return Reason("no-key", f"its only {word} is {keys[0]!r}")
    verb = "are" if len(keys) <= SHOWN else "begin with"
    return Reason("no-key", f"its {count} {verb} {', '.join(repr(k) for k in keys[:SHOWN])}")


def _index_type(operands: list[object]) -> Reason:
    """Of an index that is no integer: what it is instead."""
    for value in operands[1:]:
        kind = getattr(read_attribute(value, "dtype"), "kind", "")
        if isinstance(value, float) or (kind == "f" and not _shape(value)):
            return Reason("float-index", "the index is a float")
        if kind == "f":
            return Reason("float-indices", f"the indices are of {read_attribute(value, 'dtype')}")
        if isinstance(value, list) and any(isinstance(part, slice) for part in list.__iter__(value)):
            return Reason("list-of-slices", "the index is a list of slices, not a tuple of them")
    return NONE


def _index(said: str, operands: list[object]) -> Reason:
    if bounds := OUT_OF_BOUNDS.search(said):
        index, axis, size = (int(n) for n in bounds.groups())
        arrays = [v for v in operands[:1] if len(_shape(v) or ()) > 1 and _home(v) != "pandas"]
        along = f" of axis {axis}" if arrays else ""
        if not size:
            return Reason("empty", f"index {index}{along} of length 0")
        ends = f"the last is {size - 1}" if index >= 0 else f"the first is {-size}"
        return Reason("index", f"index {index}{along} of length {size}: {ends}")
    if "too many indices" in said or OF_AXIS.search(said):
        shape = _shape(operands[0]) if operands else None
        return Reason("dimensions", f"the array's shape is {shape}") if shape is not None else NONE
    if "boolean index" in said:
        return NONE  # the message has both sizes
    if OF_INDEX_TYPE.search(said):
        return _index_type(operands)
    return _length_and_index(operands)


def _length_and_index(operands: list[object]) -> Reason:
    size: int | None = None
    index: int | None = None
    for value in operands:
        if isinstance(value, (list, tuple)):
            size = list.__len__(value) if isinstance(value, list) else tuple.__len__(value)
        elif (shape := _shape(value)) and size is None:
            size = int(shape[0])
        elif isinstance(value, int) and not isinstance(value, bool):
            index = value
        elif type(value).__module__ == "numpy" and not _shape(value) and hasattr(value, "__index__"):
            index = int(value)
    if size is None:
        return NONE
    if index is None:
        return Reason("length", f"its length is {size}")
    if not size:
        return Reason("empty", f"index {index} of length 0")
    return Reason("index", f"index {index} of length {size}: the last is {size - 1}")
