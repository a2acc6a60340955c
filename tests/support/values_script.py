"""One value of every kind, and the bad ones; run by test_values on each CPython."""

import collections
import ctypes
import dataclasses
import datetime
import decimal
import enum
import fractions
import functools
import io
import math
import pathlib
import re
import sys
import weakref
import xml.etree.ElementTree

touched = []


class Repr:
    def __repr__(self):
        touched.append("repr")
        raise RuntimeError("no")

    __str__ = __repr__


class Endless(list):
    def __len__(self):
        touched.append("len")
        while True:
            pass

    def __iter__(self):
        touched.append("iter")
        while True:
            pass


class Getattr:
    def __getattr__(self, name):
        touched.append(name)
        raise ValueError(name)


class Property:
    def __init__(self):
        self.level = 4.0

    @property
    def volume(self):
        touched.append("volume")
        return self.level * 2


class Array:
    def __array__(self, dtype=None, copy=None):
        touched.append("array")
        raise TypeError("no cells")


class Equal:
    def __eq__(self, other):
        touched.append("eq")
        raise ValueError("no")

    __hash__ = None


class Meta(type):
    def __getattribute__(cls, name):
        if name == "__module__":
            return 3
        return super().__getattribute__(name)


class Odd(metaclass=Meta):
    pass


class Slots:
    __slots__ = ("a", "b")

    def __init__(self):
        self.a = 1


@dataclasses.dataclass
class Gauge:
    name: str
    level: float


class Kind(enum.Enum):
    SILL = 1


def gen():
    yield 1


Pair = collections.namedtuple("Pair", "x y")
nothing, yes, small, huge, level = None, True, 3, 7**9999, 0.1
wave, exact, part = 1 + 2j, decimal.Decimal("1.50"), fractions.Fraction(1, 3)
text, long_text, raw = "quillmere", "line\n" * 5000, bytes(range(64))
nasty = "\x1b[31mred\x1b[0m \ud800 \x07"
day, moment, span = datetime.date(2031, 1, 2), datetime.datetime(2031, 1, 2, 3), datetime.timedelta(days=2)
listed, nested, deep = [1.5, math.nan, 2.0] * 10, {"a": [1, {"b": (2, 3)}]}, []
deep.append(deep)
pair, several, mapping = (1, "x"), {1, 2, 3}, {f"k{n}": n for n in range(1000)}
queue, point, gauge, kind = collections.deque([1, 2]), Pair(1, 2.5), Gauge("sill", 4.0), Kind.SILL
numbers, generator, function, module, cls = range(10), gen(), gen, math, Gauge
file, path, error = io.StringIO("x"), pathlib.Path("a/b"), ValueError("bad", 3)
match, pattern = re.search("(?P<a>q)", "quill"), re.compile("x+")
slots, prop, bad_repr, endless, bad_getattr, bad_array, bad_eq, odd = (
    Slots(),
    Property(),
    Repr(),
    Endless([1, 2]),
    Getattr(),
    Array(),
    Equal(),
    Odd(),
)


class Place(ctypes.Structure):
    _fields_ = [("easting", ctypes.c_double), ("row", ctypes.c_int)]


class Given(functools.partial):
    @property
    def func(self):
        touched.append("func")

    args = keywords = func


called, own_called = functools.partial(max, 1, default=2), Given(min, Repr())
reference, dead = weakref.ref(pattern), weakref.ref(Slots.__new__(type("Gone", (), {})))
c_number, c_cells, c_place = ctypes.c_double(1.5), (ctypes.c_int * 3)(1, 2, 3), Place(2.5, 7)
tree = xml.etree.ElementTree.fromstring("<gauge name='sill'><level>1.5</level><level/></gauge>")


class Branch(xml.etree.ElementTree.Element):
    def __len__(self):
        touched.append("len")
        return 3


branch = Branch("weir")
frame_, code_, alias = sys._getframe(), gen.__code__, list[int]


class Stream(io.RawIOBase):
    @property
    def closed(self):
        touched.append("closed")
        return False

    name = closed


own_file, memory, page = open(__file__), io.BytesIO(b"abc"), io.StringIO("level")  # noqa: SIM115
with open(__file__, "rb") as shut:
    pass
own_stream = Stream()
keyed = {(1, 2): "tuple", 3.5: "float"}
json_text = '{"station": "quillmere", "levels": [1.5, null]}'
try:
    import numpy as np

    scalar, array = np.float32(1.5), np.array([1.0, np.nan, -np.inf, 0.0, -2.0])
    ints, cube, empty, zero_d = np.arange(12).reshape(3, 4), np.zeros((2, 3, 4)), np.zeros((0, 3)), np.array(2.5)
    structured = np.array([(1, 2.5), (2, math.nan)], dtype=[("id", int), ("level", float)])
    objects, strings = np.array([1, "a", None], dtype=object), np.array(["a", "bc"])
    times = np.array(["2031-01-01", "NaT"], dtype="datetime64[D]")
    masked = np.ma.masked_invalid([1.0, math.nan, 3.0])
    frozen = np.arange(3.0)
    frozen.flags.writeable = False
    strided, complexes, bools = np.arange(20.0)[::3], np.array([1 + 1j, complex(math.nan, 0)]), np.array([True, False])
    rng, image = np.random.default_rng(1), np.zeros((8, 9, 3), dtype=np.uint8)
    symmetric = np.array([[2.0, 1.0], [1.0, 2.0]])
    array_key = {"k": np.arange(3)}
except ImportError:
    np = None
try:
    import pandas as pd

    series = pd.Series([1.5, None, 3.0], index=["a", "b", "c"], name="level")
    frame = pd.DataFrame({"gauge": ["sill", "weir", "sill"], "depth": [1.0, -2.0, math.nan], "n": [3, 1, 2]})
    twice = pd.DataFrame([[1, 2], [3, 4]], columns=["a", "a"])
    mixed = pd.DataFrame({1: [1], "b": [2], None: [3]})
    multi = pd.DataFrame({"v": [1, 2]}, index=pd.MultiIndex.from_tuples([("a", 1), ("b", 2)]))
    lists = pd.DataFrame({"cells": [[1], [2, 3]]})
    wide = pd.DataFrame(np.zeros((2, 100_000)))
    index, category = pd.Index([1, 2]), pd.Categorical(["a", "b", "a"])
    stamp, missing, whole = pd.Timestamp("2031-01-02"), pd.NaT, pd.Series([1, None], dtype="Int64")
except ImportError:
    pd = None
try:
    import scipy.sparse as sp

    sparse = sp.csr_matrix([[0.0, 1.0], [math.nan, 0.0]])
except ImportError:
    sp = None
touched.clear()
breakpoint()
print("touched", touched)
