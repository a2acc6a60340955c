"""The parts of an origin search: which cells a write covers, what has changed, what else has changed a value."""

from __future__ import annotations

import math

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from uneven_sum.agent.origin import watched
from uneven_sum.agent.origin.cells import index_of, of_suffix
from uneven_sum.agent.origin.reader import covers, same
from uneven_sum.agent.origin.watched import Stop, Watched
from uneven_sum.agent.source.sites import sites
from uneven_sum.agent.source.source_file import SourceFile, position

WHOLE = st.integers(-4, 3)
SLICES = st.builds(slice, st.none() | WHOLE, st.none() | WHOLE, st.sampled_from([None, 1, 2, -1]))
MASKS = st.lists(st.booleans(), min_size=4, max_size=4).map(np.array)
LISTS = st.lists(WHOLE, min_size=1, max_size=4)
ROWS = WHOLE | SLICES | st.just(...) | MASKS | LISTS
INDICES = ROWS | st.tuples(WHOLE | SLICES, WHOLE | SLICES)
VIEWS = st.sampled_from(["same", "rows", "turned", "back", "inner"])


def view(array: np.ndarray, how: str) -> np.ndarray:
    return {"same": array, "rows": array[1:], "turned": array.T, "back": array[::-1], "inner": array[:, 1:3]}[how]


@given(st.tuples(st.integers(0, 3), st.integers(0, 3)), VIEWS, INDICES)
@settings(max_examples=400, deadline=None)
def test_a_write_covers_the_cells_that_it_writes(cell: tuple[int, int], how: str, index: object) -> None:
    array = np.zeros((4, 4))
    owner = view(array, how)
    try:
        owner[index] = 1.0
    except IndexError:
        return
    said = covers(np, array, cell, owner, index)
    advanced = not all(
        isinstance(i, (int, slice, type(...))) for i in (index if isinstance(index, tuple) else (index,))
    )
    if advanced and owner is not array:
        assert not said  # left to the comparison of values
    else:
        assert said is bool(array[cell])


@given(st.floats(), st.floats())
def test_floats_are_the_same_to_the_last_bit(a: float, b: float) -> None:
    alike = (math.isnan(a) and math.isnan(b)) or (a == b and math.copysign(1, a) == math.copysign(1, b))
    assert same(a, b) is alike and same(np.float64(a), np.float64(b)) is alike
    assert same(np.array([a, 1.0]), np.array([b, 1.0])) is (np.array([a]).tobytes() == np.array([b]).tobytes())


def test_what_is_not_the_same() -> None:
    assert not same(1, 1.0) and not same([1.0], [2.0]) and not same(object(), object())
    assert same("a", "a") and same([1, [2]], [1, [2]]) and not same(0.0, -0.0)


def probe(text: str) -> int:
    """A site of a statement."""
    file = SourceFile("x.py", text.encode())
    return sites.add(file, position(file.tree.body[0]), None, "origin")


def test_a_change_that_no_statement_makes_is_of_unknown_cause() -> None:
    flow, other = np.zeros(3), np.zeros(3)
    watch = Watched("flow", "flow[1]", "", Stop(), lambda frame, stops: None)
    watch.bound(probe("flow = zeros"), flow)
    at = probe("other[0] = 1.0")
    watch.stored(at, other, 0)
    assert watch.found(None).kind == watched.WRITE and watch.found(None).after == 0.0
    flow[1] = 5.0  # by something that is not seen
    watch.stored(at, other, 0)
    found = watch.found(None)
    assert (found.kind, found.site, found.before, found.after) == (watched.UNKNOWN, at, 0.0, 5.0)
    watch.stored(probe("flow[1] = 5.0"), flow, 1)
    assert watch.found(None).kind == watched.WRITE and watch.found(None).before == 5.0


def test_the_first_of_the_bad_writes_counts_until_one_is_good() -> None:
    watch = Watched("x", "x", "", Stop(), lambda frame, stops: None, since=True)
    site = probe("x = y")
    for value in (1.0, math.nan, math.nan, 2.0, math.inf, math.nan, math.nan):
        watch.bound(site, value)
    found = watch.found(None)
    assert (found.count, found.before, found.after, found.later) == (5, 2.0, math.inf, 2)
    assert math.isnan(watch.present(None))
    watch.bound(site, 3.0)
    assert watch.found(None).after == 3.0


def test_texts_behind_a_value() -> None:
    assert index_of("[3]") == (3,) and index_of("[3, 4]") == (3, 4) and index_of("[1][2]") == (1, 2)
    assert index_of("['a']") == () and index_of(".loc[3]") == () and index_of("") == ()
    assert of_suffix(".loc['x']").label == "x" and of_suffix("[2]").within([1.0, 2.0, 3.0]) == "[2]"
    assert of_suffix("[1, 2]").within(np.zeros((1, 5))) == "[0, 2]" and of_suffix("[1, 2]").within(np.zeros(5)) == "[2]"
    assert of_suffix("[1, 2]").within(3.0) == "" and of_suffix("").within(np.zeros(3)) == ""
