"""Functions of numbers in sixty decimal digits, by their names in `math` and NumPy.

Series and halvings as in the recipes of the `decimal` documentation.
"""

from __future__ import annotations

import decimal
from collections.abc import Callable
from decimal import Decimal

CONTEXT = decimal.Context(prec=60, Emax=10**6, Emin=-(10**6), traps=[decimal.InvalidOperation, decimal.DivisionByZero])


class Unknown(Exception):
    """The expression has a part that is not arithmetic."""


def _pi() -> Decimal:
    three = Decimal(3)
    last, t, s, n, na, d, da = Decimal(0), three, three, 1, 0, 0, 24
    while s != last:
        last = s
        n, na = n + na, na + 8
        d, da = d + da, da + 32
        t = (t * n) / d
        s += t
    return +s


def _sine(x: Decimal) -> Decimal:
    with decimal.localcontext(CONTEXT):
        x = x % (2 * _pi())
        total = power = x
        n = 1
        while abs(power) > Decimal(10) ** -70:
            power *= -x * x / ((n + 1) * (n + 2))
            total += power
            n += 2
        return total


def _arctangent(x: Decimal) -> Decimal:
    with decimal.localcontext(CONTEXT):
        halvings = 0
        while abs(x) > Decimal("0.01"):
            x = x / (1 + (1 + x * x).sqrt())
            halvings += 1
        total = power = x
        n = 1
        while abs(power) > Decimal(10) ** -70:
            power *= -x * x
            n += 2
            total += power / n
        return Decimal(total * 2**halvings)


def _arcsine(x: Decimal) -> Decimal:
    if abs(x) > 1:
        raise Unknown
    if abs(x) == 1:
        return x * _pi() / 2
    return _arctangent(x / (1 - x * x).sqrt())


def _logarithm(x: Decimal, base: Decimal | None = None) -> Decimal:
    if x <= 0:
        raise Unknown
    natural: Decimal = x.ln()
    return natural if base is None else natural / base.ln()


DECIMAL: dict[str, Callable[..., Decimal]] = {
    "sqrt": lambda x: x.sqrt(),
    "exp": lambda x: x.exp(),
    "expm1": lambda x: x.exp() - 1,
    "log": _logarithm,
    "log1p": lambda x: _logarithm(1 + x),
    "log2": lambda x: _logarithm(x, Decimal(2)),
    "log10": lambda x: x.log10(),
    "sin": _sine,
    "cos": lambda x: _sine(x + _pi() / 2),
    "tan": lambda x: _sine(x) / _sine(x + _pi() / 2),
    "atan": _arctangent,
    "asin": _arcsine,
    "acos": lambda x: _pi() / 2 - _arcsine(x),
    "sinh": lambda x: (x.exp() - (-x).exp()) / 2,
    "cosh": lambda x: (x.exp() + (-x).exp()) / 2,
    "tanh": lambda x: ((2 * x).exp() - 1) / ((2 * x).exp() + 1),
    "radians": lambda x: x * _pi() / 180,
    "degrees": lambda x: x * 180 / _pi(),
    "fabs": abs,
    "abs": abs,
    "pow": lambda x, y: x**y,
    "hypot": lambda x, y: (x * x + y * y).sqrt(),
    "float": lambda x: x,
    "square": lambda x: x * x,
}
SAME = {
    "arcsin": "asin",
    "arccos": "acos",
    "arctan": "atan",
    "deg2rad": "radians",
    "rad2deg": "degrees",
    "absolute": "abs",
}
