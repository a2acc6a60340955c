"""What the rewritten code calls.  The usual path of each is as short as it can be."""

from __future__ import annotations

import itertools
import operator
import sys
import types
from math import isfinite
from typing import Any

from ..core import run_state, signal_masking
from ..core.type_identity import TypeIds, key_of
from ..frames import fast_form
from ..frames.namespace import locals_of
from ..lookouts.lookout import Lookout, tickers
from ..recording.coverage import all_marks
from ..recording.recorder import numbered
from ..source import gates, registry
from ..source.sites import sites
from ..values import nonfinite, quick_look, snapshot
from ..values.quick_look import AT_ONCE, FEW, carries, carries_float, has_nan, holds_no_more, is_fine, is_quickly_fine
from . import run_texts
from .listener import Listener
from .operands import operands_in

WHOLE_CALLS = 10  # times after which a call is known for one that carries nan from anywhere in an operand
numbers = TypeIds(float, int, bool, complex)  # types whose augmented operators never work in place
floats = TypeIds()  # other kinds of floats that have been met: numpy's scalars
float64: object = None  # numpy's, once it has been met
ndarray: object = None  # the same
double: object = None  # its dtype of float64
vdot: Any = None
known = TypeIds()  # the types that have been met
never_bad = TypeIds()  # those whose values hold nothing that could be bad
never_bad.update(nonfinite.PLAIN)
_before: dict[tuple[int, int], Any] = {}


class Leave(BaseException):
    """Raised within a statement to give it up: its guard leaves the call, or skips to the next statement."""


class Anew(BaseException):
    """Raised at the first line, before anything has run: the script's own text is compiled again."""


class Leaving:
    """What is under way: nothing, leaving a call with a value, or giving a statement up."""

    frame = 0  # id of the frame to leave
    value: object = None
    skips = False
    again = False  # the statement is to run again


leave = Leaving()
listener = Listener()
holding = False  # a warning waits for the result of its statement
present: dict[int, Lookout] | None = None  # the lookouts of the run
complex_at: set[int] = set()  # sites that have given a complex number: the first of each is looked at
_retried: set[int] = set()  # ids of frames whose failed statement runs again; by frame, since threads fail at once


def check(value: Any, emptied: None, site: int) -> object:
    """Looks at a value before it is stored or passed on; returns it."""
    # The bounds of float stand here as constants: this is called for each element of a generator.
    kind = type(value)
    if kind is float:
        if -1.7976931348623157e308 <= value <= 1.7976931348623157e308 and not holding:
            return value
    elif kind is float64 or key_of(kind) in floats:
        if isfinite(value) and not holding:
            return value
    elif kind is ndarray:
        if is_fine(value) and not holding:
            return value
    elif (key_of(kind) in never_bad or (kind is tuple and is_quickly_fine(value))) and not holding:
        return value
    elif kind is complex and is_quickly_fine(value) and not holding:
        return value if site in complex_at else _complex(value, site)
    return _look(value, site, None)


def check_result(value: Any, emptied: None, site: int, given: tuple[object, ...]) -> object:
    """The same of arithmetic.  `given`: values of names in it; where they explain what is bad, nobody is asked."""
    kind = type(value)
    if kind is float64 or kind is float:
        if isfinite(value):  # two comparisons of numpy's float would take longer
            if not holding:
                return value
        elif not (holding or run_state.quiet or run_state.in_trial):
            found = sites[site]
            if carries_float(value, operands_in(given, found.parts)) and listener.carried(value, found, given):
                return value
        return _look(value, site, None)
    if kind is ndarray:
        if value.dtype is double and FEW <= value.size <= AT_ONCE:  # as `is_fine` does, without its call
            if isfinite(vdot(value, value)) and not holding:
                return value
        elif is_fine(value) and not holding:
            return value
    elif kind is complex:
        if isfinite(value.real) and isfinite(value.imag) and not holding:
            return value if site in complex_at else _complex(value, site)
    elif (key_of(kind) in never_bad or (key_of(kind) in floats and isfinite(value))) and not holding:
        return value
    return _look(value, site, None, given)


def check_augmented(value: Any, old: object, site: int) -> object:
    kind = type(value)
    if kind is float or kind is float64 or key_of(kind) in floats:
        if isfinite(value) and not holding:
            return value
    elif kind is ndarray:
        if is_fine(value) and not holding:
            return value
    elif key_of(kind) in never_bad and not holding:
        return value
    elif kind is complex and is_quickly_fine(value) and not holding:
        return value if site in complex_at else _complex(value, site)
    return _look(value, site, old)


def _complex(value: object, site: int) -> object:
    if run_state.quiet or run_state.in_trial or sys is None:
        return value
    complex_at.add(site)
    return listener.complex_made(value, sites[site], sys._getframe(2))


def _look(value: object, site: int, old: object, given: tuple[object, ...] = ()) -> object:
    if run_state.quiet or sys is None:
        return value
    try:
        if (given or old is not None) and not (holding or run_state.in_trial):
            if old is None:
                operands = operands_in(given, sites[site].parts)
                explained = carries(value, operands) or (sites[site].whole > WHOLE_CALLS and has_nan(operands))
            else:
                explained = holds_no_more(value, old)
            if explained and listener.carried(value, sites[site], given):
                return value
        bad = nonfinite.any_bad(value)
    except Exception as e:
        if signal_masking.is_the_scripts(e):
            raise
        return value  # it resists being looked at
    if run_state.in_trial:
        run_state.met += bad
        return value
    if key_of(type(value)) not in known:
        _note_kind(type(value))
    if bad:
        return listener.nonfinite(value, sites[site], sys._getframe(2), old)
    if holding:
        listener.finite(sites[site], sys._getframe(2))
    return value


def _note_kind(kind: type) -> None:
    """A type is met for the first time."""
    global float64, ndarray, double, vdot
    known.take(kind)
    if nonfinite.is_never_bad(kind):
        never_bad.take(kind)
    if kind is quick_look.ndarray:
        vdot, double = quick_look.vdot, quick_look.double
        ndarray = kind  # the last: other threads take the quick path from here on
    elif nonfinite.is_number_kind(kind):
        numbers.take(kind)
        if issubclass(kind, float):
            floats.take(kind)
            if kind is getattr(nonfinite.module("numpy"), "float64", None):
                float64 = kind


def old(value: object) -> object:
    """Before an operation that may work in place: which cells are bad already (None: none is)."""
    if run_state.quiet or (type(value) is ndarray and is_fine(value)) or not nonfinite.any_bad(value):
        return None
    return nonfinite.mask(value)


def before(value: object, site: int) -> None:
    kind = type(value)
    if (is_fine(value) if kind is ndarray else key_of(kind) in never_bad) or run_state.quiet:
        return
    if nonfinite.any_bad(value):
        _before[site, id(sys._getframe(1))] = nonfinite.mask(value)


def after(value: object, site: int) -> None:
    kind = type(value)
    if (is_fine(value) if kind is ndarray else key_of(kind) in never_bad) and not holding:
        if _before:
            _before.pop((site, id(sys._getframe(1))), None)
        return
    kept = _before.pop((site, id(sys._getframe(1))), None) if _before else None
    _look(value, site, kept)


def failed(site: int) -> bool:
    """A statement raised: pauses where nothing will handle it.  True: skip the statement."""
    if sys is None:
        return False
    frame = sys._getframe(1)
    if leave.frame and isinstance(sys.exc_info()[1], Leave):
        if leave.again and leave.frame == id(frame):
            leave.frame, leave.again = 0, False
            listener.again(frame)
            _retried.add(id(frame))
            return False
        if leave.skips and leave.frame == id(frame):
            leave.frame, leave.skips = 0, False
            listener.skipped(frame)
            return True
        return False
    if run_state.quiet or run_state.in_trial:
        return False
    answer = ""
    try:
        answer = listener.failed(sites[site], frame, False)
    except RecursionError:
        pass  # no room here; a guard further out judges
    if answer == "retry":
        _retried.add(id(frame))
    return answer == "skip"


def again() -> bool:
    """True when the statement that failed is to be tried again."""
    if not _retried or sys is None:
        return False
    frame = id(sys._getframe(1))
    if frame in _retried:
        _retried.remove(frame)
        return True
    return False


def block_failed(site: int) -> bool:
    """Something was raised in a block.  True: by its own arithmetic, or given up by the user; it runs precisely."""
    if sys is None:
        return False
    raised = sys.exc_info()[1]
    traceback = raised.__traceback__ if raised is not None else None
    if traceback is None or not fast_form.is_in(traceback.tb_frame.f_code, traceback.tb_lasti):
        return False  # a statement's guard has judged it
    if type(raised) is fast_form.Unclear or (traceback.tb_next is None and isinstance(raised, fast_form.ITS_ERRORS)):
        return True
    if run_state.quiet or run_state.in_trial:
        return False
    try:
        return listener.failed(sites[site], sys._getframe(1), False) in ("skip", "retry")
    except RecursionError:
        return False


def learn(gate: int) -> None:
    """The precise form of a block begins, and its fast form needs to know more than that its gate is open."""
    frame = sys._getframe(1)
    gates.learn(gate, locals_of(frame), frame.f_globals)


class Cells:
    """The temporaries of a module."""


def know(cells: Cells, flag: str, gate: list[bool]) -> bool:
    """The types of a block's names are known from now on, for as long as its gate is open."""
    setattr(cells, flag, gate)
    return True


def head_failed(site: int) -> None:
    if not (run_state.quiet or run_state.in_trial or sys is None):
        try:
            listener.failed(sites[site], sys._getframe(1), True)
        except RecursionError:
            pass


def leaving() -> bool:
    """True when this call is to be left at once."""
    return bool(leave.frame) and not leave.skips and not leave.again and leave.frame == id(sys._getframe(1))


def given() -> object:
    """The value that the user gives for a call that is left."""
    value, leave.value, leave.frame = leave.value, None, 0
    listener.given(sys._getframe(1))
    return value


# -- lookouts ----------------------------------------------------------------------------------------

_noted: list[tuple[int, int, bool]] = []


def lookout(site: int) -> None:
    if not (run_state.quiet or run_state.in_trial):
        found = sites[site]
        if present is not None and not any([(lk := present.get(n)) and lk.on and not lk.spent for n in found.lookouts]):
            return  # the probe of one that is gone, in a call that runs on
        listener.lookout(found.lookouts, found, sys._getframe(1), found.role == "by name")


def note(site: int) -> None:
    """One of several lookouts of a line: the last of them decides whether there is a pause."""
    if not (run_state.quiet or run_state.in_trial):
        found = sites[site]
        _noted.append((id(sys._getframe(1)), found.lookouts[0], found.role == "by name"))


def decide(site: int) -> None:
    if not _noted or run_state.quiet or run_state.in_trial:
        return
    found, frame = sites[site], sys._getframe(1)
    mine = [n for n in _noted if n[0] == id(frame) and n[1] in found.lookouts]
    _noted[:] = [n for n in _noted if n not in mine]
    for by_name in (False, True):
        numbers = tuple(n for _, n, named in mine if named is by_name)
        if numbers:
            listener.lookout(numbers, found, frame, by_name)


def condition_failed(site: int) -> None:
    if not (run_state.quiet or run_state.in_trial):
        error = sys.exc_info()[1]
        assert error is not None
        listener.condition_failed(sites[site].lookouts[0], sites[site], sys._getframe(1), error)


def _asked(site: int, condition: Any, frame: types.FrameType, **facts: object) -> None:
    found = sites[site]
    if condition is not None:
        try:
            if not condition(*facts.values()):
                return
        except Exception as e:
            if signal_masking.is_the_scripts(e):
                raise
            listener.condition_failed(found.lookouts[0], found, frame, e)
            return
    listener.lookout(found.lookouts, found, frame, found.role == "by name", **facts)


def element(site: int, condition: object = None) -> bool:
    if not (run_state.quiet or run_state.in_trial):
        _asked(site, condition, sys._getframe(1))
    return True


def at_while(site: int, condition: object = None) -> bool:
    if not (run_state.quiet or run_state.in_trial):
        _asked(site, condition, sys._getframe(1))
    return False


def returning(value: object, site: int, condition: object = None) -> object:
    if not (run_state.quiet or run_state.in_trial):
        _asked(site, condition, sys._getframe(1), returned=value)
    return value


def changed(site: int) -> None:
    if not (run_state.quiet or run_state.in_trial):
        listener.changed(sites[site], sys._getframe(1), False)


def begins(site: int) -> None:
    if not (run_state.quiet or run_state.in_trial):
        listener.changed(sites[site], sys._getframe(1), True)


def enter_loop(site: int) -> Any:
    """The meter of a loop where no temporary may be used."""
    meter = itertools.repeat(True, sys.maxsize)
    registry.note_meter(site, sys._getframe(1), (meter, -1, 0))
    return meter


def enter_while(site: int) -> None:
    meter = _passers[site]
    registry.note_meter(site, sys._getframe(1), (meter, -1, sys.maxsize - meter.__length_hint__()))


def enter_calls_while(site: int) -> None:
    registry.note_meter(site, sys._getframe(1), (itertools.repeat(True, sys.maxsize), -1, 0))


def pass_of_call(site: int) -> None:
    """A pass of a `while` in a function without temporaries: each call has a meter of its own."""
    found = registry.meters.get(site, {}).get(id(sys._getframe(1)))
    if found is not None:
        next(found[0])


def range_loop(numbers: Any, site: int) -> object:
    if type(numbers) is not range:
        return itertools.compress(numbers, enter_loop(site))
    iterator = iter(numbers)
    registry.note_meter(site, sys._getframe(1), (iterator, len(numbers), 0))
    return iterator


_passers: dict[int, Any] = {}


class _Probes(dict[str, object]):
    """Probes by their mark; `pass:SITE` is made for its loop."""

    def __missing__(self, name: str) -> object:
        word, _, site = name.partition(":")
        if word == "tick":
            return tickers[int(site)]()
        if word == "cells":
            return Cells()
        if word == "gate":
            return gates.gates[int(site)]
        if word == "mark":
            return all_marks[int(site)]
        if word == "recorder":
            return numbered[int(site)]
        if word in ("begin", "enter", "leave"):
            return getattr(numbered[int(site)], word)
        if word != "pass":
            raise KeyError(name)
        meter = _passers.setdefault(int(site), itertools.repeat(True, sys.maxsize))
        return meter.__next__


_AUGMENTED = "add sub mult:mul div:truediv floordiv mod pow lshift rshift bitor:or bitxor:xor bitand:and matmult:matmul"

PROBES = _Probes(
    check=check,
    check_result=check_result,
    check_augmented=check_augmented,
    old=old,
    before=before,
    after=after,
    failed=failed,
    again=again,
    head_failed=head_failed,
    block_failed=block_failed,
    doubt=gates.doubt,
    doubt_arrays=gates.doubt_arrays,
    are_arrays=quick_look.are_arrays,
    all_finite=quick_look.all_finite,
    know=know,
    precise=gates.reopen,
    learn=learn,
    leaving=leaving,
    given=given,
    lookout=lookout,
    note=note,
    decide=decide,
    condition_failed=condition_failed,
    element=element,
    at_while=at_while,
    returning=returning,
    changed=changed,
    begins=begins,
    clock=snapshot.clock,
    since=snapshot.since,
    told=snapshot.told,
    missing=snapshot.MISSING,
    Exception=Exception,
    NameError=NameError,
    enter_loop=enter_loop,
    enter_while=enter_while,
    enter_calls_while=enter_calls_while,
    pass_of_call=pass_of_call,
    range_loop=range_loop,
    compress=itertools.compress,
    repeat=itertools.repeat,
    iter=iter,
    next=next,
    type=type,
    key_of=key_of,
    float=float,
    int=int,
    bool=bool,
    complex=complex,
    list=list,
    tuple=tuple,
    enumerate=enumerate,
    numbers=numbers,
    run_text=run_texts.prepared,
    slice=slice,
    getattr=getattr,
    setattr=setattr,
    getitem=operator.getitem,
    setitem=operator.setitem,
)
for _pair in _AUGMENTED.split():
    _name, _, _function = _pair.partition(":")
    PROBES["i" + _name] = getattr(operator, "i" + (_function or _name))
