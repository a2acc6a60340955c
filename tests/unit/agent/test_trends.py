"""The sentences about a recorded value: each rule on series made for it, and on what it must not say."""

from __future__ import annotations

import math

import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from uneven_sum.agent.recording import row_filter
from uneven_sum.agent.recording.trends import recent, sentences
from uneven_sum.agent.values.snapshot import MISSING, Cells


def numbered(values: list[float], first: int = 1) -> list[tuple[int, float]]:
    return list(enumerate(values, first))


def rules(values: list[float]) -> dict[str, str]:
    return {s.rule: s.text for s in sentences(numbered(values))}


@settings(max_examples=60, deadline=None)
@given(st.floats(1.1, 3.0), st.floats(0.01, 100.0), st.integers(30, 80), st.sampled_from([1, -1]))
def test_growth_gives_its_factor(factor: float, start: float, passes: int, sign: int) -> None:
    assume(factor ** (passes - 1) > 10)
    told = rules([start * (sign * factor) ** n for n in range(passes)])["grows"]
    assert float(told.split("factor of ")[1].split()[0]) == pytest.approx(factor, rel=1e-3)
    assert ("changing its sign" in told) == (sign < 0)


@settings(max_examples=60, deadline=None)
@given(st.floats(0.2, 0.8), st.floats(-50, 50), st.integers(40, 120))
def test_what_converges_settles(rate: float, limit: float, passes: int) -> None:
    told = rules([limit + 10 * rate**n for n in range(passes)])
    assert "settles" in told or "stalled" in told  # it stalls when it has reached the limit to the last bit
    assert not {"grows", "drifts", "oscillates"} & set(told)


@settings(max_examples=60, deadline=None)
@given(st.floats(0.5, 100), st.floats(-10, 10), st.integers(10, 200))
def test_what_goes_to_and_fro_oscillates(size: float, middle: float, passes: int) -> None:
    told = rules([middle + size * (-1) ** n for n in range(passes)])["oscillates"]
    assert f"between {middle - size:.6g} and {middle + size:.6g}" in told


@settings(max_examples=60, deadline=None)
@given(st.floats(-5, 5).filter(lambda s: abs(s) > 1e-3), st.integers(12, 200))
def test_a_straight_line_drifts(slope: float, passes: int) -> None:
    told = rules([1e4 + slope * n for n in range(passes)])
    assert float(told["drifts"].split("by ")[1].split()[0]) == pytest.approx(slope, rel=1e-3)
    assert ("rises" if slope > 0 else "falls") in told["drifts"] and "monotony" not in told


@settings(max_examples=60, deadline=None)
@given(st.lists(st.floats(-1e6, 1e6), min_size=1, max_size=40), st.integers(5, 60))
def test_a_stalled_value_gives_the_pass_since_when(before: list[float], same: int) -> None:
    last = 7.5e7
    told = rules([*before, *[last] * same])
    if same * 20 < len(before) + same or len(before) + same < 3:
        return
    assert f"7.5e+07 since pass {len(before) + 1}, for {same} passes" in told["stalled"]


@settings(max_examples=60, deadline=None)
@given(st.integers(6, 60), st.integers(1, 30), st.sampled_from([1, -1]))
def test_the_first_pass_that_breaks_monotony(rising: int, rest: int, sign: int) -> None:
    values = [sign * float(n) for n in range(rising)] + [sign * (rising - 2.5)] * rest
    told = rules(values)["monotony"]
    assert f"up to {rising}" in told and told.endswith(f"in pass {rising + 1}")
    assert ("rose in every" in told) == (sign > 0)


@settings(max_examples=200, deadline=None)
@given(st.lists(st.floats(allow_nan=True, allow_infinity=True), max_size=60), st.lists(st.integers(1, 9), max_size=60))
def test_nothing_raises_and_nothing_is_said_twice(values: list[float], gaps: list[int]) -> None:
    number, series = 0, []
    for value, gap in zip(values, [*gaps, *[1] * len(values)]):
        number += gap
        series.append((number, value))
    told = sentences(series)
    assert len({s.rule for s in told}) == len(told) <= 2
    assert all("nan" not in s.text for s in told)
    if len([v for _, v in series if math.isfinite(v)]) < 3:
        assert not told


def test_differences_are_only_of_passes_that_follow_one_another() -> None:
    thinned = [(n, (-1.0) ** n) for n in range(1, 400, 2)]  # every other pass: it would look constant
    assert [s.rule for s in sentences(thinned)] == ["constant"]
    thinned = [(n, float(n * n % 7)) for n in range(1, 4000, 64)] + [(n, 3.0 * n) for n in range(4000, 4100)]
    assert len(recent(thinned)) == 100
    assert sentences(thinned)[0].text.startswith("drifts by 3 per pass")
    stalled = [(n, 1.0 * min(n, 640)) for n in range(1, 100_000, 64)]
    told = sentences(stalled)[0].text
    assert "since pass 641 at the latest (pass 577 was kept before)" in told


# -- filters -----------------------------------------------------------------------------------------

ROWS = [
    (1, (0.5, Cells((3,), 0.0, 1.0, 2.0, 0), 3, MISSING)),
    (2, (-0.5, Cells((3,), 0.0, 4.0, 9.0, 1), 4, "weir")),
    (3, (math.nan, Cells((2,), -1.0, 0.0, 1.0, 0), 5, 2.5)),
]
LABELS = ("head", "inflow", "flow[day]", "late")


@pytest.mark.parametrize(
    ("text", "rows", "failed"),
    [
        ("head < 0", [1], 0),
        ("not head > 0", [1, 2], 0),
        ("isnan(head)", [2], 0),
        ("inflow.mean > 0.5 and number > 1", [1], 0),
        ("inflow.nonfinite", [1], 0),
        ("inflow.shape == (2,)", [2], 0),
        ("flow[day] in (3, 5)", [0, 2], 0),
        ("late == 2.5", [2], 1),
        ("late > 1", [2], 2),
        ("abs(head) ** 2 == 0.25", [0, 1], 0),
        ("True", [0, 1, 2], 0),
    ],
)
def test_filters_choose_rows(text: str, rows: list[int], failed: int) -> None:
    found = row_filter.choose(text, LABELS, ROWS)
    assert (found.rows, found.failed) == (rows, failed)
    if text == "late > 1":
        assert found.why == "in pass 1: late is not assigned"


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("head <", "is not an expression"),
        ("heat < 0", "There is no column heat"),
        ("open('x')", "A filter calls only abs"),
        ("inflow.data > 0", "not data"),
        ("head.__class__", "not __class__"),
        ("[h for h in (1, 2)]", "There is no column|may not hold"),
        ("(lambda: 1)()", "calls only"),
        ("(late := 3)", "There is no column|may not hold"),
        ("__import__('os')", "calls only"),
    ],
)
def test_what_is_no_filter(text: str, why: str) -> None:
    with pytest.raises(row_filter.Unusable, match=why):
        row_filter.choose(text, LABELS, ROWS)
