"""Numbers beyond floats and complex results, which no look at an operand may stumble over."""

import decimal
import fractions
import math

VALUES = [
    *(0, 1, -1, True, 2.5, -2.5, 0.0, -0.0, 1e308, 5e-324, 0.1, 1e16, math.inf, math.nan, 3 + 4j),
    *(10**400, -(10**400), 10**200, -(10**200), 10**308, 2**63, fractions.Fraction(1, 3), decimal.Decimal("1.5"), None, "m"),
]


def show(value):
    if type(value) is int and abs(value) > 10**50:
        return f"int {value % 9973}"
    return f"{type(value).__name__} {value!r}"


def attempt(function, a, b):
    try:
        return show(function(a, b))
    except Exception as e:
        return f"{type(e).__name__}: {e}"


def power(a, b):
    return a**b if not (type(b) is int and abs(b) > 400) else None


def added_in_place(a, b):
    a += b
    return a


def raised_in_place(a, b):
    if not (type(b) is int and abs(b) > 400):
        a **= b
    return a


OPERATIONS = {
    "add": lambda a, b: a + b,
    "sub": lambda a, b: a - b,
    "mul": lambda a, b: a * b if not (isinstance(a, str) or isinstance(b, str)) else None,
    "div": lambda a, b: a / b,
    "whole": lambda a, b: a // b,
    "rest": lambda a, b: a % b,
    "power": power,
    "equal": lambda a, b: a == b,
    "less": lambda a, b: a < b,
    "among": lambda a, b: a in [b, 0.3],
    "negative": lambda a, b: -a,
    "not": lambda a, b: not a,
    "added in place": added_in_place,
    "raised in place": raised_in_place,
    "rounded": lambda a, b: round(a * 1.0, 3) if not isinstance(a, str) else None,
    "root": lambda a, b: math.sqrt(a),
    "sum": lambda a, b: sum([a, b, a]),
    "largest": lambda a, b: max(a, b),
}
for name, operation in OPERATIONS.items():
    for a in VALUES:
        for b in VALUES:
            print(name, attempt(operation, a, b))


def total(items, start):
    grown = less = start
    for item in items:
        try:
            grown += item
            less = less - item
        except Exception as e:
            print(type(e).__name__, e)
    return show(grown), show(less)


LISTS = [[1, 2.5, 10**400, 3], [1e308, 1e308], [10**200, -1.0, 1.0], [1j, 2], [True, 2], [2**63, -(2**63), 0.5], [None, 1]]
for start in (0, 0.0, 10**400, 1e308, 3 + 1j):
    for items in LISTS:
        print(total(items, start))
