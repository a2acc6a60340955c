"""Names that stand for something else than is meant: a file beside the script that hides a library, a variable that
hides a function, a local name that hides the module's."""

from __future__ import annotations

import ast
import builtins
import os
import re
import sys
import types
from collections.abc import Mapping

from ..core.text import str_of
from ..values.describe import text_of
from ..values.safe_read import read_attribute
from .reasons import NONE, Reason

NO_NAME = re.compile(r"cannot import name '[^']+' from (?:partially initialized module )?'([^']+)'")
NO_VALUE = re.compile(r"cannot access local variable '([^']+)'")
NOT_CALLABLE = re.compile(r"'[^']+' object is not callable$")


def of_error(exc: BaseException, node: ast.AST, scope: Mapping[str, object], names: Mapping[str, object]) -> Reason:
    """`node`: the term that raised; `scope`: the names it can use; `names`: those of the module."""
    if isinstance(exc, AttributeError):
        owner = read_attribute(exc, "obj")
        return Reason("hides-library", found) if (found := of_module(owner)) else NONE
    if isinstance(exc, UnboundLocalError) and (said := NO_VALUE.match(str_of(exc))) and said[1] in names:
        told = f"the function assigns {said[1]}, so it is not the module's: declare it global, or pass it"
        return Reason("hides-module", told)
    called = node.func if isinstance(node, ast.Call) else None
    if isinstance(exc, TypeError) and isinstance(called, ast.Name) and NOT_CALLABLE.search(str_of(exc)):
        if called.id not in scope or callable(scope[called.id]):
            return NONE  # what it has called called something else
        hides = ", which hides the built-in function" if callable(getattr(builtins, called.id, None)) else ""
        return Reason("no-function", f"{called.id} is {text_of(scope[called.id])}{hides}")
    return NONE


def of_import(exc: BaseException) -> str:
    """Where an import has found a file of the user's instead of a library: a sentence without its end."""
    said = NO_NAME.match(str_of(exc)) if isinstance(exc, ImportError) else None
    found = of_module(sys.modules.get(said[1])) if said is not None else ""
    return found


def of_module(module: object) -> str:
    """Which library a module hides, since its file is found first; empty where it hides none."""
    if not issubclass(type(module), types.ModuleType):
        return ""
    name, file = read_attribute(module, "__name__"), read_attribute(module, "__file__")
    if not isinstance(name, str) or not isinstance(file, str) or "." in name:
        return ""
    home = os.path.dirname(file)
    home = os.path.realpath(os.path.dirname(home) if os.path.basename(file) == "__init__.py" else home)
    others = [f for f in sys.path if f and os.path.realpath(f) != home]
    places = [os.path.join(folder, name) + end for folder in others for end in (".py", "/__init__.py")]
    installed = os.path.realpath(file).startswith(os.path.realpath(os.path.dirname(os.__file__)) + os.sep)
    if installed or "site-packages" in file or "dist-packages" in file:
        return ""
    if name in sys.builtin_module_names or name in sys.stdlib_module_names or any(map(os.path.isfile, places)):
        return f"{name} is {file}, which hides the library: rename it"
    return ""
