"""Higher precision: the functions in sixty digits, and what a second evaluation follows and refuses."""

from __future__ import annotations

import ast
import decimal
import math
from decimal import Decimal

import pytest

from uneven_sum.agent.audit.decimals import CONTEXT, DECIMAL, Unknown
from uneven_sum.agent.audit.precise import compare

ARGUMENTS = {
    **{name: (0.3,) for name in ("sqrt", "exp", "expm1", "log", "log1p", "log2", "log10", "sin", "cos", "tan", "atan")},
    **{name: (-0.7,) for name in ("asin", "acos", "sinh", "cosh", "tanh", "radians", "degrees", "fabs")},
    **{"pow": (1.7, 2.5), "hypot": (3.0, 4.5)},
}


@pytest.mark.parametrize("name", ARGUMENTS)
def test_functions_in_sixty_digits_agree_with_the_usual_ones(name: str) -> None:
    arguments = ARGUMENTS[name]
    with decimal.localcontext(CONTEXT):
        found = float(DECIMAL[name](*map(Decimal, arguments)))
    assert math.isclose(found, getattr(math, name)(*arguments), rel_tol=4e-16, abs_tol=0.0)


@pytest.mark.parametrize("x", [1e-9, 2.0, 31.4, -700.25])
def test_sine_and_arctangent_far_from_zero(x: float) -> None:
    with decimal.localcontext(CONTEXT):
        assert math.isclose(float(DECIMAL["sin"](Decimal(x))), math.sin(x), rel_tol=4e-16)
        assert math.isclose(float(DECIMAL["atan"](Decimal(x))), math.atan(x), rel_tol=4e-16)


@pytest.mark.parametrize(("name", "x"), [("log", -1), ("log", 0), ("asin", 2), ("acos", -3)])
def test_outside_of_a_functions_range(name: str, x: int) -> None:
    with decimal.localcontext(CONTEXT), pytest.raises(Unknown):
        DECIMAL[name](Decimal(x))


def outcome(text: str, **names: object):
    """Of the last line, an expression; the lines before it are the function's statements."""
    tree = ast.parse(text)
    last = tree.body[-1]
    assert isinstance(last, ast.Expr)
    return compare(last.value, tree, {"math": math, **names})


def test_a_name_is_followed_only_where_it_still_has_that_value() -> None:
    root = math.sqrt(1e16 - 4.0)
    text = "r = math.sqrt(b * b - 4.0)\n-b + r\n"
    found = outcome(text, b=1e8, r=root)
    assert math.isclose(found.exact, -2e-8, rel_tol=1e-12) and found.error > 0.1 and found.inherent < 1e-15
    other = outcome(text, b=1e8, r=root + 1.0)  # set elsewhere: taken as it is
    assert other.error == 0.0 and other.exact == root + 1.0 - 1e8


def test_what_the_last_digits_decide_is_inherent() -> None:
    found = outcome("x * x - 2.0\n", x=1.4142135623730951)
    assert found.error > 0.01 and found.inherent > 0.1
    assert outcome("hi - lo\n", hi=1.0 + 2**-52, lo=1.0).inherent > 0.5


@pytest.mark.parametrize(
    "text", ["x @ x\n", "x + 1j\n", "open(x)\n", "math.sin(x, y=1)\n", "x.nothing\n", "1.0 / (x - x)\n"]
)
def test_what_is_no_arithmetic_is_refused(text: str) -> None:
    with pytest.raises(Unknown):
        outcome(text, x=0.5)
