"""Gates of blocks: whether the fast form of a block of arithmetic may run (see `rewrite/blocks.py`).

A gate is open when its list has something in it: rewritten code keeps the list, and asks for its truth.  Gates close at
each pause and for as long as lines are traced.  Each opens again when its block has run in its precise form once, which
forgets what the block knew about the types of its names.

The gate of a block that reads or sets attributes, or calls functions, *learns* first: which classes its objects have,
whether their attributes are plain, and whether the functions are the real ones.
"""

from __future__ import annotations

import builtins
import math
import sys
import types
from collections.abc import Mapping
from typing import Any, NamedTuple

from .source_file import Position

MOST_DOUBTS = 1000  # of one block: from then on it runs in its precise form
NOT_PLAIN, OTHER_CLASS, OF_ARRAYS = 300, 20, 20  # how many doubts they are worth
MOST_OBJECTS = 4  # whose attributes a block reads or sets
# Functions that a block may call: they take and return numbers, and do nothing else.
# fmt: off
_MATH = (
    math.acos, math.acosh, math.asin, math.asinh, math.atan, math.atan2, math.atanh, math.ceil, math.copysign,
    math.cos, math.cosh, math.degrees, math.erf, math.erfc, math.exp, math.expm1, math.fabs, math.floor, math.fmod,
    math.gamma, math.hypot, math.lgamma, math.log, math.log10, math.log1p, math.log2, math.pow, math.radians,
    math.sin, math.sinh, math.sqrt, math.tan, math.tanh, math.trunc,
)
# fmt: on
_NUMPY = (
    "abs absolute add arccos arccosh arcsin arcsinh arctan arctan2 arctanh cbrt ceil copysign cos cosh deg2rad degrees "
    "divide exp exp2 expm1 fabs floor fmod hypot log log10 log1p log2 maximum minimum mod multiply negative power "
    "rad2deg radians reciprocal remainder rint sign sin sinh sqrt square subtract tan tanh true_divide trunc"
)
MODULES = ("math", "numpy")
FUNCTIONS: dict[str, object] = {f"math.{one.__name__}": one for one in _MATH}
FUNCTIONS |= {"abs": abs, "max": max, "min": min}
FUNCTIONS |= dict.fromkeys((f"numpy.{one}" for one in _NUMPY.split()), None)  # once numpy is there

# Of each object its name and attributes; of each function how it is written and what it has to be.
Wanted = tuple[tuple[tuple[str, tuple[str, ...]], ...], tuple[tuple[str, str], ...]]


class Gate:
    """The gate of one block."""

    __slots__ = ("doubts", "kind0", "kind1", "kind2", "kind3", "off", "open", "wanted")

    def __init__(self, wanted: Wanted = ((), ())) -> None:
        self.open: list[bool] = [] if any(wanted) else [True]
        self.off: list[bool] = []  # with something in it, the gate stays closed, and the precise form does not ask
        self.doubts = 0
        self.wanted = wanted
        self.kind0: type | None = None  # of the first object: the class that was found plain
        self.kind1: type | None = None
        self.kind2: type | None = None
        self.kind3: type | None = None

    def close(self, for_now: bool) -> None:
        """Close it: `for_now`, or until the precise form has run once; after many doubts for good."""
        self.open.clear()
        self.off[:] = [True] if for_now or self.doubts > MOST_DOUBTS else []


gates: list[Gate] = []  # by their number
_numbers: dict[tuple[str, Position, Wanted, bool], int] = {}
_traced = False


def number_of(path: str, block: Position, wanted: Wanted = ((), ()), arrays: bool = False) -> int:
    """The number of the gate of a block; one gate for all versions of its code that want the same.  `arrays`: it is a
    block on arrays."""
    key = (path, block, wanted, arrays)
    if key not in _numbers:
        _numbers[key] = len(gates)
        gates.append(Gate(wanted))
        if _traced:
            gates[-1].close(True)
    return _numbers[key]


def close() -> None:
    """Let each block run in its precise form at least once."""
    for gate in gates:
        gate.open.clear()


def trace(wanted: bool) -> None:
    """Keep all gates closed for as long as lines are traced."""
    global _traced
    if wanted is not _traced:
        _traced = wanted
        for gate in gates:
            gate.close(wanted)


def doubt(number: int) -> None:
    """The fast form of a block could not tell that all is well: it runs again, in its precise form."""
    gate = gates[number]
    gate.doubts += 1
    gate.close(_traced)


def doubt_arrays(number: int) -> None:
    """The same of a block of arithmetic on arrays, where running twice takes longer."""
    gates[number].doubts += OF_ARRAYS - 1
    doubt(number)


def reopen(number: int) -> None:
    """The precise form of a block begins."""
    gate = gates[number]
    if not gate.off and not gate.open:
        gate.open.append(True)


def learn(number: int, names: Mapping[str, object], of_module: Mapping[str, object]) -> None:
    """The precise form of a block with objects or functions begins.  `names`: those of its call, then its module's."""
    gate = gates[number]
    objects, functions = gate.wanted
    worth = 1  # the same as before: a value was no number, or there was a pause
    for place, (name, attributes) in enumerate(objects):
        held = names.get(name, of_module.get(name))
        known = f"kind{place}"
        if getattr(gate, known) is type(held):
            continue
        # All classes are of one kind, and all modules: a name of the call may hold another one in the next pass.
        plain = is_plain(held, attributes) and not (name in names and type(held) in (type, types.ModuleType))
        worth = max(worth, OTHER_CLASS if plain else NOT_PLAIN)
        setattr(gate, known, type(held) if plain else None)
    for written, real in functions:
        owner, _, method = written.partition(".")
        found = names.get(owner, of_module.get(owner, getattr(builtins, owner, None)))
        home = real.partition(".")[0]
        if method:
            found = getattr(found, method, None) if found is sys.modules.get(home) else None
        if found is None or found is not (FUNCTIONS[real] or _of_numpy(real.partition(".")[2])):
            worth = NOT_PLAIN
    gate.doubts += worth
    if gate.doubts > MOST_DOUBTS:
        gate.close(_traced)
    elif worth < NOT_PLAIN:
        reopen(number)


def _of_numpy(name: str) -> object:
    """A function of numpy's that works on each cell and does nothing else; None for what a script has put there."""
    numpy: Any = sys.modules.get("numpy")
    found: Any = getattr(numpy, name, None)
    is_real = numpy is not None and type(found) is numpy.ufunc and "(" not in found.__name__  # "f (vectorized)"
    return found if is_real else None


class _Named(NamedTuple):
    a: int


_GET = {id(kind.__getattribute__) for kind in (object, tuple, types.SimpleNamespace)}
_SET = {id(kind.__setattr__) for kind in (object, tuple, types.SimpleNamespace)}
_READ = (types.MemberDescriptorType, type(_Named.a))  # slots, and the names of a named tuple


def is_plain(held: Any, attributes: tuple[str, ...]) -> bool:
    """Whether reading and setting these attributes of an object runs no code."""
    kind = type(held)
    if kind is types.ModuleType:
        return all(attribute in held.__dict__ for attribute in attributes)
    of_class = kind is type
    found: dict[str, object] = {}
    for one in reversed(held.__mro__ if of_class else kind.__mro__):
        found.update(one.__dict__)
    if of_class:
        return not any(hasattr(type(found.get(attribute)), "__get__") for attribute in attributes)
    if id(found.get("__getattribute__")) not in _GET or id(found.get("__setattr__")) not in _SET:
        return False
    return "__getattr__" not in found and not any(
        hasattr(type(found[attribute]), "__get__") and not isinstance(found[attribute], _READ)
        for attribute in attributes
        if attribute in found
    )
