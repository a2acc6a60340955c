"""Names that are not there, and the nearest that are: variables, attributes, modules and what they offer."""

from __future__ import annotations

import ast
import builtins
import contextlib
import difflib
import keyword
import os
import re
import sys
import types
from collections.abc import Iterable

from ..core.text import str_of
from ..values.safe_read import read_attribute
from . import removed_names
from .reasons import NONE, Reason

ALIKE = 0.75  # of two names, by difflib's measure: `mena` and `mean`
MOST = 2  # names that are given
MOST_FILES = 20_000  # in a folder of packages
NO_KEYWORD = [
    re.compile(r"got an unexpected keyword argument '([^']+)'"),
    re.compile(r"^'([^']+)' is an invalid keyword argument for "),
    re.compile(r"^'\w+' object has no property '([^']+)'"),
]
WRITTEN = re.compile(r"\b([a-z_]\w*)(?=\s*[=,)\]])")
NOT_IN_MODULE = re.compile(r"cannot import name '([^']+)' from '([^']+)'")


def of_error(exc: BaseException, node: ast.AST | None, scope: Iterable[str], owner: object) -> Reason:
    """The nearest names where one is not there.  `node`: the term that raised; `scope`: the names it can use;
    `owner`: what it asks for an attribute."""
    name = read_attribute(exc, "name")
    if not isinstance(name, str):
        method = node.func if isinstance(node, ast.Call) else node
        if isinstance(exc, AttributeError) and isinstance(method, ast.Attribute) and type(owner) is types.ModuleType:
            return removed_names.of_attribute(method.attr, owner, _attributes(owner))  # NumPy's errors have no name
        return NONE
    if isinstance(exc, NameError) and not isinstance(exc, UnboundLocalError):
        if getattr(node, "id", None) != name:
            return NONE
        variable = _nearest(name, [n for n in scope if not hasattr(builtins, n)])
        removed = NONE if variable.text else removed_names.of_name(name)
        return removed if removed.text else _nearest(name, scope)
    if isinstance(exc, AttributeError):
        method = node.func if isinstance(node, ast.Call) else node
        owner = read_attribute(exc, "obj")
        own = isinstance(method, ast.Attribute) and method.attr == name  # else it was raised deep in a library
        if own and type(owner) is dict and name in owner:
            told = f"a value of a dictionary is read as {ast.unparse(method.value)}[{name!r}]"  # type: ignore[union-attr]
            return Reason("item", told, near=(repr(name),))
        return _of_attribute(name, owner, method) if own else NONE
    return NONE


def of_keyword(exc: BaseException, node: ast.AST, function: object) -> Reason:
    """What an argument is called that a function does not have by this name."""
    if not isinstance(node, ast.Call) or not isinstance(exc, (TypeError, AttributeError)):
        return NONE
    if (removed := removed_names.of_keyword(exc, node, function)).text:
        return removed
    message = str_of(exc)
    said = next((found[1] for form in NO_KEYWORD if (found := form.search(message))), "")
    given = {k.arg for k in node.keywords}
    if not said or (said not in given and None not in given):
        return NONE  # of a call further in
    return _nearest(said, [*_parameters(function), *_properties(exc)], "keyword")


def of_import(exc: BaseException) -> str:
    """What an import has not found, as a part of a sentence: the nearest module, or name in it."""
    if isinstance(exc, ModuleNotFoundError):
        missing = read_attribute(exc, "name")
        if isinstance(missing, str) and (removed := removed_names.of_module(missing)):
            return removed
        owner, _, name = missing.rpartition(".") if isinstance(missing, str) else ("", "", "")
        if owner:
            found = _nearest(name, _modules(owner))
        else:  # more likely not installed than far from what is meant
            found = _nearest(name, (one for one in _modules("") if abs(len(one) - len(name)) <= 1))
            if not found.text:
                return f"It is not installed for {sys.executable}"
        return found.text[:1].upper() + found.text[1:]
    said = NOT_IN_MODULE.match(str_of(exc)) if isinstance(exc, ImportError) else None
    if said is None:
        return ""
    names = {*_attributes(sys.modules.get(said[2])), *_modules(said[2])}
    found = removed_names.of_attribute(said[1], sys.modules.get(said[2]), names)
    found = found if found.text else _nearest(said[1], names)
    return found.text[:1].upper() + found.text[1:]


def _parameters(function: object) -> list[str]:
    """The names of a function's parameters; of one that a library has wrapped, those of what is wrapped, too."""
    if issubclass(type(function), type) and type(read_attribute(function, "__init__")) is types.FunctionType:
        function = read_attribute(function, "__init__")
    function = read_attribute(function, "__func__") if type(function) is types.MethodType else function
    found: list[str] = []
    for _ in range(4):
        home = str(type.__getattribute__(type(function), "__module__")).partition(".")[0]
        if type(function) is types.FunctionType:
            code = function.__code__
            found += code.co_varnames[: code.co_argcount + code.co_kwonlyargcount]
            function = vars(function).get("__wrapped__")
        elif type(function).__name__ == "_ArrayFunctionDispatcher" and home == "numpy":
            function = getattr(function, "_implementation", None)
        else:
            return [*found, *_written(function)] if home in ("builtins", "numpy") or "cython" in home else found
    return found


def _written(function: object) -> list[str]:
    """The parameters that the first lines of a compiled function's text name: `sum(axis=None, dtype=None)`."""
    text = str(getattr(function, "__text_signature__", None) or getattr(function, "__doc__", None) or "")
    inner = text.partition("(")[2][:600].partition("\n\n")[0]
    return WRITTEN.findall(inner)


def _properties(exc: BaseException) -> list[str]:
    """The properties of the object of Matplotlib that has refused one."""
    tb = exc.__traceback__
    while tb is not None and tb.tb_next is not None:
        tb = tb.tb_next
    refusing = tb.tb_frame.f_locals.get("self") if tb is not None else None
    if not str(type.__getattribute__(type(refusing), "__module__")).startswith("matplotlib."):
        return []
    return [name.removeprefix("set_") for name in _attributes(refusing) if name.startswith("set_")]


def _nearest(name: str, names: Iterable[str], kind: str = "name") -> Reason:
    known = {n for n in names if type(n) is str and n != name and n.startswith("_") == name.startswith("_")}
    known.difference_update(keyword.kwlist)  # `None` is a built-in name, too
    close = [n for n in sorted(known) if n.casefold() == name.casefold()]
    if kind == "keyword" and len(name) > 2:  # letters in another order; a short form
        close = close or [n for n in sorted(known) if sorted(n) == sorted(name)]
        longest = sorted((n for n in known if len(n) > 2 and name.startswith(n)), key=len)[-1:]
        close = close or [n for n in sorted(known) if n.startswith(name)] or longest
    close = (close or difflib.get_close_matches(name, sorted(known), MOST, ALIKE))[:MOST]
    if not close:
        return NONE
    return Reason(kind, f"the nearest {kind}{'s' if len(close) > 1 else ''}: {', '.join(close)}", near=tuple(close))


def _of_attribute(name: str, owner: object, node: ast.AST | None) -> Reason:
    """What is meant by an attribute that is not there."""
    if found := _of_member(name, owner, node):
        return found
    names = _attributes(owner)
    if name in names:
        return NONE  # it is there, and raised itself
    removed = removed_names.of_attribute(name, owner, names)
    if removed.text:
        return removed
    if (setter := f"set_{name}") in names:  # what pyplot calls by the shorter name
        return Reason("name", f"the nearest name: {setter}", near=(setter,))
    return _nearest(name, names)


def _of_member(name: str, owner: object, node: ast.AST | None) -> Reason | None:
    """Where a module has something of its own name that has the attribute: `datetime.datetime`."""
    if not issubclass(type(owner), types.ModuleType) or not isinstance(node, ast.Attribute):
        return None
    within = str(read_attribute(owner, "__name__")).rpartition(".")[2]
    member = read_attribute(owner, within)
    if name not in (_attributes(member) if issubclass(type(member), type) else ()):
        return None
    told = f"{ast.unparse(node.value)} is the module: its {within} has {name}"
    return Reason("name", told, near=(f"{within}.{name}",))


def _attributes(owner: object) -> set[str]:
    """The names of an object's attributes, without running its code."""
    kind = type(owner)
    if issubclass(kind, types.ModuleType):
        return set(types.ModuleType.__getattribute__(owner, "__dict__"))
    classes = [kind, *([owner] if issubclass(kind, type) else [])]
    bases = [base for one in classes for base in type.__getattribute__(one, "__mro__")]
    found = {name for base in bases for name in type.__getattribute__(base, "__dict__")}
    own = read_attribute(owner, "__dict__")
    return found | {name for name in own if type(name) is str} if type(own) is dict else found


def _modules(owner: str) -> set[str]:
    """The names of the modules in a package, or of all that can be imported."""
    package = sys.modules.get(owner) if owner else None
    if owner and package is None:
        return set()
    folders = read_attribute(package, "__path__") if package is not None else sys.path
    found = set() if owner else set(sys.stdlib_module_names)
    for folder in list(folders) if isinstance(folders, Iterable) else ():
        with contextlib.suppress(OSError, TypeError):
            for file in os.listdir(folder or ".")[:MOST_FILES]:
                name = file.partition(".")[0]
                if name.isidentifier() and name != "__pycache__":
                    found.add(name)
    return found
