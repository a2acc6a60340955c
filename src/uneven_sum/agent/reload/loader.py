"""Gives the user's modules their rewritten code, whichever way they are imported."""

from __future__ import annotations

import ast
import gc
import importlib.machinery
import os
import sys
import types
import weakref
from collections.abc import Callable
from typing import Any

from ..core import identity, run_state
from ..core.deep import with_room
from ..frames import other_compilers
from ..lookouts.lookout import Lookouts, Plan
from ..probes import runtime
from ..recording.recorder_set import Recorders
from ..rewrite.linking import put_in
from ..rewrite.statements import Rewriter
from ..source import plain_code, registry, sites
from ..source.sites import Options
from ..source.source_file import SourceFile

# Why a file cannot be rewritten: too deeply nested, mostly.  (3.11 raises SystemError when something is
# parsed in the middle of parsing, as by a finaliser that prints a traceback.)
CANNOT = (SyntaxError, RecursionError, ValueError, MemoryError, SystemError)
Finish = Callable[[ast.Module, bytes], None]
INSTALLED = ("site-packages", "dist-packages")


class Loader:
    """Decides what is the user's and compiles it; knows where the breakpoints are."""

    def __init__(self, options: Options) -> None:
        self.options = options
        self.folders: list[str] = []
        self.lookouts = Lookouts()
        self.recorders = Recorders()
        self.fresh: dict[str, dict[object, types.CodeType]] = {}  # functions with the present breakpoints, by file
        self._probed: dict[int, tuple[weakref.ref[types.CodeType], frozenset[tuple[int, int]]]] = {}
        self.checked: tuple[str, bytes, types.CodeType] | None = None  # what was compiled to see whether it can be
        self.finishing: dict[str, Finish] = {}  # what a test runner does to the tree of a file before it is compiled
        self.plain: dict[str, str] = {}  # files that run as they are, and why
        self.unwatched: Callable[[str, str], None] = lambda file, why: None  # hears of each
        self._library = tuple(
            os.path.realpath(p) + os.sep for p in {os.path.dirname(os.__file__), sys.prefix, sys.base_prefix}
        )

    def is_users(self, path: str) -> bool:
        """True for files under the user's folders that are not installed packages."""
        if not path.endswith(".py"):
            return False
        real = os.path.realpath(path)
        if real.startswith(identity.FOLDER):
            return False
        best = max((f for f in self.folders if real.startswith(f)), key=len, default=None)
        if best is None or (_is_installed(real) and not _is_installed(best)):
            return False
        return not any(real.startswith(lib) and not best.startswith(lib) for lib in self._library)

    def compile(
        self, path: str, data: bytes, name: str | None = None, plain: types.CodeType | None = None
    ) -> types.CodeType:
        """The code of one of the user's files, with probes; plain where it cannot be rewritten.  `plain`: its code
        without probes, where that is known.

        SyntaxError and ValueError are raised as `compile` would raise them.
        """
        name = name or path
        known, self.checked = self.checked, None
        if plain is None and known is not None and known[:2] == (name, data):
            plain = known[2]
        elif plain is None:
            plain = compile(data, name, "exec", SourceFile(name, data).flags, dont_inherit=True)
        file = SourceFile(name, data)
        for options in (self.options, Options(False, self.options.checks, self.options.meters)):
            try:
                code = self.rewritten(file, options, once=True)
            except Exception as e:  # CANNOT, or an internal error: the script runs all the same
                self.plain[name] = f"it cannot be rewritten ({type(e).__name__}: {e})"
                continue
            registry.files[name] = file
            plain_code.register(name, plain)
            why = self.plain.pop(name, None)
            if why is not None:
                self.unwatched(name, f"its errors do not pause, since {why}")
            return code
        self.unwatched(name, self.plain[name])
        return plain

    def rewritten(
        self, file: SourceFile, options: Options, flags: int = 0, mode: str = "exec", once: bool = False
    ) -> types.CodeType:
        """The code of a text with probes.  `flags`: of the `from __future__` imports that it inherits; `mode`: as of
        `compile`, exec or eval; `once`: it is a module's, which runs once."""
        plan = self.lookouts.plan(os.path.realpath(file.path))
        plan.loops = self.recorders.plan(file)
        planned = [
            lk for by_line in (plan.lines, plan.elements, plan.lambdas) for one in by_line.values() for lk in one
        ]
        try:
            made = self._made(file, options, plan, flags, mode, once)
        except RecursionError:
            made = with_room(lambda: self._made(file, options, plan, flags, mode, once))
        self._note_probes(made, frozenset((lk.id, lk.version) for lk in planned))
        return made

    def _made(
        self, file: SourceFile, options: Options, plan: Plan, flags: int, mode: str, once: bool
    ) -> types.CodeType:
        # The plain compilation has given the script's own warnings.
        with run_state.silenced(), run_state.no_collection():
            finish = self.finishing.get(file.path) if mode == "exec" else None
            rewriter = Rewriter(file, sites.sites, options, plan, once)
            rewriter.asserts = finish is None
            tree = rewriter.module() if mode == "exec" else rewriter.expression()
            if finish is not None and isinstance(tree, ast.Module):
                finish(tree, file.data)
            code = compile(tree, file.path, mode, flags | file.flags, dont_inherit=True)
            del tree, rewriter
            return put_in(code, runtime.PROBES)

    def _note_probes(self, code: types.CodeType, there: frozenset[tuple[int, int]]) -> None:
        if there:
            self._probed[id(code)] = (weakref.ref(code), there)
        for const in code.co_consts:
            if isinstance(const, types.CodeType):
                self._note_probes(const, there)

    def probed(self, code: types.CodeType) -> frozenset[tuple[int, int]]:
        """Numbers and versions of the lookouts of the file whose probes stand in a piece of code."""
        found = self._probed.get(id(code))
        return found[1] if found is not None and found[0]() is code else frozenset()

    def install(self) -> None:
        """Every import of a user's file gets its code from here."""
        loader = importlib.machinery.SourceFileLoader
        original = loader.get_code
        outer = self

        def get_code(self: Any, fullname: str) -> types.CodeType | None:
            try:
                path = self.get_filename(fullname)
                if outer.is_users(path):
                    return outer.compile(path, self.get_data(path))
            except Exception:
                pass  # the original says what is wrong, in its own words
            return original(self, fullname)

        # CPython leaves the frames of the import system out of a traceback where they stand together.
        get_code.__code__ = get_code.__code__.replace(co_filename=original.__code__.co_filename)
        loader.get_code = get_code  # type: ignore[method-assign]  # for this one loader

    def refresh(self, paths: set[str]) -> None:
        """Swaps the code of the functions of these files (`*`: of all) for code with the present lookouts.

        Calls that are running keep their code.
        """
        for name, file in list(registry.files.items()):
            if "*" not in paths and os.path.realpath(name) not in paths:
                continue
            try:
                new = self.rewritten(file, self.options)
            except CANNOT:
                continue
            self.fresh[name] = _functions(new)
            _swap(name, self.fresh[name])

    def defined(self, frame: types.FrameType, name: str) -> None:
        """A running module has just defined a function or class, with the code that it has: swaps that."""
        path = frame.f_code.co_filename
        fresh = self.fresh.get(path)
        if not fresh:
            return
        made = frame.f_globals.get(name)
        new = None
        if type(made) is types.FunctionType and made.__code__.co_filename == path and made.__code__.co_name == name:
            new = fresh.get(_key(made.__code__))
        if type(made) is types.FunctionType and new is not None and not made.__code__.co_freevars:
            made.__code__ = new
        else:  # a class, or something that a decorator has wrapped, maybe one of the same file
            _swap(path, fresh)

    def stale(self, frame: types.FrameType) -> bool:
        """True for a call whose code was compiled before the present lookouts were set.

        The function gets its new code for the next time.
        """
        fresh = self.fresh.get(frame.f_code.co_filename)
        if fresh is None:
            return False
        new = fresh.get(_key(frame.f_code))
        if other_compilers.is_left(frame.f_code):
            return False
        if new is None:  # the module's own code, or a comprehension's that is gone
            return frame.f_code.co_name == "<module>"
        if new is frame.f_code:
            return False
        for function in gc.get_referrers(frame.f_code):
            if type(function) is types.FunctionType and function.__code__.co_freevars == new.co_freevars:
                function.__code__ = new
        return True

    def lines_in(self, code: types.CodeType) -> set[int]:
        """The lines of a piece of code itself at which a lookout is."""
        wanted = self.lookouts.lines(os.path.realpath(code.co_filename))
        return wanted & {line for _, _, line in code.co_lines() if line is not None} if wanted else set()


def _is_installed(path: str) -> bool:
    return any(f"{os.sep}{part}{os.sep}" in path for part in INSTALLED)


def _functions(code: types.CodeType, into: dict[object, types.CodeType] | None = None) -> dict[object, types.CodeType]:
    found: dict[object, types.CodeType] = {} if into is None else into
    for const in code.co_consts:
        if isinstance(const, types.CodeType):
            found[_key(const)] = const
            _functions(const, found)
    return found


def _key(code: types.CodeType) -> tuple[object, ...]:
    """What distinguishes the functions of a file; lambdas and comprehensions of one line by their columns."""
    key = (code.co_qualname, code.co_firstlineno)
    if not code.co_name.startswith("<"):
        return key
    places = [(line, column) for line, _, column, _ in code.co_positions() if line is not None and column is not None]
    return (*key, min(places, default=(0, 0)))


def _swap(name: str, new: dict[object, types.CodeType]) -> None:
    for thing in gc.get_objects():
        if type(thing) is types.FunctionType and thing.__code__.co_filename == name:
            code = thing.__code__
            if other_compilers.is_left(code):
                continue
            other = new.get(_key(code))
            if other is not None and other.co_freevars == code.co_freevars:
                thing.__code__ = other
