"""What the rewritten code of a shaken run calls: each operator and library call is done, its result moved where it is
inexact, and told to the stream with its operands.

They stand in the places of an audit's probes: see `rewrite/audit_probes.py`.  The number of a site has the part TERM
of a record in it, which tells a result with its operands.
"""

from __future__ import annotations

import functools
import operator
import types
from collections.abc import Callable
from typing import Any

from ..core import run_state, signal_masking
from ..core.data_types import Array
from ..recording.value_stream import FULL, MASK, ValueStream
from ..values import nonfinite
from .exactness import SPLIT, inexact_power, inexact_product, inexact_quotient, inexact_sum
from .library import FUNCTION, INPUTS, LEFT_ALONE, SUM, is_exact_sum, moved_of
from .moving import Mover

OPERATORS = ("add", "sub", "mul", "truediv", "floordiv", "mod", "pow", "matmul")
WANTED = frozenset({*OPERATORS, "call:*"})
KNOWN = 5_000  # functions whose kind is remembered
Probe = Callable[[object, object, int], object]
PLAIN = {"add": inexact_sum, "mul": inexact_product, "truediv": inexact_quotient, "pow": inexact_power}


def of(stream: ValueStream, seed: int) -> dict[str, object]:
    """The functions by their marks.  `seed`: of the ups and downs; 0 and below: nothing is moved."""
    mover = Mover(seed) if seed > 0 else None
    found: dict[str, object] = {"shaken_call": _call(stream, mover), "audit_put": _put}
    found["shaken_constant"] = mover.constant if mover is not None else float
    found |= {"audit_take": _take, "audit_take_attribute": _take_attribute}
    for name in OPERATORS:
        others = _others(stream, mover, name)
        do = _operator(stream, mover, name, getattr(operator, name), others)
        change = _in_place(do, getattr(operator, "i" + name), others)
        for mark in ("", "_running"):
            found[f"audit_{name}{mark}"] = do
            found[f"audit_i{name}{mark}"] = change
        found["audit_change_i" + name] = _change(change)
    return found


# -- plain numbers: the hottest path, so each operator has a function of its own -------------------------------


def _operator(stream: ValueStream, mover: Mover | None, name: str, do: object, others: Callable[..., object]) -> Probe:
    made = None
    if mover is not None:
        of_name = {"add": _added, "sub": _subtracted, "mul": _multiplied, "truediv": _divided, "pow": _raised}.get(name)
        made = of_name(stream, mover, others) if of_name is not None else None
    return made or _unmoved(stream, do, others)


def _unmoved(stream: ValueStream, do: Any, others: Callable[..., object]) -> Probe:
    pending, add, flush = stream.pending, stream.pending.extend, stream.flush

    def plain(a: object, b: object, site: int) -> object:
        result = do(a, b)
        if type(b) is float and (type(a) is float or type(a) is int) and type(result) is float:
            add((site, result, a, b))
            if len(pending) >= FULL:
                flush()
            return result
        return others(a, b, result, site)

    return plain


def _added(stream: ValueStream, mover: Mover, others: Callable[..., object]) -> Probe:
    pending, add, flush, ulp = stream.pending, stream.pending.extend, stream.flush, mover.ulp

    def added(a: object, b: Any, site: int) -> object:
        result = a + b
        if type(b) is float and (type(a) is float or type(a) is int):
            seen = result - a
            error = (a - (result - seen)) + (b - seen)  # as `inexact_sum`
            if error > 0 or error < 0:  # not where it is nan, at infinities
                result += result * ulp()
            add((site, result, a, b))
            if len(pending) >= FULL:
                flush()
            return result
        return others(a, b, result, site)

    return added


def _subtracted(stream: ValueStream, mover: Mover, others: Callable[..., object]) -> Probe:
    pending, add, flush, ulp = stream.pending, stream.pending.extend, stream.flush, mover.ulp

    def subtracted(a: object, b: Any, site: int) -> object:
        result = a - b
        if type(b) is float and (type(a) is float or type(a) is int):
            seen = result - a
            error = (a - (result - seen)) - (b + seen)
            if error > 0 or error < 0:
                result += result * ulp()
            add((site, result, a, b))
            if len(pending) >= FULL:
                flush()
            return result
        return others(a, b, result, site)

    return subtracted


def _multiplied(stream: ValueStream, mover: Mover, others: Callable[..., object]) -> Probe:
    pending, add, flush, ulp = stream.pending, stream.pending.extend, stream.flush, mover.ulp

    def multiplied(a: object, b: Any, site: int) -> object:
        result = a * b
        if type(b) is float and (type(a) is float or type(a) is int):
            c = SPLIT * a
            a_low = a - (c - (c - a))
            c = SPLIT * b
            b_low = b - (c - (c - b))
            if a_low or b_low:  # else both are short, and the product exact
                if result - result == 0 and ((a_low and b_low) or inexact_product(a, b, result)):
                    result += result * ulp()
            add((site, result, a, b))
            if len(pending) >= FULL:
                flush()
            return result
        return others(a, b, result, site)

    return multiplied


def _divided(stream: ValueStream, mover: Mover, others: Callable[..., object]) -> Probe:
    pending, add, flush, ulp = stream.pending, stream.pending.extend, stream.flush, mover.ulp

    def divided(a: object, b: Any, site: int) -> object:
        result = a / b
        if type(b) is float and (type(a) is float or type(a) is int):
            if result - result == 0 and inexact_quotient(a, b, result):
                result += result * ulp()
            add((site, result, a, b))
            if len(pending) >= FULL:
                flush()
            return result
        return others(a, b, result, site)

    return divided


def _raised(stream: ValueStream, mover: Mover, others: Callable[..., object]) -> Probe:
    pending, add, flush, ulp = stream.pending, stream.pending.extend, stream.flush, mover.ulp

    def raised(a: object, b: Any, site: int) -> object:
        result = a**b
        if type(result) is float and type(a) is float:
            if result - result == 0 and inexact_power(a, b, result):
                result += result * ulp()
            add((site, result, a, b))
            if len(pending) >= FULL:
                flush()
            return result
        return others(a, b, result, site)

    return raised


def _others(stream: ValueStream, mover: Mover | None, name: str) -> Callable[..., object]:
    """What is no pair of floats: moves the result, and tells it with its operands."""
    inexact = PLAIN.get("add" if name == "sub" else name)

    def others(a: object, b: object, result: object, site: int, before: object = None) -> object:
        kind = type(result)
        if kind is int or kind is str or kind is bool or run_state.quiet or run_state.in_trial:
            return result
        quiet, run_state.quiet = run_state.quiet, True
        try:
            if mover is not None and name not in ("floordiv", "mod"):
                result = moved(before if before is not None else a, b, result)
            stream.tell_term(site & MASK, result, (a if before is None else before, b))
        except Exception as e:
            if signal_masking.is_the_scripts(e):
                raise
        finally:
            run_state.quiet = quiet
        return result

    def moved(a: Any, b: Any, result: Any) -> object:
        assert mover is not None
        kind = type(result)
        if kind is float:  # one of them is an int, or of a class of its own
            exact = inexact is not None and all(type(v) in (int, float) and abs(v) < 1e300 for v in (a, b))
            other = -float(b) if name == "sub" else float(b)
            if exact and inexact is not None and not inexact(float(a), other, result):
                return result
            return mover.number(result)
        np = nonfinite.module("numpy")
        if name == "matmul":
            return result if is_exact_sum((a, b)) else mover.result(operator.matmul(mover.input(a), mover.input(b)))
        if np is not None and kind is np.float64 and inexact is not None and all(_is_real(np, v) for v in (a, b)):
            x, y = float(a), float(-b if name == "sub" else b)
            return np.float64(mover.number(float(result))) if inexact(x, y, float(result)) else result
        if np is not None and kind is np.ndarray:
            if result.dtype.kind in "fc" and result.flags.writeable:
                mover.arithmetic(np, name, a, b, result)
            return result
        return mover.result(result)

    return others


def _is_real(np: types.ModuleType, value: object) -> bool:
    return type(value) in (int, float) or isinstance(value, (np.floating, np.integer))


def _in_place(do: Probe, change: Any, others: Callable[..., object]) -> Probe:
    """`a op= b`: an array is changed itself; what it held before is kept for the judgement."""

    def in_place(a: Any, b: object, site: int) -> object:
        kind = type(a)
        if kind is float or kind is int or run_state.quiet or run_state.in_trial:
            try:
                return do(a, b, site)
            except TypeError:
                pass
            return change(a, b)  # its message names the operator as it is written
        np = nonfinite.module("numpy")
        before = a.copy() if np is not None and kind is np.ndarray and a.dtype.kind in "fc" else None
        result = change(a, b)
        return others(a, b, result, site, before) if before is not None or result is not a else result

    return in_place


# -- places that are changed: as in an audit -----------------------------------------------------------------


def _take(owner: Array, index: object) -> tuple[object, object, object, bool]:
    return owner, index, owner[index], False


def _take_attribute(owner: object, name: str) -> tuple[object, object, object, bool]:
    return owner, name, getattr(owner, name), True


def _change(
    do: Probe,
) -> Callable[[tuple[object, object, object, bool], object, int], tuple[object, object, object, bool]]:
    def change(
        taken: tuple[object, object, object, bool], value: object, site: int
    ) -> tuple[object, object, object, bool]:
        owner, index, old, is_attribute = taken
        return owner, index, do(old, value, site), is_attribute

    return change


def _put(changed: tuple[Any, Any, object, bool], site: int) -> None:
    owner, index, result, is_attribute = changed
    if is_attribute:
        setattr(owner, index, result)
    else:
        owner[index] = result


# -- calls -------------------------------------------------------------------------------------------------


def _call(stream: ValueStream, mover: Mover | None) -> Callable[[object, int], object]:
    """Gives what is called: the function itself, where nothing is moved, so that it has its true caller."""
    kinds: dict[int, tuple[object, str]] = {}
    state = run_state

    def moved(function: Any, what: str, site: int, /, *args: object, **named: object) -> object:
        owner = _owner(function)
        inputs = args if owner is None else (owner, *args)
        moves = mover is not None and "out" not in named and not (what is SUM and is_exact_sum(inputs))
        moved_function, moved_args = function, args
        if moves and mover is not None and what in (SUM, INPUTS):
            moved_args = tuple(mover.input(a) for a in args)
            if owner is not None:
                moved_function = getattr(mover.input(owner), function.__name__)
        result = moved_function(*moved_args, **named)
        quiet, state.quiet = state.quiet, True
        try:
            if moves and mover is not None:
                result = mover.result(result, whole=what is FUNCTION and not is_exact_sum(inputs))
            stream.tell_term(site, result, inputs[:2])
        except Exception as e:
            if signal_masking.is_the_scripts(e):
                raise
        finally:
            state.quiet = quiet
        return result

    def called(function: object, site: int) -> object:
        known = kinds.get(id(function))
        if known is not None and known[0] is function:
            what = known[1]
        else:
            what = _kind(function)
            if len(kinds) < KNOWN and (type(function) is types.FunctionType or _is_of_module(function)):
                kinds[id(function)] = (function, what)
        if what is LEFT_ALONE or state.quiet or state.in_trial:
            return function
        return functools.partial(moved, function, what, site)

    return called


def _is_of_module(function: object) -> bool:
    """A function of a module written in C: to remember it keeps no data alive."""
    return type(function) is types.BuiltinFunctionType and type(function.__self__) is types.ModuleType


def _kind(function: object) -> str:
    try:
        return moved_of(function)
    except Exception as e:
        if signal_masking.is_the_scripts(e):
            raise
        return LEFT_ALONE


def _owner(function: object) -> object:
    """The array whose method it is."""
    np = nonfinite.module("numpy")
    owner = function.__self__ if type(function) is types.BuiltinFunctionType else None
    return owner if np is not None and type(owner) is np.ndarray else None
