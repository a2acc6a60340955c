"""Every kind of statement, a docstring first."""
from __future__ import annotations

import os, sys as system
from math import *
import os.path as p

x: int = 3
y: float
a = b = c = 4
(d, e), *rest = (1, 2), 3, 4
[f, g] = [5, 6]
x += 1; x -= 2; x *= 3; x //= 2; x **= 2; x %= 7; x <<= 2; x >>= 1; x |= 8; x ^= 3; x &= 15
print(__doc__, x, a, b, c, d, e, rest, f, g, pi, __annotations__)
z = 7.0
z /= 2
z @= type("M", (), {"__rmatmul__": lambda self, o: ("matmul", o)})()
print(z)
del a, b
try:
    print(a)
except NameError as err:
    print(err)
assert c == 4, "never"
try:
    assert c == 5, f"c is {c}"
except AssertionError as err:
    print("assert", err)
if c > 5:
    print("no")
elif c > 4:
    print("no")
elif c == 4:
    print("elif")
else:
    print("no")
for i in range(5):
    if i == 1:
        continue
    if i == 3:
        break
    print(i)
else:
    print("not reached")
for i, ch in enumerate("ab"):
    print(i, ch)
else:
    print("for else")
n = 0
while n < 3:
    n += 1
    if n == 2:
        continue
else:
    print("while else", n)
while True:
    n -= 1
    if n < 0:
        break
with open(os.devnull) as h1, open(os.devnull) as h2:
    print(h1.closed, h2.closed)
print(h1.closed)
try:
    raise ValueError("one") from KeyError("cause")
except (TypeError, ValueError) as err:
    print(repr(err), repr(err.__cause__))
else:
    print("no")
finally:
    print("finally")


def nest():
    try:
        try:
            1 / 0
        finally:
            print("inner finally")
    except ZeroDivisionError:
        return "handled"
    finally:
        print("outer finally")


print(nest())


def in_finally():
    for k in range(3):
        try:
            continue
        finally:
            print("f", k)
    while True:
        try:
            return "r"
        finally:
            print("returning")


print(in_finally())
match {"kind": "gauge", "values": [1.5, 2, 3]}:
    case {"kind": str(k), "values": [first, *others]} if first > 1:
        print(k, first, others)
    case _:
        print("no")


def kinds(v):
    match v:
        case 0 | 1:
            return "small"
        case float():
            return "float"
        case [a, b]:
            return f"pair {a} {b}"
        case None:
            return "none"
    return "other"


print([kinds(v) for v in (0, 1, 2.5, [1, 2], None, "s")])
try:
    raise ExceptionGroup("g", [ValueError(1), TypeError(2)])
except* ValueError as eg:
    print("eg", eg.exceptions)
except* TypeError as eg:
    print("eg2", eg.exceptions)


class Base:
    """doc of Base"""

    kind = "base"
    table = {k: k * 2.5 for k in range(3)}
    if True:
        conditional = 1.5 / 2
    total = 0.0
    for q in range(3):
        total += q * 0.5

    def __init_subclass__(cls, **kw):
        print("sub", cls.__name__, kw)

    def __init__(self, v):
        self.v = v
        self.__private = v * 2.0

    @property
    def private(self):
        return self.__private

    @staticmethod
    def st(x):
        return x / 2

    @classmethod
    def cl(cls, x=3.0):
        return cls.__name__, x / 2


class Derived(Base, flag=True):
    __slots__ = ("w",)

    def __init__(self, v):
        super().__init__(v)
        self.w = __class__.__name__
        self.v += 1.5
        self.v -= 0.5


o = Derived(2.0)
print(o.v, o.w, o.private, Derived.st(3.0), Derived.cl(), Base.__doc__, Base.table, Base.total, Base.conditional)
print(sorted(k for k in vars(Base) if not k.startswith("__")))


def outer():
    count = 0.0

    def inner(step=0.5, *args, key=1.5, **kw):
        nonlocal count
        count += step * key + sum(args)
        return count

    inner()
    inner(1.0, 2.0, key=2.0, other=3)
    return count, inner.__closure__[0].cell_contents


print(outer())


def use_global():
    global made
    made = 2.5 * 2
    return made


print(use_global(), made)
print((lambda q, *r, s=2.0: q / s + sum(r))(3.0, 1.0), [v / 2 for v in range(3) if v % 2 == 0], {v / 2 for v in (1,)})
print({k: v / 2 for k, v in zip("ab", (1, 2))}, list(v / 2 for v in range(3)), [(m, n) for m in range(2) for n in range(m)])
if (walrus := len("abc") * 1.5) > 2:
    print(walrus)
print(f"{walrus / 2:.3f} {walrus!r:>8} {'nested' if walrus else ''} {walrus=}")
print(1 < 2 < 3, 1 < 3 < 2, not 1, 1 and 2.0, 0 or 3.0, "s" "t", b"b"[0], ..., 1j * 2, -3.5, +2, ~5)
t = [1.0, 2.0, 3.0, 4.0]
t[1:3] = [9.0, 8.0]
t[0] += 5 / 2
t[-1] -= 1
t[1:2] += [7.0]
del t[0]
print(t, t[::-1], t[1:], *t, sep="|")
dd = {"a": [1.0]}
dd["a"][0] += 2.5
dd["a"] += [3.0]
dd["b"] = dd["a"][0] / 2
print(dd)
s = "abc"
s += "d"
s *= 2
print(s)
print(sorted(n for n in globals() if not n.startswith("__") and n not in vars(__import__("math"))))
print(__name__, __file__.endswith("statements.py"), __spec__, __package__, __cached__)
pass
