"""The registry of kinds: how a type of value is shown in one line, as facts, by its parts, and as a grid.

A kind is found by the type itself or its ancestors, by the name of a class (so that its module is not
imported for scripts that do without it), or by a test.  Whatever a kind does runs none of the script's own
code, copies no large array, and what it raises is caught by `values`.
"""

from __future__ import annotations

import contextlib
import threading
import time
from collections.abc import Callable, Iterator
from typing import Any

from ...core.records import record
from ...core.text import clean
from ...core.type_identity import TypeIds, TypeTable, key_of
from ..safe_read import kind_name

Summary = dict[str, Any]
Fact = tuple[str, str]  # label, text
Pair = tuple[str, object]


@record
class Kind:
    """One kind.  `children` gives (name, value) pairs of a page; `plots` are the plots that make sense; `sliced` is
    the grid of a slice such as `[3, :, :]` of a value with dimensions (empty: the default slice).
    """

    line: Callable[[Any], Summary]
    facts: Callable[[Any], list[Fact]] | None = None
    count: Callable[[Any], int] | None = None
    children: Callable[[Any, int, int], list[Pair]] | None = None
    grid: Callable[[Any], Any] | None = None
    plots: Callable[[Any], list[str]] | None = None
    text: Callable[[Any], str] | None = None  # for the reader
    sliced: Callable[[Any, str], Any] | None = None

    def __post_init__(self) -> None:
        sliced = self.sliced
        if sliced is not None and self.grid is None:
            self.grid = lambda value: sliced(value, "")


BY_TYPE: TypeTable[Kind] = TypeTable()
BY_NAME: dict[str, Kind] = {}
BY_TEST: list[tuple[Callable[[type], bool], Kind]] = []


def register(kind: Kind, *types: type, names: tuple[str, ...] = (), test: Callable[[type], bool] | None = None) -> None:
    for t in types:
        BY_TYPE[t] = kind
    for name in names:
        BY_NAME[name] = kind
    if test is not None:
        BY_TEST.append((test, kind))


def find(kind: type) -> Kind:
    """The kind of a type; the last resort is `object`'s."""
    for base in type.__dict__["__mro__"].__get__(kind):
        found = BY_TYPE.get(base) if base is not object else None
        found = found or BY_NAME.get(_named(base))
        if found is not None:
            return found
    for test, found in BY_TEST:
        try:
            if test(kind):
                return found
        except Exception:
            continue
    return BY_TYPE[object]


def _named(base: type) -> str:
    module = type.__dict__["__module__"].__get__(base)
    return f"{module}.{type.__dict__['__qualname__'].__get__(base)}"


# -- texts -------------------------------------------------------------------------------------------


class _Budget(threading.local):
    """What is left to look at: one budget for all values that are shown together, whatever their kinds."""

    DEEPEST = 2  # levels of values within values
    OBJECTS = 20_000
    SECONDS = 3.0
    shared = False
    objects = 0
    until = 0.0

    def __init__(self) -> None:
        self.path: list[int] = []  # ids of the values under way, outermost first

    def begin(self) -> None:
        self.objects, self.until = self.OBJECTS, time.perf_counter() + self.SECONDS

    @property
    def spent(self) -> bool:
        return self.objects <= 0 or time.perf_counter() > self.until


_budget = _Budget()
CHEAP = TypeIds(int, float, bool, str, complex, type(None))


@contextlib.contextmanager
def shared_budget() -> Iterator[None]:
    """Within it all summaries together have one budget of time and objects."""
    if _budget.shared:
        yield
        return
    _budget.begin()
    _budget.shared = True
    try:
        yield
    finally:
        _budget.shared = False


def summary(value: object) -> Summary:
    """`text`, `type`, `shape`, `dtype`, `nonfinite` and `kind` of a value; numbers of arrays as text.

    A value that holds others shows two levels of them; one that holds itself, or that is reached when the budget is
    spent, is named only.
    """
    from .. import nonfinite

    kind = type(value)
    base: Summary = {"type": kind_name(kind), "shape": None, "dtype": None, "nonfinite": 0, "kind": "object"}
    cheap = key_of(kind) in CHEAP
    if not cheap:
        if not _budget.path and not _budget.shared:
            _budget.begin()
        _budget.objects -= 1
        if _budget.spent:
            return {**base, "text": f"{base['type']}, not looked at: too many values at once"}
        if len(_budget.path) > _budget.DEEPEST or id(value) in _budget.path:
            return {**base, "text": f"{base['type'].rpartition('.')[2]}(…)"}
        _budget.path.append(id(value))
    try:
        base.update(find(kind).line(value))
        if not base["nonfinite"] and base["kind"] != "array":
            base["nonfinite"] = nonfinite.count(value)
    except Exception as e:
        base["text"] = f"{base['type']} that cannot be shown: {type(e).__name__}"
    finally:
        if not cheap:
            _budget.path.pop()
    return base


def text_of(value: object) -> str:
    """The one-line text of a value."""
    return str(summary(value)["text"])


def element(value: object) -> str:
    """A value within another, short."""
    if isinstance(value, (list, tuple, dict, set, frozenset)):
        return f"{type(value).__name__} of {length(value)}"
    text = text_of(value)
    return text if len(text) <= 40 else clean(text, 39)


def length(value: object) -> int:
    """The true length of a collection, without the code of a subclass."""
    for base in (list, tuple, dict, set, frozenset):
        if isinstance(value, base):
            return int(base.__len__(value))  # type: ignore[arg-type]  # `base` is the container's type
    return 0
