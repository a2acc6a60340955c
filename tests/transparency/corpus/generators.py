import asyncio, contextlib, inspect, itertools


def count(n):
    try:
        for i in range(n):
            got = yield i / 2
            if got:
                print("got", got)
    except ValueError as e:
        print("thrown", e)
        yield -1.0
    finally:
        print("closed")
    return "done"


g = count(3)
print(next(g), g.send("hello"), g.throw(ValueError("v")))
try:
    next(g)
except StopIteration as e:
    print("stop", e.value)
g = count(5)
next(g)
g.close()
print(inspect.getgeneratorstate(g))


def delegate():
    r = yield from count(2)
    print("r", r)
    x = yield
    print("x", x)


for v in delegate():
    print(v)


def bare():
    x = 1.5
    while True:
        x = yield x * 2


b = bare()
next(b)
print(b.send(3.0), b.send(4))
del b


class Iter:
    def __init__(self, n):
        self.n = n

    def __iter__(self):
        print("iter called")
        return self

    def __next__(self):
        if self.n == 0:
            raise StopIteration
        self.n -= 1
        return self.n


for q in Iter(3):
    print(q)
print(list(Iter(2)), [w for w in Iter(2)])


class Getitem:
    def __getitem__(self, i):
        if i > 2:
            raise IndexError
        return i * 1.5


for q in Getitem():
    print(q)


class Aiter:
    def __init__(self):
        self.i = 0

    def __aiter__(self):
        return self

    async def __anext__(self):
        self.i += 1
        if self.i > 3:
            raise StopAsyncIteration
        await asyncio.sleep(0)
        return self.i / 2


async def agen(n):
    try:
        for i in range(n):
            yield i * 1.5
            await asyncio.sleep(0)
    finally:
        print("agen closed")


@contextlib.asynccontextmanager
async def managed():
    print("enter")
    try:
        yield 4.5
    finally:
        print("exit")


async def main():
    async for v in Aiter():
        print("a", v)
    print([v async for v in agen(3)], {v: v / 2 async for v in Aiter()})
    async with managed() as m:
        print(m)
    results = await asyncio.gather(*(work(i) for i in range(3)), return_exceptions=True)
    print(results)
    async for v in agen(10):
        if v > 2:
            break
    try:
        async with asyncio.timeout(0.01):
            await asyncio.sleep(1)
    except TimeoutError:
        print("timeout")
    return "end"


async def work(i):
    await asyncio.sleep(0)
    if i == 2:
        raise ValueError("two")
    return i / 2


print(asyncio.run(main()))


@contextlib.contextmanager
def ctx(swallow):
    try:
        yield "value"
    except KeyError as e:
        print("in ctx", e)
        if not swallow:
            raise


with ctx(True) as v:
    raise KeyError("swallowed")
try:
    with ctx(False):
        raise KeyError("again")
except KeyError as e:
    print("outside", e)
with contextlib.suppress(ZeroDivisionError):
    1 / 0
with contextlib.ExitStack() as stack:
    stack.callback(print, "callback")
lst = [1, 2, 3]
for v in lst:
    if v == 1:
        lst.append(4)
    print(v, end=" ")
print()
d = {1: 2}
try:
    for k in d:
        d[k + 1] = 0
except RuntimeError as e:
    print(e)
it = iter(range(10))
for v in it:
    print(v, next(it, None), end=";")
print()
for v in itertools.islice(itertools.count(1.5), 3):
    print(v)
for line in open(__file__):
    print(line.rstrip())
    break
