"""Takes up a file that was changed while the script is paused: functions get their new code for their next call."""

from __future__ import annotations

import ast
import difflib
import gc
import os
import sys
import types
from typing import Any

from ..source import plain_code, registry
from ..source.source_file import SCOPES, SourceFile
from .loader import CANNOT, Loader, _functions

replaced: dict[str, SourceFile] = {}  # the texts before the last edit that was taken up, by name


class CannotTakeUp(ValueError):
    """The change cannot be taken up while the script runs; the text says why."""


def take_up(loader: Loader, path: str, only_check: bool = False) -> list[str]:
    """Swaps the code of the functions of a file that differ from what runs; their names.  `only_check`: says whether
    that could be done, and does nothing.

    CannotTakeUp when something outside of functions has changed, when a function has gone or closes over other
    names, or when the file cannot be read or compiled.
    """
    name = next((n for n in registry.files if os.path.realpath(n) == os.path.realpath(path)), None)
    if name is None:
        raise CannotTakeUp(f"{os.path.basename(path)} is not a file of the script.")
    old = registry.files[name]
    if old.cells is not None:
        raise CannotTakeUp("A notebook's functions change when their cell runs again.")
    try:
        with open(name, "rb") as f:
            new = SourceFile(name, f.read())
        if ast.dump(_skeleton(old)) != ast.dump(_skeleton(new)):
            raise CannotTakeUp("Top-level code changed. Rerun the script.")
        code = loader.rewritten(new, loader.options)
    except OSError as e:
        raise CannotTakeUp(f"{path} cannot be read: {e.strerror}.") from None
    except CANNOT as e:
        if isinstance(e, CannotTakeUp):
            raise
        raise CannotTakeUp(f"{os.path.basename(path)} cannot be compiled: {getattr(e, 'msg', e)}.") from None
    before, after = _functions_of(old), _functions_of(new)
    differ = [n for n in after if n in before and ast.dump(before[n]) != ast.dump(after[n])]
    fresh = _by_name(code)
    swaps: list[tuple[types.FunctionType, types.CodeType]] = []
    for thing in gc.get_objects():
        if type(thing) is types.FunctionType and thing.__code__.co_filename == name:
            found = fresh.get(thing.__code__.co_qualname)
            if found is None:
                continue
            if found.co_freevars != thing.__code__.co_freevars:
                called = thing.__code__.co_qualname
                if called.replace(".<locals>", "") in differ:
                    raise CannotTakeUp(f"{called} uses other names of the function around it than before.")
                continue
            swaps.append((thing, found))
    if only_check:
        return differ
    for running in _running(name):
        registry.keep_text(running, old)
    for function, found in swaps:
        function.__code__ = found
    registry.files[name], replaced[name] = new, old
    plain_code.register(name, compile(new.data, name, "exec", dont_inherit=True))
    loader.fresh[name] = _functions(code)
    return differ


def follow(chain: list[list[Any]]) -> None:
    """Add their lines in the text of now to calls, as `stack.chain` gives them: a function may have its new code."""
    for call in chain:
        old, new = replaced.get(call[1]), registry.files.get(call[1])
        if old is None or new is None:
            continue
        for tag, first, last, to_first, to_last in difflib.SequenceMatcher(
            None, old.lines, new.lines, autojunk=False
        ).get_opcodes():
            if tag != "delete" and first < call[2] <= last:
                call.append(min(call[2] - first + to_first, max(to_last, 1)))
                break


def _running(name: str) -> list[types.CodeType]:
    """The code of the file that calls on the stack run: it keeps its own text."""
    found = []
    frame: types.FrameType | None = sys._getframe()
    while frame is not None:
        if frame.f_code.co_filename == name:
            found.append(frame.f_code)
        frame = frame.f_back
    return found


def _skeleton(file: SourceFile) -> ast.Module:
    """A module without the bodies of its functions: what has run when it was defined."""
    tree = ast.parse(file.data, file.path)
    for node in ast.walk(tree):
        if isinstance(node, (ast.FunctionDef, ast.AsyncFunctionDef)):
            node.body = [ast.Pass()]
    return tree


def _functions_of(file: SourceFile) -> dict[str, ast.AST]:
    found: dict[str, ast.AST] = {}

    def visit(node: ast.AST, inside: str) -> None:
        for child in ast.iter_child_nodes(node):
            if isinstance(child, SCOPES) and not isinstance(child, ast.Lambda):
                name = f"{inside}{child.name}"
                if not isinstance(child, ast.ClassDef):
                    found[name] = child
                visit(child, name + ".")
            else:
                visit(child, inside)

    visit(file.tree, "")
    return found


def _by_name(code: types.CodeType) -> dict[str, types.CodeType]:
    found: dict[str, types.CodeType] = {}
    for const in code.co_consts:
        if isinstance(const, types.CodeType):
            found.setdefault(const.co_qualname, const)
            found.update({n: c for n, c in _by_name(const).items() if n not in found})
    return found
