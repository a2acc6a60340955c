"""What the rewritten code calls.  The usual path of each is as short as it can be."""

from __future__ import annotations

import itertools
import operator
import sys
import types
from math import isfinite
from typing import Any

from . import nonfinite, stack, state
from .expressions import Site, Sites
from .nonfinite import MAX, PLAIN

sites = Sites()


class _Kinds(set[type]):
    """A set that can be a constant of a code object: those must be hashable."""

    __hash__ = object.__hash__  # type: ignore[assignment]


numbers = _Kinds({float, int, bool, complex})  # types whose augmented operators never work in place
floats: set[type] = set()  # other kinds of floats that have been met: numpy's scalars
_before: dict[tuple[int, int], Any] = {}


class Listener:
    """What the engine is to the probes."""

    def nonfinite(self, value: Any, site: Site, frame: types.FrameType, old: Any) -> None: ...
    def finite(self, site: Site, frame: types.FrameType) -> None: ...
    def failed(self, site: Site, frame: types.FrameType, head: bool) -> str:
        return ""

    def breakpoint(self, site: Site, frame: types.FrameType) -> None: ...


listener = Listener()
holding = False  # a warning waits for the result of its statement
_answer = ""


def check(value: Any, emptied: None, site: int) -> Any:
    """Looks at a value before it is stored or passed on; returns it."""
    kind = type(value)
    if kind is float:
        if -MAX <= value <= MAX and not holding:
            return value
    elif kind in floats:
        if isfinite(value) and not holding:
            return value
    elif kind in PLAIN and not holding:
        return value
    return _look(value, site, None)


def check_augmented(value: Any, old: Any, site: int) -> Any:
    kind = type(value)
    if kind is float:
        if -MAX <= value <= MAX and not holding:
            return value
    elif kind in floats:
        if isfinite(value) and not holding:
            return value
    elif kind in PLAIN and not holding:
        return value
    return _look(value, site, old)


def _look(value: Any, site: int, old: Any) -> Any:
    if state.quiet or sys is None:
        return value
    try:
        bad = nonfinite.any_bad(value)
    except Exception:
        return value  # it resists being looked at
    if state.in_trial:
        state.met += bad
        return value
    kind = type(value)
    if kind not in numbers and nonfinite.is_number_kind(kind):
        numbers.add(kind)
        if isinstance(value, float):
            floats.add(kind)
    if bad:
        listener.nonfinite(value, sites[site], sys._getframe(2), old)
    elif holding:
        listener.finite(sites[site], sys._getframe(2))
    return value


def old(value: Any) -> Any:
    """Before an operation that may work in place: which cells are bad already (None: none is)."""
    if state.quiet or not nonfinite.any_bad(value):
        return None
    return nonfinite.mask(value)


def before(value: Any, site: int) -> None:
    if type(value) in PLAIN or state.quiet:
        return
    if nonfinite.any_bad(value):
        _before[site, id(sys._getframe(1))] = nonfinite.mask(value)


def after(value: Any, site: int) -> None:
    if type(value) in PLAIN and not holding:
        return
    kept = _before.pop((site, id(sys._getframe(1))), None) if _before else None
    _look(value, site, kept)


def failed(site: int) -> bool:
    """A statement raised: pauses where nothing will handle it.  True: skip the statement."""
    global _answer
    _answer = ""
    if state.quiet or state.in_trial or sys is None:
        return False
    try:
        _answer = listener.failed(sites[site], sys._getframe(1), False)
    except RecursionError:
        pass  # no room here; a guard further out judges
    return _answer == "skip"


def again() -> bool:
    """True when the statement that failed is to be tried again."""
    return _answer == "retry"


def head_failed(site: int) -> None:
    if not (state.quiet or state.in_trial or sys is None):
        try:
            listener.failed(sites[site], sys._getframe(1), True)
        except RecursionError:
            pass


def breakpoint_(site: int) -> bool:
    if not (state.quiet or state.in_trial):
        listener.breakpoint(sites[site], sys._getframe(1))
    return False


def enter_loop(site: int) -> Any:
    """The meter of a loop where no temporary may be used."""
    meter = itertools.repeat(True, sys.maxsize)
    stack.meters[site] = (id(sys._getframe(1)), meter, -1, 0)
    return meter


def enter_while(site: int) -> None:
    meter = _passers[site]
    stack.meters[site] = (id(sys._getframe(1)), meter, -1, sys.maxsize - meter.__length_hint__())


def range_loop(numbers: Any, site: int) -> Any:
    if type(numbers) is not range:
        return itertools.compress(numbers, enter_loop(site))
    iterator = iter(numbers)
    stack.meters[site] = (id(sys._getframe(1)), iterator, len(numbers), 0)
    return iterator


_passers: dict[int, Any] = {}


class _Probes(dict[str, Any]):
    """Probes by their mark; `pass:SITE` is made for its loop."""

    def __missing__(self, name: str) -> Any:
        word, _, site = name.partition(":")
        if word != "pass":
            raise KeyError(name)
        meter = _passers.setdefault(int(site), itertools.repeat(True, sys.maxsize))
        return meter.__next__


_AUGMENTED = "add sub mult:mul div:truediv floordiv mod pow lshift rshift bitor:or bitxor:xor bitand:and matmult:matmul"

PROBES = _Probes(
    check=check,
    check_augmented=check_augmented,
    old=old,
    before=before,
    after=after,
    failed=failed,
    again=again,
    head_failed=head_failed,
    breakpoint=breakpoint_,
    enter_loop=enter_loop,
    enter_while=enter_while,
    range_loop=range_loop,
    compress=itertools.compress,
    repeat=itertools.repeat,
    iter=iter,
    type=type,
    float=float,
    int=int,
    numbers=numbers,
    slice=slice,
    getattr=getattr,
    setattr=setattr,
    getitem=operator.getitem,
    setitem=operator.setitem,
)
for _pair in _AUGMENTED.split():
    _name, _, _function = _pair.partition(":")
    PROBES["i" + _name] = getattr(operator, "i" + (_function or _name))
