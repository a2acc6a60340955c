"""Loops over attributes of objects of every kind, over lists that are left early, and comprehensions in odd places."""

import asyncio
import gc
import math
import threading
import traceback
import types
import weakref


class Gauge:
    zero = 0.25

    def __init__(self, level=1.0, flow=0.5):
        self.level, self.flow = level, flow


class Counted(Gauge):
    """Says each time that an attribute is read or set."""

    log = []

    @property
    def head(self):
        self.log.append("read head")
        return self.level - self.zero

    @head.setter
    def head(self, value):
        self.log.append("set head")
        self.level = value + self.zero


class Careful(Gauge):
    def __setattr__(self, name, value):
        Counted.log.append(f"set {name}")
        super().__setattr__(name, value)


class Missing(Gauge):
    def __getattr__(self, name):
        Counted.log.append(f"asked for {name}")
        return 0.5


class Everything(Gauge):
    def __getattribute__(self, name):
        if not name.startswith("__"):
            Counted.log.append(f"got {name}")
        return super().__getattribute__(name)


class Slotted:
    __slots__ = ("__weakref__", "flow", "level")

    def __init__(self, level=1.0, flow=0.5):
        self.level, self.flow = level, flow


class Float(float):
    def __mul__(self, other):
        Counted.log.append("times")
        return Float(float(self) * float(other))

    __rmul__ = __mul__


def route(one, other, steps, k=0.3):
    total = 0.0
    for n in range(steps):
        head = one.level - other.level
        root = math.sqrt(abs(head))
        flow = k * root + max(0.0, one.flow)
        one.level -= flow * 0.01
        other.level += flow * 0.01
        other.flow = flow * 0.5 + n
        total += flow
    return total


for kind in (Gauge, Counted, Careful, Missing, Everything, Slotted):
    one, other = kind(3.0, 0.5), kind(1.0)
    print(kind.__name__, route(one, other, 5), route(one, one, 3), one.level, one.flow, other.level, other.flow)
    print(Counted.log)
    Counted.log.clear()
print(route(Gauge(Float(3.0)), Slotted(), 4), Counted.log)
print(route(types.SimpleNamespace(level=2.0, flow=1), Gauge(), 4))


def heads(gauges):
    found = []
    for one in gauges:
        one.head = one.level * 0.5
        one.head += one.level + one.flow
        found.append(one.head)
    return found


Counted.log.clear()
print(heads([Counted(), Gauge(), Counted(2.0)]) if hasattr(Gauge(), "head") else heads([Counted(), Counted(2.0)]), Counted.log)


def lost(one, steps):
    for n in range(steps):
        a = one.level * 2.0
        one.level = a - one.flow
        if n == 2:
            del one.flow
    return a


for kind in (Gauge, Slotted):
    try:
        lost(kind(), 5)
    except AttributeError:
        print(traceback.format_exc(limit=1).splitlines()[-1])


def aliases(one):
    two, seen = one, []
    for n in range(3):
        one.level = n * 1.5
        two.level += 1.0
        x = one.level * 2.0
        two.level = x - two.level
        seen.append((one.level, x))
    return seen


print(aliases(Gauge()))


def turned(values):
    one = Gauge()
    for value in values:
        one.flow = value
        a = one.level * 2.0
        b = one.flow * a
        one.level = a * 0.5
    return a, b, one.level


print(turned([1.0, 2, True, 1 + 2j, 2.0]))


def released():
    class Large:
        pass

    large, one = Large(), Gauge()
    alive = weakref.ref(large)
    for n in range(4):
        a = one.level * 0.5 + n
        one.level = a + one.flow
        one.flow = a - 1.0
        if n == 1:
            del large
    return alive() is None, one.level


print(released())


def left_early(gauges):
    last, seen = weakref.ref(gauges[-1]), []
    for one in gauges:
        seen.append(one.level)
        if one.level > 0:
            break
    del gauges, one
    gc.collect()
    return last() is None, seen


print(left_early([Gauge(), Gauge()]), left_early([Slotted(0.0), Slotted()]))


def grows(values):
    for n, value in enumerate(values):
        if n < 3:
            values.append(value * 2.0)
    else:
        n += 10
    return n, values, [v for v in values if v * 2.0 > 3.0]


print(grows([1.0]), grows([]) if False else "")


def nested(rows):
    k = 2.0
    table = [[x * k for x in row if x * 0.5 > 0.1] for row in rows]
    by = {n: {x / k for x in row} for n, row in enumerate(rows)}
    later = [lambda x=x: x * k for row in rows for x in row]
    total = sum(x * k for row in [[y * 2.0 for y in row] for row in rows] for x in row)
    last = [y := x * k for row in rows for x in row]
    return table, sorted(by.items()), [f() for f in later], total, last, y, sorted(locals())


print(nested([[1.0, 2.0], [0.1], []]))


class Table:
    rows = [1.0, 2.0]
    doubled = [x * 2.0 for x in rows]
    squares = list(map(lambda x: [x * y for y in (1.0, x)], rows))


print(Table.doubled, Table.squares, sorted(n for n in vars(Table) if not n.startswith("__")))


async def later(n):
    async def values():
        for k in range(n):
            yield k * 0.5

    return [x * 2.0 async for x in values() if x * 2.0 >= 0.0], [await asyncio.sleep(0, x * 3.0) for x in (1.0, 2.0)]


print(asyncio.run(later(3)))


def shared(parts):
    """Generators of one call in several threads."""
    k, sums = 0.5, []
    made = [(x * k for x in part) for part in parts]
    threads = [threading.Thread(target=lambda g=g: sums.append(sum(g))) for g in made]
    [t.start() for t in threads], [t.join() for t in threads]
    return sorted(sums)


print(shared([[float(n + k) for k in range(2000)] for n in range(6)]))


def counted(steps):
    n, odd, halves = 0, 0, 0.0
    while n * 2 < steps and halves * 1.0 < 1e9:
        odd += n % 2
        n += 1
        halves += n / 2
    return n, odd, halves, type(n), type(odd)


print(counted(11), counted(0))
print([m for m in (math.sqrt, abs, max) if m is not None] == [math.sqrt, abs, max])
