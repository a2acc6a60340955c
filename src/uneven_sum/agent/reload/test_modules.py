"""Test modules whose assertions pytest rewrites for its own messages: they get our probes too.

pytest compiles them itself, from the tree that it has rewritten.  Here its rewriting goes over the tree that has the
probes already; an assertion in it is as it is written, so that the messages of pytest do not change.
"""

from __future__ import annotations

import ast
import sys
import types
from typing import TYPE_CHECKING, Any

from ..core.markers import HIDDEN
from .loader import Loader

if TYPE_CHECKING:
    from pathlib import Path

MODULE = "_pytest.assertion.rewrite"
NEEDED = ("_rewrite_test", "_read_pyc", "rewrite_asserts")
WORKERS = 0
_watched: set[int] = set()  # the modules, by identity; `WORKERS`


def look(loader: Loader) -> None:
    """Stand in pytest's rewriting as soon as its module has been imported; once."""
    module = sys.modules.get(MODULE)
    if module is None or id(module) in _watched or not hasattr(module, "AssertionRewritingHook"):
        return
    if getattr(getattr(module, "__spec__", None), "_initializing", False):
        return
    _watched.add(id(module))
    if all(callable(getattr(module, name, None)) for name in NEEDED):
        _watch(module, loader)
    else:
        _say(module, loader)


def tell_of_workers(loader: Loader) -> None:
    """A process is about to be started: where it is pytest's, its tests run elsewhere.  Said once."""
    if "xdist.workermanage" in sys.modules and WORKERS not in _watched:
        _watched.add(WORKERS)
        loader.unwatched("pytest", "its tests run in worker processes; leave out -n, or write -n 0")


def _watch(module: Any, loader: Loader) -> None:
    rewrite_test, read = module._rewrite_test, module._read_pyc

    def rewritten(fn: Path, config: object) -> tuple[bytes, types.CodeType]:
        digest, plain = rewrite_test(fn, config)
        path = str(fn)
        if not loader.is_users(path):
            return digest, plain

        def finish(tree: ast.Module, source: bytes) -> None:
            module.rewrite_asserts(tree, source, path, config)

        loader.finishing[path] = finish
        return digest, loader.compile(path, fn.read_bytes(), plain=plain)

    def from_cache(source: Path, *rest: object) -> types.CodeType | None:
        """The code that pytest keeps has no probes."""
        return None if loader.is_users(str(source)) else read(source, *rest)

    module._rewrite_test, module._read_pyc = rewritten, from_cache
    _hide_temporaries()


def _hide_temporaries() -> None:
    """`--showlocals` shows the names of the test only."""
    shown = getattr(sys.modules.get("_pytest._code.code"), "Frame", None)
    names = getattr(shown, "f_locals", None)
    if shown is not None and isinstance(names, property):
        ours = HIDDEN[0]
        shown.f_locals = property(lambda self: {n: v for n, v in names.__get__(self).items() if not n.startswith(ours)})


def _say(module: Any, loader: Loader) -> None:
    """An unknown pytest: say of each test module that it runs as it is."""
    execute = module.AssertionRewritingHook.exec_module

    def exec_module(self: object, loaded: types.ModuleType) -> None:
        path = str(getattr(loaded.__spec__, "origin", ""))
        if loader.is_users(path):
            loader.unwatched(path, "its errors do not pause, since this pytest rewrites it in a way that is not known")
        execute(self, loaded)

    module.AssertionRewritingHook.exec_module = exec_module
