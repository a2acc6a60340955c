"""What the last calls of the user's functions leave, for the pause at the script's end.

Most scripts have a `main()`, whose names are gone when the script ends.  A probe at each end of a function notes
them.  What is noted stays alive longer than in a plain run, which a script must not notice: so only data are, not
what holds a file, has a finalizer, or is referred to weakly.
"""

from __future__ import annotations

import collections
import os
import sys
import time
import types
import weakref
from collections.abc import Iterator
from typing import Any

from ..core.markers import MARK
from ..frames import stack
from ..frames.namespace import locals_of
from ..source import registry
from ..values.kinds.base import Kind, register

CALLS = 1000  # calls of a function after which nothing of it is kept
SPENT = 0.2  # seconds spent on a function that is called again and again, after which nothing of it is kept
PARTS = 200_000  # of a container that are looked at
SHARE = 0.25  # of the memory that is free at the first call
SCALARS: tuple[type, ...] = (*(int, float, complex, bool, str, bytes, bytearray, range, slice, type(None), type(...)),)
# By module and name: a script may have modules of these names, which ours would keep from it.
NAMED = {("decimal", "Decimal"), ("fractions", "Fraction"), ("pathlib", "PurePath"), ("pathlib._local", "PurePath")}
NAMED |= {("datetime", name) for name in ("date", "time", "timedelta", "tzinfo")}
CONTAINERS = (dict, list, tuple, set, frozenset, collections.deque)
CODE = (type, types.ModuleType, types.FunctionType, types.BuiltinFunctionType, types.MethodType)


class NotKept:
    """Stands for a value that is not kept after its call."""

    __module__ = "builtins"  # shown without it

    def __init__(self, of: type, why: str) -> None:
        self._said = f"not kept after its call: {of.__name__} ({why})"

    def __repr__(self) -> str:
        return self._said


register(Kind(lambda value: {"text": repr(value), "kind": "object"}, count=lambda value: 0), NotKept)


class Left:
    """What the last call of one function left.  `values` is None where nothing is kept."""

    def __init__(self, code: types.CodeType) -> None:
        self.code = code
        self.values: dict[str, object] | None = None
        self.names: dict[str, object] = {}  # of the function's module
        self.line = self.calls = self.size = self.order = 0
        self.arguments = ""
        self.spent = 0.0


class LastCalls:
    """Of all functions, by file and qualified name."""

    def __init__(self) -> None:
        self.all: dict[tuple[str, str], Left] = {}
        self.by_site: dict[int, Left] = {}
        self.over: set[int] = set()  # sites in functions that were called too often
        self.room = -1
        self.order = 0

    def left(self, value: object, site: int) -> object:
        """The probe around what a function returns.  `site`: which of its ends that is."""
        if site in self.over:
            return value
        frame = sys._getframe(1)
        found = self.by_site.get(site)
        if found is None:
            found = self.by_site[site] = self._known(frame.f_code)
        found.calls += 1
        if found.calls > CALLS or found.spent > SPENT:
            self.over.add(site)
            if found.values is not None:
                self._forget(found)
            return value
        began = time.perf_counter()
        self.keep(found, frame)
        if found.calls > 1:
            found.spent += time.perf_counter() - began
        return value

    def ended_by(self, exc: BaseException) -> None:
        """The calls that `sys.exit` has ended."""
        for frame in stack.frames_left(exc):
            if frame.f_code.co_flags & 0x3 and registry.file_of(frame) is not None:  # a function's
                found = self._known(frame.f_code)
                found.calls += 1
                self.keep(found, frame)

    def _known(self, code: types.CodeType) -> Left:
        found = self.all.setdefault((code.co_filename, code.co_qualname), Left(code))
        found.code = code  # a function that was defined anew has another
        return found

    def _forget(self, found: Left) -> None:
        self.room += found.size
        found.values, found.size = None, 0

    def keep(self, found: Left, frame: types.FrameType) -> None:
        if self.room < 0:
            self.room = int(SHARE * _free_memory())
        self._forget(found)
        kept: dict[str, object] = {}
        for name, value in locals_of(frame).items():
            if name.startswith(MARK) or issubclass(type(value), CODE):
                continue
            look = _Look(self.room)
            why = look.why_not(value)
            if not why:
                self.room -= look.size
                found.size += look.size
            kept[name] = NotKept(type(value), why) if why else value
        self.order += 1
        found.values, found.names, found.order = kept, frame.f_globals, self.order
        found.line, found.arguments = stack.line_of(frame), stack.arguments(frame)

    def kept(self) -> list[Left]:
        """The calls of which something is kept, the last one first."""
        return sorted((f for f in self.all.values() if f.values is not None), key=lambda f: -f.order)

    def too_often(self) -> list[str]:
        """The functions of which nothing is kept, because they were called too often."""
        return sorted(name for (_, name), found in self.all.items() if found.values is None)


class _Look:
    """A look at one value and what is in it, within a limit."""

    def __init__(self, room: int) -> None:
        self.room, self.size, self.parts = room, 0, 0
        self.seen: set[int] = set()

    def why_not(self, value: object) -> str:
        """Why a value is not kept; empty when it is."""
        waiting: list[Iterator[object]] = [iter([value])]
        while waiting:
            one = next(waiting[-1], waiting)
            if one is waiting:
                waiting.pop()
                continue
            kind = type(one)
            if kind in SCALARS or issubclass(kind, CODE) or id(one) in self.seen:
                continue
            self.parts += 1
            if self.parts > PARTS:
                return f"more than {PARTS:,} parts"
            self.seen.add(id(one))
            why, parts = self._look(one, kind)
            if why:
                return why
            if self.size > self.room:
                return "too large"
            if parts is not None:
                waiting.append(parts)
        return ""

    def _look(self, one: Any, kind: type) -> tuple[str, Iterator[object] | None]:
        if any("__del__" in k.__dict__ for k in kind.__mro__):
            return "it has a finalizer", None
        if issubclass(kind, SCALARS) or any((k.__module__, k.__name__) in NAMED for k in kind.__mro__):
            return "", None
        module = str(kind.__module__)
        package = module.partition(".")[0]
        if package != "pandas" and weakref.getweakrefcount(one):  # pandas itself refers to its frames so
            return "it is referred to weakly", None
        if package == "numpy":
            return self._array(one)
        if package == "pandas":
            return self._frame(one)
        base: Any = next((k for k in CONTAINERS if issubclass(kind, k)), None)
        found: list[object] = []
        if base is not None:
            self.size += base.__sizeof__(one)
            if base is list and list.__len__(one) > 1000 and set(map(type, list.__iter__(one))) <= set(SCALARS):
                return "", None  # a long record of numbers
            found += base.__iter__(one)
            found += dict.values(one) if base is dict else ()
        elif module not in ("types", "random") and not all(_is_own(k) for k in kind.__mro__[:-1]):
            return "it may hold more than data", None
        found += _attributes(one, kind)
        return "", iter(found) if found else None

    def _array(self, one: Any) -> tuple[str, Iterator[object] | None]:
        numpy = sys.modules.get("numpy")
        if numpy is None or not issubclass(type(one), numpy.ndarray):
            return "", None  # a number, a dtype, a generator of random numbers
        base = one
        while issubclass(type(base), numpy.ndarray):
            if issubclass(type(base), numpy.memmap):
                return "it is a file's", None
            owner, base = base, numpy.ndarray.base.__get__(base)
        if base is not None and type(base) not in (bytes, bytearray):
            return "its memory is another object's", None
        self.size += int(numpy.ndarray.nbytes.__get__(owner))
        if not numpy.ndarray.dtype.__get__(one).hasobject:
            return "", None
        flat = numpy.ndarray.ndim.__get__(one) == 1
        return ("", iter(numpy.ndarray.tolist(one))) if flat else ("it holds objects", None)

    def _frame(self, one: Any) -> tuple[str, Iterator[object] | None]:
        pandas = sys.modules.get("pandas")
        if pandas is not None and isinstance(one, (pandas.DataFrame, pandas.Series, pandas.Index)):
            if type(one).__module__.partition(".")[0] != "pandas":
                return "it may hold more than data", None
            used = pandas.DataFrame.memory_usage if isinstance(one, pandas.DataFrame) else type(one).memory_usage
            amount = used(one)
            self.size += int(amount.sum() if hasattr(amount, "sum") else amount)
        elif type(one).__name__ not in ("Timestamp", "Timedelta", "Period", "Interval", "NAType", "NaTType"):
            return "it may hold more than data", None
        return "", None


def _is_own(kind: type) -> bool:
    """Whether a class is of the user's files."""
    module = sys.modules.get(str(kind.__module__))
    return module is not None and getattr(module, "__file__", None) in registry.files


def _attributes(one: object, kind: type) -> list[object]:
    found: list[object] = []
    try:
        found += object.__getattribute__(one, "__dict__").values()
    except AttributeError:
        pass
    for k in kind.__mro__:
        slots = [v for v in k.__dict__.values() if type(v) is types.MemberDescriptorType]
        for slot in slots if k.__flags__ & (1 << 9) else ():
            try:
                found.append(slot.__get__(one))
            except AttributeError:
                continue
    return found


def _free_memory() -> int:
    try:
        return os.sysconf("SC_AVPHYS_PAGES") * os.sysconf("SC_PAGE_SIZE")
    except (ValueError, OSError):
        return 1 << 30
