"""What the rewritten code of an audit run calls: each probe does the calculation and shows it to the rules."""

from __future__ import annotations

import operator
import sys
import types
from collections.abc import Callable, Sequence
from typing import Any

from ..core import run_state
from ..core.data_types import Array
from ..core.type_identity import key_of
from ..values import nonfinite
from . import large
from .auditor import Auditor
from .care import with_care
from .categories import NUMBERS, category
from .rules.base import Rule
from .rules.wrap import may_leave
from .running_sums import Running

TINY = sys.float_info.min
NEAR = 1e-9  # floats farther apart than that, relatively, are no matter of rounding
NEAR_SQUARED = NEAR * NEAR
NEARLY = 1e-12  # the square of a difference beside that of its operand, where digits are lost
ARITHMETIC = ("add", "sub", "mul", "truediv", "floordiv", "mod", "pow", "matmul")
COMPARED = ("eq", "ne", "lt", "le", "gt", "ge")
MOST_CELLS = 10_000_000  # of an array whose old cells are kept while it is changed in place
Operator = Callable[[object, object], Any]
Probe = Callable[[object, object, int], object]
Taken = tuple[object, Any, object, bool]  # owner, index or name, value, whether it is an attribute
Look = Callable[[Any, Any, Any, int], object]  # at operands and result; gives the result


def of(auditor: Auditor) -> dict[str, object]:
    """The functions by their marks."""
    store = _store(auditor)
    found: dict[str, object] = {"audit_store": store, "audit_put": _put(store)}
    for name in ARITHMETIC:
        do, change = getattr(operator, name), getattr(operator, "i" + name)
        found["audit_" + name] = _operator(auditor, name, do, False)
        found[f"audit_{name}_running"] = _operator(auditor, name, do, True)
        found["audit_i" + name] = _in_place(auditor, name, change, False)
        found[f"audit_i{name}_running"] = running = _in_place(auditor, name, change, True)
        found["audit_change_i" + name] = _change(running)
    for name in COMPARED:
        found["audit_" + name] = _comparison(auditor, name, getattr(operator, name))
    found |= {"audit_in": _within(auditor, False), "audit_not_in": _within(auditor, True)}
    found |= {"audit_neg": _negation(auditor), "audit_call": _call(auditor), "audit_take": _take}
    found |= {"audit_take_attribute": _take_attribute, "audit_handled": _handled(auditor)}
    for mark, method in (("index", "indexed"), ("iter", "iterated"), ("unused", "unused")):
        found["audit_" + mark] = _seen(auditor, mark, method)
    return found


# -- operators -------------------------------------------------------------------------------------------


def _others(auditor: Auditor, name: str, numbers: Look | None) -> Look:
    """The look at what is no plain number: by the types of the operands, only rules that ask for these.

    `numbers`: the look at two numbers, for NumPy's float64, which counts as one.
    """
    rules = [r for r in auditor.by_operator.get(name, []) if r.OTHERS]
    plans: dict[tuple[int, int], tuple[bool, list[Callable[..., object]], type, type]] = {}
    state = run_state

    def look(a: Array, b: Array, result: Array, site: int) -> object:
        if state.quiet or state.in_trial:
            return result
        kinds = type(a), type(b)
        key = id(kinds[0]), id(kinds[1])
        plan = plans.get(key)
        if plan is None:
            both = {category(kinds[0]), category(kinds[1])}
            plan = both <= NUMBERS, [r.operator for r in rules if both & r.TAKES], *kinds
            plans[key] = plan
        if plan[0]:
            if numbers is not None:
                try:
                    given = float(a), float(b), float(result)
                except (TypeError, OverflowError):  # complex, or an integer beyond all floats
                    return result
                numbers(*given, site)
            return result
        if plan[1] and large.is_large(result):
            with_care(_in_part, auditor, plan[1], name, a, b, result, site)
            return result
        for rule in plan[1]:
            with_care(rule, name, a, b, result, site)
        return result

    return look


def _in_part(
    auditor: Auditor, rules: list[Callable[..., object]], name: str, a: object, b: object, result: Any, site: int
) -> None:
    part = large.parts(a, b, result)
    if part is None:
        auditor.not_looked_at(site, result.size)
        return
    auditor.step = part[0]
    try:
        for rule in rules:
            with_care(rule, name, *part[1:], site)
    finally:
        auditor.step = 1


def _operator(auditor: Auditor, name: str, do: Operator, running: bool) -> Probe:
    """The probe of an operator: as short as it can be for plain numbers, where a rule's screen lets few through."""
    wanting = [r for r in auditor.by_operator.get(name, []) if r.SCALARS]
    if any(r.SCREEN in ("every", "floats") for r in wanting):
        return _every(auditor, name, do, wanting)
    if running and name in ("add", "sub"):
        return _running(auditor, name, do)
    tiny = [r.scalars for r in wanting if r.SCREEN == ""]
    cancels = [r.scalars for r in wanting if r.SCREEN == "cancels"]
    if tiny:
        return _tiny(auditor, name, do, tiny)
    if cancels:
        return _cancels(auditor, name, do, cancels)
    others = _others(auditor, name, None)

    def plain(a: object, b: object, site: int) -> object:
        result = do(a, b)
        kind = type(result)
        return result if kind is float or kind is int else others(a, b, result, site)

    return plain


def _are_plain(a: object, b: object) -> bool:
    """Whether both are numbers of Python's own: what is done with those of the script's classes runs its code."""
    kind, other = type(a), type(b)
    return (kind is float or kind is int) and (other is float or other is int)


def _tiny(auditor: Auditor, name: str, do: Operator, rules: Sequence[Callable[..., object]]) -> Probe:
    """Rules see a result that is nearly 0."""

    def numbers(a: object, b: object, result: Any, site: int) -> None:
        if -TINY < result < TINY and a and b:
            for rule in rules:
                with_care(rule, name, a, b, result, site)

    others = _others(auditor, name, numbers)

    def tiny(a: object, b: object, site: int) -> object:
        result = do(a, b)
        kind = type(result)
        if kind is float:
            if -TINY < result < TINY:
                if not _are_plain(a, b):
                    return others(a, b, result, site)
                numbers(a, b, result, site)
            return result
        return result if kind is int else others(a, b, result, site)

    return tiny


def _cancels(auditor: Auditor, name: str, do: Operator, rules: Sequence[Callable[..., object]]) -> Probe:
    """Rules see a difference of nearly equal numbers."""
    passes = auditor.passes

    def numbers(a: Array, b: object, result: Array, site: int) -> None:
        try:
            passes[site] += 1
        except IndexError:
            passes.extend([0] * (site + 1000 - len(passes)))
        if result * result < a * a * NEARLY:
            for rule in rules:
                with_care(rule, name, a, b, result, site)

    others = _others(auditor, name, numbers)

    def nearly_equal(a: object, b: object, site: int) -> object:
        result = do(a, b)
        if type(result) is not float or (type(a) is not float and type(a) is not int):
            return others(a, b, result, site)
        try:
            passes[site] += 1
        except IndexError:
            passes.extend([0] * (site + 1000 - len(passes)))
        if result * result < NEARLY * a * a and _are_plain(a, b):  # in this order: an integer may be beyond all floats
            for rule in rules:
                with_care(rule, name, a, b, result, site)
        return result

    return nearly_equal


def _every(auditor: Auditor, name: str, do: Operator, wanting: list[Rule]) -> Probe:
    of_floats = [r.scalars for r in wanting]
    of_integers = [r.scalars for r in wanting if r.SCREEN == "every"]

    def numbers(a: object, b: object, result: object, site: int) -> None:
        for rule in of_floats if type(result) is float else of_integers:
            with_care(rule, name, a, b, result, site)

    others = _others(auditor, name, numbers)

    def every(a: object, b: object, site: int) -> object:
        result = do(a, b)
        kind = type(result)
        if (kind is float or kind is int) and ((type(a) is kind and type(b) is kind) or _are_plain(a, b)):
            numbers(a, b, result, site)
            return result
        return others(a, b, result, site)

    return every


def _running(auditor: Auditor, name: str, add: Operator, objects: Probe | None = None) -> Probe:
    """`total + x` or `total - x`; as `Running.take`, in line: this is the hottest path of an audit.

    `objects`: of an operation in place, what is done with a total that is no float.
    """
    minus = name == "sub"
    sums = auditor.sums
    alternating = [r.alternates for r in auditor.by_operator.get(name, []) if type(r).alternates is not Rule.alternates]

    def alternates(b: object, known: Running, site: int) -> None:
        for rule in alternating:
            with_care(rule, b, known, site)

    def numbers(a: object, b: Any, result: object, site: int) -> None:
        known = sums.get(site)
        if known is None:
            known = sums[site] = Running()
        if known.step * b < 0:
            alternates(b, known, site)
        known.step = b
        known.take(a, -b if minus else b, result)

    others = _others(auditor, name, numbers)

    def running(a: Any, b: Any, site: int) -> object:
        if objects is not None and type(a) is not float:
            return objects(a, b, site)
        result = add(a, b)
        if type(result) is not float or not ((type(a) is float and type(b) is float) or _are_plain(a, b)):
            return others(a, b, result, site)
        known = sums.get(site)
        if known is None:
            known = sums[site] = Running()
        known.passes += 1
        if known.step * b < 0:
            alternates(b, known, site)
        known.step = b
        small = -b if minus else b
        if (a if a >= 0 else -a) < (small if small >= 0 else -small):
            a, small = small, a
        lost = small - (result - a)
        if lost:
            if lost * 0.0 != 0.0:
                return result  # see `running_sums`
            known.lost += lost
            if result == a:
                known.without += 1
                if not known.first:
                    known.first, known.shown = known.passes, (a, small)
                if not known.without % known.apart:
                    known.note()
        known.added += small if small >= 0 else -small
        known.last = result
        return result

    return running


def _comparison(auditor: Auditor, name: str, do: Operator) -> Probe:
    """Rules see numbers that are nearly equal, and nan."""
    rules = [r.scalars for r in auditor.by_operator.get(name, []) if r.SCALARS]

    def numbers(a: Any, b: object, result: object, site: int) -> None:
        try:
            gap = a - b
            if (gap > NEAR or gap < -NEAR) and gap * gap > a * a * NEAR_SQUARED:
                return
        except OverflowError:  # an integer beyond all floats
            return
        for rule in rules:
            with_care(rule, name, a, b, result, site)

    others = _others(auditor, name, numbers)

    def compared(a: Any, b: object, site: int) -> object:
        result = do(a, b)
        kind = type(a)
        if kind is float or kind is int:
            kind = type(b)
            if kind is float or kind is int:
                if rules:
                    try:
                        gap = a - b
                        if (gap > NEAR or gap < -NEAR) and gap * gap > a * a * NEAR_SQUARED:
                            return result
                    except OverflowError:  # an integer beyond all floats
                        return result
                    for rule in rules:
                        with_care(rule, name, a, b, result, site)
                return result
        return others(a, b, result, site)

    return compared


def _in_place(auditor: Auditor, name: str, change: Operator, running: bool) -> Probe:
    """`a op= b`: what an array of integers held before is kept for the rules, since the array itself changes."""
    rules = [r.changed for r in auditor.by_operator.get("changed", [])]
    done = _operator(auditor, name, change, running)
    look = _others(auditor, name, None)
    state = run_state

    def objects(a: Any, b: object, site: int) -> object:
        np = nonfinite.module("numpy")
        if np is not None and type(a) is np.ndarray:
            before = a.copy() if a.size <= MOST_CELLS and with_care(may_leave, name, a, b) else None
            result = change(a, b)
            if before is not None:
                look(before, b, result, site)
        else:
            result = done(a, b, site)
            if result is not a:
                return result
        for rule in rules:
            with_care(rule, a, site)
        return result

    def in_place(a: object, b: object, site: int) -> object:
        kind = type(a)
        if kind is float or kind is int or state.quiet or state.in_trial:
            return done(a, b, site)
        return objects(a, b, site)

    if (
        running
        and name in ("add", "sub")
        and not any(r.SCREEN in ("every", "floats") for r in auditor.by_operator.get(name, []) if r.SCALARS)
    ):
        return _running(auditor, name, change, in_place)
    return in_place


def _take(owner: Any, index: object) -> Taken:
    return owner, index, owner[index], False


def _take_attribute(owner: object, name: str) -> Taken:
    return owner, name, getattr(owner, name), True


def _change(do: Probe) -> Callable[[Taken, object, int], Taken]:
    """The operation of `owner[index] op= value` and `owner.name op= value`, after `_take`."""

    def change(taken: Taken, value: object, site: int) -> Taken:
        owner, index, old, is_attribute = taken
        return owner, index, do(old, value, site), is_attribute

    return change


def _put(store: Callable[..., None]) -> Callable[[Taken, int], None]:
    """The store of these, after `_change`."""

    def put(changed: Taken, site: int) -> None:
        owner, index, result, is_attribute = changed
        if is_attribute:
            setattr(owner, index, result)
        else:
            store(result, owner, index, site)

    return put


def _within(auditor: Auditor, negated: bool) -> Probe:
    rules = [r.operator for r in auditor.by_operator.get("in", [])]

    def within(a: object, b: Any, site: int) -> object:
        result = a in b
        for rule in rules if type(a) is float else ():
            with_care(rule, "in", a, b, result, site)
        return not result if negated else result

    return within


def _negation(auditor: Auditor) -> Callable[[object, int], object]:
    others = _others(auditor, "neg", None)
    negated = operator.neg

    def negation(a: Any, site: int) -> object:
        result = negated(a)
        kind = type(a)
        return result if kind is float or kind is int else others(a, None, result, site)

    return negation


# -- calls, stores, and what only passes by ----------------------------------------------------------------


def _call(auditor: Auditor) -> Callable[..., object]:
    by_name = {n[5:]: rules for n, rules in auditor.by_operator.items() if n.startswith("call:")}
    plans: dict[int, tuple[list[Callable[..., object]], list[Callable[..., object]]]] = {}
    state = run_state

    def call(function: Any, site: int, /, *args: object, **named: object) -> object:
        if state.quiet or state.in_trial:
            return function(*args, **named)
        plan = plans.get(site)
        if plan is None:
            func = getattr(auditor.place(site).node, "func", None)
            rules = by_name.get(getattr(func, "attr", "") or getattr(func, "id", ""), [])
            plan = plans[site] = (
                [r.before for r in rules if type(r).before is not Rule.before],
                [r.call for r in rules],
            )
        for rule in plan[0]:
            with_care(rule, function, args, named, site)
        result = function(*args, **named)
        if plan[1] and (cells := _cells_of_large(function, args, result)):
            auditor.not_looked_at(site, cells)
            return result
        for rule in plan[1]:
            with_care(rule, function, args, named, result, site)
        return result

    return call


def _cells_of_large(function: object, args: tuple[Any, ...], result: object) -> int:
    for value in (*args, result):
        if large.is_large(value):
            return int(value.size)
    owner: Any = function.__self__ if type(function) is types.BuiltinMethodType else None
    return int(owner.size) if large.is_large(owner) else 0


def _store(auditor: Auditor) -> Callable[..., None]:
    rules = auditor.by_operator.get("store", [])
    before = [(r.before_store, r.TAKES) for r in rules if type(r).before_store is not Rule.before_store]
    after = [(r.store, r.TAKES) for r in rules if type(r).store is not Rule.store]
    plans: dict[int, tuple[list[Callable[..., object]], list[Callable[..., object]], type]] = {}

    def store(value: object, target: Any, index: object, site: int) -> None:
        kind = type(target)
        plan = plans.get(key_of(kind))
        if plan is None:
            of = category(kind)
            plan = plans[key_of(kind)] = (
                [r for r, takes in before if of in takes],
                [r for r, takes in after if of in takes],
                kind,
            )
        for rule in plan[0]:
            with_care(rule, target, index, value, site)
        target[index] = value
        for rule in plan[1]:
            with_care(rule, target, index, value, site)

    return store


def _seen(auditor: Auditor, mark: str, method: str) -> Callable[[object, int], object]:
    """A value that is shown to rules on its way: an index, what a loop goes over, a result that is thrown away."""
    wanting = {id(r): r for name, found in auditor.by_operator.items() if name.partition(":")[0] == mark for r in found}
    rules = [getattr(r, method) for r in wanting.values()]

    def seen(value: object, site: int) -> object:
        for rule in rules:
            with_care(rule, value, site)
        return value

    return seen


def _handled(auditor: Auditor) -> Callable[[int], None]:
    rules = [r.handled for r in auditor.by_operator.get("handled", [])]

    def handled(site: int) -> None:
        error = sys.exc_info()[1]
        for rule in rules:
            with_care(rule, error, site)

    return handled
