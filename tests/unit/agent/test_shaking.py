"""What a shaken run moves: inexact results by one unit in the last place, exact ones not at all."""

from __future__ import annotations

import math
from fractions import Fraction

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from uneven_sum.agent.shaking import exactness, library
from uneven_sum.agent.shaking.moving import Mover

NUMBERS = st.floats(min_value=1e-100, max_value=1e100) | st.floats(min_value=-1e100, max_value=-1e-100)
SHORT = st.integers(-(2**20), 2**20).map(float)


@given(NUMBERS | SHORT, NUMBERS | SHORT)
def test_a_sum_is_inexact_where_fractions_say_so(a: float, b: float) -> None:
    assert exactness.inexact_sum(a, b, a + b) == (Fraction(a) + Fraction(b) != Fraction(a + b))


@given(NUMBERS | SHORT, NUMBERS | SHORT)
def test_a_product_is_inexact_where_fractions_say_so(a: float, b: float) -> None:
    exact = Fraction(a) * Fraction(b) == Fraction(a * b)
    if exactness.is_step_count(a * b) and not exact:
        return  # a whole number is taken for what is meant
    assert exactness.inexact_product(a, b, a * b) == (not exact)


@given(NUMBERS | SHORT, NUMBERS)
def test_a_quotient_is_inexact_where_fractions_say_so(a: float, b: float) -> None:
    exact = Fraction(a) / Fraction(b) == Fraction(a / b)
    assert exactness.inexact_quotient(a, b, a / b) == (not exact and not exactness.is_step_count(a / b))


@given(NUMBERS, st.integers(1, 5))
def test_a_number_moves_to_a_neighbour(value: float, seed: int) -> None:
    moved = Mover(seed).number(value)
    assert moved in (math.nextafter(value, math.inf), math.nextafter(value, -math.inf)) or (
        moved == math.nextafter(math.nextafter(value, 0), 0)  # just above a power of two
    )


def test_what_is_no_finite_number_stays() -> None:
    mover = Mover(1)
    assert mover.number(math.inf) == math.inf and math.isnan(mover.number(math.nan)) and mover.number(0.0) == 0.0
    assert mover.result("text") == "text" and mover.result(7) == 7 and mover.result(3.0) == 3.0


@pytest.mark.parametrize("size", [10, 3_000, 200_000])
@pytest.mark.parametrize("kind", [np.float64, np.float32])
@pytest.mark.parametrize("name", ["add", "sub", "mul", "truediv"])
def test_cells_move_where_they_are_inexact(name: str, kind: type, size: int) -> None:
    do = {"add": np.add, "sub": np.subtract, "mul": np.multiply, "truediv": np.divide}[name]
    random = np.random.default_rng(1)
    a, b = random.normal(size=size).astype(kind), random.normal(size=size).astype(kind)
    result = do(a, b)
    moved = result.copy()
    Mover(2).arithmetic(np, name, a, b, moved)
    steps = np.abs((moved - result).astype(float)) / np.spacing(np.abs(result)).astype(float)
    assert steps.max() <= 2 and (steps > 0).mean() > 0.1
    whole = np.arange(size).astype(kind) % 1000 + 1
    exact = do(whole, kind(2))
    moved = exact.copy()
    Mover(2).arithmetic(np, name, whole, kind(2), moved)
    assert (moved == exact).all()


@pytest.mark.parametrize("size", [10, 200_000])
def test_infinite_cells_stay_and_do_not_spread(size: int) -> None:
    a = np.full(size, 0.1)
    a[size // 2] = np.inf
    result = a * 0.3
    Mover(1).arithmetic(np, "mul", a, 0.3, result)
    assert np.isinf(result[size // 2]) and np.isfinite(np.delete(result, size // 2)).all()


def test_broadcast_and_strided_cells_move_as_others() -> None:
    a, b = np.linspace(0.1, 1.1, 7)[:, None], np.linspace(0.3, 0.9, 5)
    for x, y in ((a, b), (a.T, b[:, None]), (np.linspace(0.1, 2.1, 20)[::2], 0.7)):
        result = x * y
        moved = result.copy()
        Mover(4).arithmetic(np, "mul", x, y, moved)
        assert 0 < np.abs(moved / result - 1).max() < 5e-16


@pytest.mark.parametrize(
    ("function", "what"),
    [
        (math.sin, library.FUNCTION),
        (math.floor, library.LEFT_ALONE),
        (np.exp, library.FUNCTION),
        (np.abs, library.LEFT_ALONE),
        (np.sum, library.SUM),
        (np.linalg.solve, library.INPUTS),
        (np.fft.fft, library.INPUTS),
        (np.sort, library.LEFT_ALONE),
        (np.linspace, library.LEFT_ALONE),
        (np.random.default_rng(1).normal, library.LEFT_ALONE),
        (np.ones(3).mean, library.RESULT),
        (np.ones(3).reshape, library.LEFT_ALONE),
        (sum, library.SUM),
        (len, library.LEFT_ALONE),
        (float, library.LEFT_ALONE),
        (test_what_is_no_finite_number_stays, library.LEFT_ALONE),
    ],
    ids=lambda value: getattr(value, "__name__", value),
)
def test_which_calls_are_moved(function: object, what: str) -> None:
    assert library.moved_of(function) == what
