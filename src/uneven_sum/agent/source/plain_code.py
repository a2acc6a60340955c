"""Code that leaves the process: whatever library pickles or marshals it, the plain code goes, without probes.

Picklers that take code have a function for it in one of their class's tables.  These functions are wrapped as soon as
their module has been imported, and so is `marshal`; code itself cannot say how it is pickled.
"""

from __future__ import annotations

import copyreg
import marshal
import pickle
import sys
import types
from collections import ChainMap
from collections.abc import Iterator
from typing import Any

roots: dict[str, list[types.CodeType]] = {}  # plain code of the rewritten modules, by file name; the latest last
seen = -1  # number of modules when the picklers were last looked through
PLAIN_CONSTANTS = {type(None), bool, int, float, complex, str, bytes, type(...), slice}


def register(name: str, plain: types.CodeType) -> None:
    """Note the plain code of a module that runs rewritten."""
    known = roots.setdefault(name, [])
    if plain not in known:
        known.append(plain)


def plain(code: types.CodeType) -> types.CodeType:
    """The code that the script would have had; `code` itself where it holds no probe or is not known."""
    if not has_probes(code):
        return code
    for root in reversed(roots.get(code.co_filename, [])):
        if code.co_name == "<module>" and root.co_firstlineno == code.co_firstlineno:
            return root
        alike = [c for c in within(root) if _signature(c) == _signature(code)]
        if len(alike) > 1:  # lambdas of one line: the one at the same columns
            here = set(code.co_positions())
            alike.sort(key=lambda c: -len(here & set(c.co_positions())))
        if alike:
            return alike[0]
    return code


def _signature(code: types.CodeType) -> tuple[object, ...]:
    count = code.co_argcount + code.co_kwonlyargcount
    return (code.co_qualname, code.co_firstlineno, code.co_argcount, code.co_varnames[:count], code.co_freevars)


def within(code: types.CodeType) -> Iterator[types.CodeType]:
    """The code of all functions and classes in a piece of code."""
    for const in code.co_consts:
        if type(const) is types.CodeType:
            yield const
            yield from within(const)


def has_probes(value: Any) -> bool:
    if type(value) is types.CodeType:
        return any(map(has_probes, value.co_consts))
    if type(value) in (tuple, frozenset):
        return any(map(has_probes, value))
    return type(value) not in PLAIN_CONSTANTS


class _Plainly:
    """Stands for a pickler's function for code: called with the code last, it passes on the plain one."""

    def __init__(self, original: Any) -> None:
        self.__wrapped__ = original

    def __call__(self, *args: Any) -> object:
        return self.__wrapped__(*args[:-1], plain(args[-1]))


def look() -> None:
    """Wrap the function for code of every pickler that has been defined since the last look."""
    global seen
    seen = len(sys.modules)
    todo: list[type] = [*type.__subclasses__(pickle.Pickler), *type.__subclasses__(pickle._Pickler)]
    tables: list[object] = [copyreg.dispatch_table]
    while todo:
        kind = todo.pop()
        todo += type.__subclasses__(kind)
        tables += type.__dict__["__dict__"].__get__(kind).values()
    for table in tables:
        for each in table.maps if isinstance(table, ChainMap) else [table]:
            if isinstance(each, dict):
                original = dict.get(each, types.CodeType)
                if original is not None and type(original) is not _Plainly:
                    dict.__setitem__(each, types.CodeType, _Plainly(original))


def install() -> None:
    for name in ("dump", "dumps"):
        setattr(marshal, name, _marshals(getattr(marshal, name)))


def _marshals(original: Any) -> object:
    """`marshal.dumps` and `dump`, which get plain code."""

    def call(value: object, *args: object, **named: object) -> object:
        if _holds_probes(value, 0):
            value = _plainly(value)
        return original(value, *args, **named)

    call.__name__, call.__qualname__, call.__doc__ = original.__name__, original.__qualname__, original.__doc__
    call.__module__ = original.__module__
    return call


def _holds_probes(value: Any, depth: int) -> bool:
    if type(value) is types.CodeType:
        return has_probes(value)
    if depth < 50 and type(value) in (tuple, list, set, frozenset):
        return any(_holds_probes(v, depth + 1) for v in value)
    if depth < 50 and type(value) is dict:
        return any(_holds_probes(v, depth + 1) for pair in value.items() for v in pair)
    return False


def _plainly(value: Any) -> object:
    kind = type(value)
    if kind is types.CodeType:
        return plain(value)
    if kind in (tuple, list, set, frozenset):
        return kind(map(_plainly, value))
    if kind is dict:
        return {_plainly(k): _plainly(v) for k, v in value.items()}
    return value
