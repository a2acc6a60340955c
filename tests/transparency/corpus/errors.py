import sys, traceback, warnings, functools, logging


def deep(n):
    if n == 0:
        return [1.0][3]
    return deep(n - 1) / 2


def show():
    print(traceback.format_exc())


try:
    deep(3)
except IndexError:
    show()


class Chained(Exception):
    pass


def chain():
    try:
        {}["missing"]
    except KeyError as e:
        raise Chained("first") from e


try:
    chain()
except Chained:
    show()


def implicit():
    try:
        1 / 0
    except ZeroDivisionError:
        int("x")


try:
    implicit()
except ValueError as e:
    show()
    print(repr(e.__context__))
try:
    long_call = dict(a=1,
                     b=2 /
                     0,
                     c=3)
except ZeroDivisionError:
    show()


def multi(a,
          b):
    return (a +
            b)


try:
    multi(1,
          "x")
except TypeError:
    show()
try:
    for i in 5:
        pass
except TypeError:
    show()
try:
    for i, j in [1]:
        pass
except TypeError:
    show()
try:
    x = 1.0
    x += "s"
except TypeError:
    show()


def unbound():
    undefined_yet += 1


try:
    unbound()
except UnboundLocalError:
    show()


def aug():
    t = (1.0, 2.0)
    t[0] += 1.0


try:
    aug()
except TypeError:
    show()


class Prop:
    @property
    def value(self):
        print("read")
        return 2.0

    @value.setter
    def value(self, v):
        print("set", v)


p = Prop()
p.value += 1.5


def prop():
    q = Prop()
    q.value *= 3.0
    q.missing += 1


try:
    prop()
except AttributeError:
    show()
try:
    print(undefined_name)
except NameError:
    show()
try:
    [1 / v for v in (1, 0)]
except ZeroDivisionError:
    print("comprehension")
try:
    with open("/no/such/file") as f:
        pass
except OSError:
    show()


@functools.lru_cache
def cached(n):
    return n if n < 2 else cached(n - 1) + cached(n - 2)


print(cached(30), cached.cache_info())


def recurse(n):
    return n and recurse(n - 1)


try:
    recurse(10**6)
except RecursionError as e:
    print("recursion", str(e)[:32])
print(sys.exc_info())


def exc_in_finally():
    try:
        raise KeyError("k")
    finally:
        print("during", sys.exc_info()[0])


try:
    exc_in_finally()
except KeyError:
    pass
warnings.warn("a user warning")
for i in range(3):
    warnings.warn("only once")
with warnings.catch_warnings(record=True) as seen:
    warnings.simplefilter("always")
    warnings.warn("recorded")
    print(len(seen), seen[0].message)
with warnings.catch_warnings():
    warnings.simplefilter("error")
    try:
        warnings.warn("raised")
    except UserWarning as e:
        print("raised", e)
e1 = ValueError("note")
e1.add_note("a note")
try:
    raise e1
except ValueError:
    show()
logging.basicConfig(format="%(levelname)s %(funcName)s %(lineno)d %(message)s", stream=sys.stdout)
logging.warning("logged")
try:
    logging.raiseExceptions = 1 / 0
except ZeroDivisionError:
    logging.exception("with trace")


class Closing:
    def __init__(self, name):
        self.name = name

    def __del__(self):
        print("del", self.name)


def lifetime():
    c = Closing("one")
    c = Closing("two")
    print("after two")
    make = [Closing("three")]
    make.pop()
    print("end")


lifetime()
m = Closing("module")
m = None
print("module done")
for k in (Closing(str(i)) for i in range(2)):
    pass
del k
print("loop done")
raise SystemExit("leaving")
