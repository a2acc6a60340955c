"""The text of a kept test and of a small script."""

from __future__ import annotations

import os
import re
import textwrap
from itertools import pairwise
from pathlib import Path

from ...host.launch import BadUse
from ...notebooks.files import is_notebook
from .call import SavedCall
from .definitions import needed

FINITE = "finite"
HELPERS = {
    "definitions": '''
def definitions(path, values):
    """The functions and classes of a script, without running the script."""
    kinds = (ast.Import, ast.ImportFrom, ast.FunctionDef, ast.AsyncFunctionDef, ast.ClassDef)
    tree = ast.parse(path.read_bytes(), str(path))
    tree.body = [s if isinstance(s, kinds) else tried(s) for s in tree.body if isinstance(s, kinds) or is_constant(s)]
    module = types.ModuleType(path.stem)
    sys.modules[path.stem] = module
    sys.path.insert(0, str(path.parent))
    module.__file__ = str(path)
    module.__dict__.update(values)
    exec(compile(tree, str(path), "exec"), module.__dict__)
    module.__dict__.update(values)
    return module


def tried(statement):
    """A statement that does no harm where it needs what the script computes."""
    found = ast.parse("try:\\n    pass\\nexcept Exception:\\n    pass").body[0]
    found.body = [statement]
    return found


def is_constant(statement):
    """Whether a statement only gives a name to what calls nothing."""
    calls = (ast.Call, ast.Await, ast.Subscript, ast.ListComp, ast.DictComp, ast.SetComp, ast.GeneratorExp)
    return isinstance(statement, ast.Assign) and not any(isinstance(n, calls) for n in ast.walk(statement))
''',
    "cells": '''
def cells(path):
    """The code of a notebook's cells, without magics; a cell that is no Python is left out."""
    found = []
    for cell in json.loads(path.read_text(encoding="utf-8"))["cells"]:
        lines = "".join(cell["source"]).split("\\n")
        text = "\\n".join("" if line.startswith(("%", "!")) else line for line in lines)
        if cell["cell_type"] == "code":
            try:
                ast.parse(text)
            except SyntaxError:
                continue
            found.append(text)
    return "\\n".join(found)
''',
    "made": '''
def made(kind, /, **fields):
    """An object with these fields; its __init__ does not run."""
    one = object.__new__(kind)
    one.__dict__.update(fields)
    return one
''',
    "generator": '''
def generator(state):
    """A generator of random numbers in this state."""
    bits = getattr(np.random, state["bit_generator"])()
    bits.state = state
    return np.random.Generator(bits)
''',
    "is_finite": '''
def is_finite(value):
    """Whether no part of a result is nan or infinite."""
    if isinstance(value, dict):
        value = list(value.values())
    if isinstance(value, (list, tuple)):
        return all(map(is_finite, value))
    if hasattr(value, "select_dtypes"):
        value = value.select_dtypes("number").to_numpy()
    if hasattr(value, "__array__"):
        import numpy

        cells = numpy.asarray(value)
        return cells.dtype.kind not in "fc" or bool(numpy.isfinite(cells).all())
    if isinstance(value, (float, complex)):
        return cmath.isfinite(value)
    return is_finite(list(vars(value).values())) if hasattr(value, "__dict__") and not callable(value) else True
''',
}


def stem(call: SavedCall) -> str:
    """A name for files of a call."""
    return re.sub(r"\W+", "_", call.name).strip("_")


def checked(expected: str, call: SavedCall) -> str:
    """What is expected, as a condition over `result` and the arguments.  BadUse where it is none."""
    text = expected.strip() or FINITE
    if text == FINITE:
        return "is_finite(result)" if call.returns else f"is_finite([{', '.join(_names(call))}])"
    kept = re.fullmatch(r"rows of (\w+) kept", text)
    if kept:
        return f"len(result) == len({kept[1]})"
    if not re.search(r"[=<>(]|\bin\b|\bis\b", text):  # a value
        text = f"result == {text}"
    try:
        compile(text, "<expected>", "eval")
    except (SyntaxError, ValueError) as e:
        raise BadUse(
            f"{expected} is no condition: {getattr(e, 'msg', e)}. Write one over result: result >= 0."
        ) from None
    return text


def _names(call: SavedCall) -> list[str]:
    return [one.name for one in call.arguments]


def module_of_test(call: SavedCall, place: Path, expected: str, about: str) -> str:
    """A module with one test.  `place`: the file that it is for; `about`: of the pause, a sentence."""
    condition = checked(expected, call)
    name = f"test_{stem(call)}"
    said = f"The call of {call.function} for which this was seen: {about}"
    body = _assignments(call)
    body += [f"result = {_called(call)}", f"assert {condition}"]
    test = [f"def {name}():", *(f"    {line}" for line in body)]
    return _by_place(_module(call, place, said, condition, "\n".join(test)), call, place)


def _by_place(text: str, call: SavedCall, place: Path) -> str:
    """Paths below the folder of the source, in quotes, become relative to the test, which may be moved with it."""
    home = call.root or os.path.dirname(call.file)

    def told(found: re.Match[str]) -> str:
        return f"str({_path(found[1], place)})"

    return re.sub(rf"'({re.escape(home)}(?:/[^'\\\n]*)?)'", told, text)


def script_text(call: SavedCall, place: Path, about: str, source: str) -> str:
    """A script that defines what it calls, makes the call, and prints what it gives.  `source`: of the call's file."""
    said = f"The call of {call.function} for which this is seen: {about}"
    try:
        defined = needed(source, call.function, call.values, _assignments(call))
    except SyntaxError as e:
        name = os.path.basename(call.file)
        raise BadUse(f"{name}, line {e.lineno}, is in a syntax that this Python does not read.") from None
    future = [one for one in defined if one.startswith("from __future__")]
    imports = [*call.imports, *(["import asyncio"] if call.kind == "async" else [])]
    imports += [one for one in defined if one.startswith(("import ", "from ")) and one not in future]
    imports += ["from pathlib import Path"] if call.files else []
    head = [_docstring(said), *([""] if future else []), *future, *([""] if imports else [])]
    head += sorted(set(imports), key=_import_order)
    folder = [f'DATA = Path(__file__).resolve().parent / "{data_folder(place)}"'] if call.files else []
    rest = [one for one in defined if one not in future and one not in imports]
    body = [*_assignments(call), f"result = {_called(call)}", "print(result)"]
    return _blocks(["\n".join(head), *folder, *(HELPERS[one].strip() for one in call.helpers), *rest, "\n".join(body)])


def _blocks(parts: list[str]) -> str:
    """Parts of a file: definitions between two empty lines, assignments one after the other."""
    text = parts[0]
    for before, part in pairwise(parts):
        text += ("\n\n\n" if "\n" in before or "\n" in part else "\n") + part
    return text + "\n"


def _import_order(line: str) -> tuple[bool, str]:
    return line.startswith("from "), line


def _assignments(call: SavedCall) -> list[str]:
    return [line for one in call.arguments for line in f"{one.name} = {one.text}".split("\n")]


def _called(call: SavedCall) -> str:
    given = ", ".join(
        f"{one.name}={one.name}" if one.how == "name" else f"{one.how}{one.name}"
        for one in call.arguments
        if one.how != "owner"
    )
    text = f"{call.target}({given})"
    return {"generator": f"list({text})", "async": f"asyncio.run({text})"}.get(call.kind, text)


def _module(call: SavedCall, place: Path, said: str, condition: str, body: str) -> str:
    helpers = [*call.helpers, *(["is_finite"] if "is_finite(" in condition else [])]
    needed = {"sys"}
    if call.kind == "async":
        needed.add("asyncio")
    if "is_finite" in helpers:
        needed.add("cmath")
    if not call.module:
        helpers.insert(0, "definitions")
        needed |= {"ast", "types"}
        if is_notebook(call.file):
            helpers.insert(1, "cells")
            needed.add("json")
    imports = sorted({f"import {one}" for one in needed} | {i for i in call.imports if i != f"import {call.module}"})
    for one in re.findall(r"\b(np|pd|pytest|math)\.", condition):
        imports.append({"np": "import numpy as np", "pd": "import pandas as pd"}.get(one, f"import {one}"))
    lines = [_docstring(said), "", *dict.fromkeys(imports), "from pathlib import Path", ""]
    lines.append("HERE = Path(__file__).resolve().parent")
    if call.files:
        lines.append(f'DATA = HERE / "{data_folder(place)}"')
    if call.module:
        lines += [f"sys.path.insert(0, str({_path(call.root, place)}))", "", f"import {call.module}"]
    else:
        lines += [f"SOURCE = {_path(call.file, place)}"]
    parts = [HELPERS[one].strip() for one in helpers]
    if "cells" in helpers:
        parts[0] = parts[0].replace("path.read_bytes()", "cells(path)").replace("a script", "a notebook", 1)
    if not call.module:
        values = ", ".join(f"{name!r}: {text}" for name, text in call.values.items())
        parts.append(f"module = definitions(SOURCE, {{{values}}})")
    return _blocks(["\n".join(lines), *parts, body])


def _docstring(said: str) -> str:
    """A sentence as the docstring of a module, in lines of up to 100 characters."""
    lines = textwrap.wrap(said.replace('"""', "'''"), 97)
    if lines[-1][-1] in '"\\':  # which would end it, or take its end away
        lines[-1] += " "
    start = 'r"""' if "\\" in said else '"""'
    return start + "\n".join(lines) + ('"""' if len(lines) == 1 else '\n"""')


def data_folder(place: Path) -> str:
    """The name of the folder beside a file that its arrays and frames are in."""
    return f"{place.stem}_data"


def paths_in(call: SavedCall) -> list[str]:
    """Absolute paths among the arguments and values of a call."""
    texts = [*(one.text for one in call.arguments), *call.values.values()]
    return sorted({found for text in texts for found in re.findall(r"'(/[^'\\\n]+)'", text)})


def _path(target: str, place: Path) -> str:
    """An expression for a path, from the folder of the file `place`."""
    relative = os.path.relpath(target, place.parent)
    ups = 0
    while relative == ".." or relative.startswith("../"):
        relative, ups = relative[3:], ups + 1
    text = "HERE" + ".parent" * ups
    return text if relative in ("", ".") else f'{text} / "{relative}"'
