"""The comparer of two streams of values: synthetic streams whose differences are known."""

from __future__ import annotations

import math
import struct
from array import array

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from uneven_sum.agent.recording import value_stream
from uneven_sum.agent.rewrite import expressions
from uneven_sum.client.differing import reading
from uneven_sum.client.differing.comparing import WINDOWS, Comparer
from uneven_sum.client.differing.places import Matching, Text, lines_of_other
from uneven_sum.client.differing.reading import CONTINUED, INTEGER, PART_BIT, Blocks, Place, shown
from uneven_sum.client.differing.runs import first_line

LINES = [f"x = {n}" for n in range(50)]


def place(line: int, column: int = 4) -> Place:
    return Place(line, "/a.py", line, column, line, column + 2, "value", line)


def comparer(relative: float = 0.0, absolute: float = 0.0, **_: object) -> Comparer:
    texts = ({"/a.py": Text("/a.py", LINES)}, {"/a.py": Text("/a.py", LINES)})
    made = Comparer(Matching(texts, ("/", "/")), relative, absolute)
    for line in range(1, 50):
        for side in (0, 1):
            made.place(side, place(line))
    return made


def feed(of: Comparer, side: int, records: list[tuple[int, float]], part: int = 0) -> None:
    pairs = array("d", [x for line, value in records for x in (line | part << PART_BIT, value)])
    of.take(side, Blocks().read(struct.pack("<I", len(records)) + pairs.tobytes()))


def compared(a: list[tuple[int, float]], b: list[tuple[int, float]], **tolerances: float) -> Comparer:
    of = comparer(**tolerances)
    feed(of, 0, a)
    feed(of, 1, b)
    of.advance()
    of.finish()
    return of


def test_equal_streams_with_nan_and_infinities_are_equal() -> None:
    records = [(1, 1.0), (2, math.nan), (3, math.inf), (3, -math.inf), (2, math.nan)]
    found = compared(records, records)
    assert found.first is None and found.records == 5 and not found.differing


def test_the_first_and_the_largest_difference_with_their_times() -> None:
    a = [(1, 1.0), (2, 5.0), (2, 6.0), (2, 8.0), (3, 1.0)]
    b = [(1, 1.0), (2, 5.0), (2, 6.6), (2, 4.0), (3, 1.0)]
    found = compared(a, b)
    assert found.first is not None and found.largest is not None
    assert (found.first.a.place.line, found.first.a.times, found.first.a.text, found.first.b.text) == (
        2,
        2,
        "6.0",
        "6.6",
    )
    assert found.first.size == pytest.approx(0.6 / 6.6)
    assert (found.largest.a.times, found.largest.size) == (3, 0.5)
    assert found.differing == 2 and len(found.course) == 1


@pytest.mark.parametrize(
    ("tolerances", "differs"), [({}, True), ({"relative": 1e-9}, False), ({"absolute": 1e-6}, False)]
)
def test_tolerances(tolerances: dict[str, float], differs: bool) -> None:
    found = compared([(1, 1.0)], [(1, 1.0 + 1e-12)], **tolerances)
    assert (found.first is not None) is differs
    assert compared([(1, math.inf)], [(1, 1.0)], relative=0.5).first is not None


def test_paths_that_part_meet_again_and_both_places_are_told() -> None:
    same = [(n, float(n)) for n in range(10, 30)]
    found = compared([(1, 1.0), (2, 2.0), *same], [(1, 1.0), (3, 3.0), (4, 4.0), *same])
    assert found.first is not None and found.first is found.first_path
    assert (found.first.path, found.first.a.place.line, found.first.b.place.line) == (True, 2, 3)
    assert found.partings == 1 and not found.differing and not found.lost and found.records == 21


def test_paths_that_part_in_each_pass_are_compared_in_each() -> None:
    """One run has a further value in each pass: the others are compared all the same, in their order."""
    short = [(line, float(day)) for day in range(300) for line in (1, 2, 3, 4, 5)]
    long = [(line, float(day)) for day in range(300) for line in (1, 2, 3, 4, 5, 6)]
    found = compared(short, long)
    assert found.partings == 300 and not found.lost and not found.differing
    assert found.records == len(short)
    place = found.matching.at[0][0]
    assert place.line == 1 and found.sides[0].times.tolist()[:5] == [300] * 5


def test_what_only_one_run_does_at_its_end_is_a_difference() -> None:
    found = compared([(1, 1.0)], [(1, 1.0), (2, 2.0)])
    assert found.first is not None and found.first.path and found.first.b.place.line == 2


def test_runs_that_never_meet_again_are_given_up_in_bounded_memory() -> None:
    of = comparer()
    for _ in range(6):
        feed(of, 0, [(1, 0.0)] * (WINDOWS[-1] // 2))
        feed(of, 1, [(2, 0.0)] * (WINDOWS[-1] // 2))
        of.advance()
    assert of.lost and of.waiting() == (0, 0)


def test_a_value_of_several_records_is_met_once() -> None:
    of = comparer()
    for side in (0, 1):
        feed(of, side, [(5, 1.0)])
        feed(of, side, [(5, 2.0 + side), (5, 3.0)], part=INTEGER | CONTINUED)
    of.finish()
    assert of.first is not None and of.first.a.times == 1


@given(st.lists(st.tuples(st.integers(1, 40), st.floats(allow_nan=True)), min_size=1, max_size=300), st.data())
def test_one_changed_value_is_found_where_it_is_however_the_blocks_come(
    records: list[tuple[int, float]], data: st.DataObject
) -> None:
    at = data.draw(st.integers(0, len(records) - 1))
    cuts = sorted(data.draw(st.lists(st.integers(0, len(records)), max_size=4)))
    other = list(records)
    value = other[at][1]
    other[at] = (other[at][0], 1.5 if value != 1.5 else 2.5)
    of = comparer()
    feed(of, 0, records)
    for i, j in zip([0, *cuts], [*cuts, len(records)]):
        feed(of, 1, other[i:j])
        of.advance()
    of.finish()
    assert of.first is not None and not of.first.path and of.differing == 1
    line = records[at][0]
    assert of.first.a.place.line == line and of.first.a.times == sum(n == line for n, _ in records[: at + 1])
    assert of.first.b.text == repr(other[at][1])


def test_lines_of_changed_texts_belong_together() -> None:
    old = ["a = 1", "b = 2", "c = 3", "d = 4"]
    assert lines_of_other(old, ["# new", "a = 1", "b = 20", "c = 3", "d = 4"]) == {1: 2, 2: 3, 3: 4, 4: 5}
    assert 2 not in lines_of_other(old, ["a = 1", "c = 3", "d = 4"])


def test_outputs_are_compared_by_their_numbers() -> None:
    assert first_line("total 1.0 at <x 0x7f>\n", "total 1.0000001 at <x 0x8a>\n", 1e-6, 0.0) is None
    line = first_line("a 1\nb 2\n", "a 1\nb 3\n", 0.1, 0.0)
    assert line is not None and (line.number, line.a, line.b) == (2, "b 2", "b 3")
    line = first_line("a\n", "a\nb\n", 0.0, 0.0)
    assert line is not None and (line.number, line.a, line.b) == (2, None, "b")


def test_values_are_shown_with_all_their_digits() -> None:
    assert shown(0, 0.1, {}) == "0.1" and shown(INTEGER, 3.0, {}) == "3"
    assert np.isnan(float(shown(0, math.nan, {})))


def test_the_agent_and_the_client_number_the_parts_alike() -> None:
    """The agent cannot import the client's, nor the client the agent's."""
    names = ["FLOAT", "INTEGER", "CONSTANT", "IMAGINARY", "TEXT", "KIND", "LENGTH", "SUM", "LOWEST", "HIGHEST", "BAD"]
    names += ["CELL", "LEFT", "RIGHT", "TERM", "SINGLE", "SINGLE_CELL", "PART_BIT", "CONTINUED"]
    assert [getattr(value_stream, n) for n in names] == [getattr(reading, n) for n in names]
    assert expressions.STREAMED_TEST >> reading.PART_BIT == reading.CONSTANT
    assert expressions.STREAMED_TERM >> reading.PART_BIT == reading.TERM
    assert expressions.STREAMED_LOOP >> reading.PART_BIT == reading.LOOP == value_stream.LOOP
