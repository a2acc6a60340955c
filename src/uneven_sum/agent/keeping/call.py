"""The call of a paused frame, written down: what is called, with which arguments, and what its module needs."""

from __future__ import annotations

import ast
import inspect
import os
import sys
import types

from ..core.errors import Refused
from ..frames import stack
from ..frames.namespace import locals_of
from ..source import plain_code, registry
from .as_code import CannotKeep, Writer

RECURSIVE = 12  # calls that are followed to find the names that a function uses


def kept(frame: types.FrameType, folder: str, alone: bool = False, inline: bool = False) -> dict[str, object]:
    """The call as text, its arguments as they are now; the files of the arguments are written to `folder`.  `alone`:
    for a script that defines what it calls; `inline`: nothing is written to files.

    Returns `function` (qualified), `file`, `module` (its import name; empty: it is loaded from its file), `root` (the
    folder that the import is from), `target` and `arguments` (texts), `values` (globals that it reads, as texts),
    `imports`, `helpers`, `files`, `notes`, `kind` (plain, generator, async).  Refused with the reason.
    """
    code = frame.f_code
    name = stack.function_name(frame)
    if code.co_name.startswith("<"):
        raise Refused(f"{_called(code.co_name)} cannot be called by name: choose a function")
    if ".<locals>." in code.co_qualname:
        raise Refused(f"{code.co_name} is defined inside another function: choose a call further out")
    module = sys.modules.get(str(frame.f_globals.get("__name__", "")))
    path = registry.path_of(frame)
    loaded = alone or module is None or module.__name__ == "__main__"
    writer = Writer(folder, module if loaded else None, "" if alone else "module.", inline)
    target, function, owner = _target(frame, module, writer)
    arguments = [*owner, *_arguments(frame, writer, skip=len(owner) or isinstance(function, types.MethodType))]
    values = _globals_read(frame, writer) if loaded else {}
    kind = "async" if code.co_flags & inspect.CO_COROUTINE else "plain"
    kind = "generator" if code.co_flags & inspect.CO_GENERATOR else kind
    if code.co_flags & inspect.CO_ASYNC_GENERATOR:
        raise Refused(f"{name} is an asynchronous generator: choose a call further out")
    return {
        "function": code.co_qualname,
        "file": path,
        "module": "" if loaded or module is None else module.__name__,
        "root": "" if loaded or module is None else _root(module.__name__, path),
        "target": target,
        "arguments": [_told(n, t, how, frame) for n, t, how in arguments],
        "values": values,
        "imports": sorted(writer.imports),
        "helpers": sorted(writer.helpers),
        "files": writer.files,
        "notes": writer.notes,
        "kind": kind,
        "returns": _returns(frame),
    }


def _told(name: str, text: str, how: str, frame: types.FrameType) -> dict[str, object]:
    """An argument; `parts`: what of it has rows, and maybe columns, that could be left out."""
    value = locals_of(frame)[name]
    parts = [(name, *_extent(value))] if how != "owner" else []
    fields = getattr(value, "__dict__", None)
    if type(fields) is dict and not (parts and parts[0][1]):
        parts = [(f"{name}.{key}", *_extent(one)) for key, one in fields.items()]
    parts = [part for part in parts if part[1]]
    return {"name": name, "text": text, "how": how, "parts": [list(part) for part in parts]}


def _extent(value: object) -> tuple[int, int, str]:
    """Rows, columns (0: it has none), and how they are chosen: by `iloc` or by plain indices."""
    if type(value) is list:
        return len(value), 0, ""
    shape = getattr(value, "shape", None)
    if type(shape) is not tuple or not 1 <= len(shape) <= 2 or not all(type(n) is int for n in shape):
        return 0, 0, ""
    return shape[0], shape[1] if len(shape) == 2 else 0, ".iloc" if hasattr(value, "iloc") else ""


def _called(name: str) -> str:
    return {"<module>": "The module itself", "<lambda>": "A lambda"}.get(name, f"A part of a function ({name[1:-1]})")


def _root(name: str, path: str) -> str:
    """The folder from which a module is imported."""
    folder = os.path.dirname(path)
    parts = name.count(".") + (os.path.basename(path) == "__init__.py")
    for _ in range(parts):
        folder = os.path.dirname(folder)
    return folder


def _target(
    frame: types.FrameType, module: types.ModuleType | None, writer: Writer
) -> tuple[str, object, list[tuple[str, str, str]]]:
    """The text of what is called, the function (bound: of its class), and the object whose method it is."""
    code = frame.f_code
    *owners, last = code.co_qualname.split(".")
    found: object = module
    prefix = writer.prefix if writer.main is not None else f"{module.__name__}." if module is not None else ""
    if not owners:
        function = frame.f_globals.get(last)
        _look_into(function, code)
        return f"{prefix}{last}", function, []
    for part in owners:
        found = getattr(found, part, None)
    held = vars(found).get(last) if isinstance(found, type) else None
    if held is None:
        raise Refused(f"{code.co_qualname} cannot be found by its name")
    function = held.__func__ if isinstance(held, (classmethod, staticmethod)) else held
    names = code.co_varnames[: code.co_argcount]
    scope = locals_of(frame)
    if isinstance(held, staticmethod):
        return f"{prefix}{code.co_qualname}", function, []
    if not names or names[0] not in scope:
        raise Refused(f"the object of {code.co_qualname} is not known any more")
    owner = scope[names[0]]
    if isinstance(held, property):
        raise Refused(f"{last} is a property: choose a call further out")
    if isinstance(held, classmethod):
        return f"{prefix}{code.co_qualname}", types.MethodType(function, owner), []
    return f"{names[0]}.{last}", function, [(names[0], writer.code(owner, names[0]), "owner")]


def _look_into(function: object, code: types.CodeType) -> None:
    seen = 0
    while function is not None and seen < RECURSIVE:
        if getattr(function, "__code__", None) is code or getattr(function, "__name__", "") == code.co_name:
            return
        function, seen = getattr(function, "__wrapped__", None), seen + 1
    raise Refused(f"{code.co_name} cannot be found by its name: choose a call further out")


def _arguments(frame: types.FrameType, writer: Writer, skip: int) -> list[tuple[str, str, str]]:
    """(name, text, how): `how` is empty, `name`, `*` or `**`; positional ones first."""
    code, scope = frame.f_code, locals_of(frame)
    count = code.co_argcount
    names = list(code.co_varnames[: count + code.co_kwonlyargcount])
    rest = count + code.co_kwonlyargcount
    found: list[tuple[str, str, str]] = []

    def text(name: str) -> str:
        if name not in scope:
            raise Refused(f"the argument {name} was deleted since the call began")
        return writer.code(scope[name], name)

    found += [(name, text(name), "") for name in names[skip:count]]
    if code.co_flags & inspect.CO_VARARGS:
        star = code.co_varnames[rest]
        rest += 1
        if scope.get(star):
            found.append((star, text(star), "*"))
    found += [(name, text(name), "name") for name in names[count:]]
    if code.co_flags & inspect.CO_VARKEYWORDS:
        star = code.co_varnames[rest]
        if scope.get(star):
            found.append((star, text(star), "**"))
    return found


def _globals_read(frame: types.FrameType, writer: Writer) -> dict[str, str]:
    """Values of the module that a function, or one that it calls, reads: not what its definitions give anyway."""
    namespace = frame.f_globals
    todo, seen, values = [frame.f_code], set(), {}
    while todo:
        code = todo.pop()
        plain = plain_code.plain(code)
        if plain in seen:
            continue
        seen.add(plain)
        todo += [const for const in plain.co_consts if isinstance(const, types.CodeType)]
        for name in plain.co_names:
            if name not in namespace:
                todo += _methods(name, namespace)
                continue
            if name in values or name.startswith("__"):
                continue
            value = namespace[name]
            if isinstance(value, types.FunctionType) and value.__globals__ is namespace:
                todo.append(value.__code__)
            elif isinstance(value, type) and value.__module__ == namespace.get("__name__"):
                todo += [f.__code__ for f in vars(value).values() if isinstance(f, types.FunctionType)]
            elif isinstance(value, types.ModuleType) or _is_imported(name, frame):
                continue
            else:
                try:
                    values[name] = writer.code(value, name)
                except CannotKeep as e:
                    raise Refused(f"the call reads the name {name} of its module: {e}") from None
    return dict(sorted(values.items()))


def _methods(name: str, namespace: dict[str, object]) -> list[types.CodeType]:
    """The code of the methods of a name, of the classes of a module."""
    classes = [c for c in namespace.values() if isinstance(c, type) and c.__module__ == namespace.get("__name__")]
    found = [vars(c).get(name) for c in classes]
    return [f.__code__ for f in found if isinstance(f, types.FunctionType)]


def _is_imported(name: str, frame: types.FrameType) -> bool:
    file = registry.file_of(frame)
    if file is None:
        return False
    for node in ast.walk(file.tree):
        if isinstance(node, (ast.Import, ast.ImportFrom)):
            for one in node.names:
                if (one.asname or one.name.partition(".")[0]) == name:
                    return True
    return False


def _returns(frame: types.FrameType) -> bool:
    """Whether the function gives a value."""
    file = registry.file_of(frame)
    if file is None:
        return True
    for node in ast.walk(file.tree):
        if isinstance(node, (ast.FunctionDef, ast.AsyncFunctionDef)) and node.name == frame.f_code.co_name:
            inner = [n for n in ast.walk(node) if isinstance(n, (ast.Return, ast.Yield, ast.YieldFrom))]
            return any(getattr(n, "value", None) is not None for n in inner)
    return True
