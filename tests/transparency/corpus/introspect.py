import __main__
import copy
import dataclasses
import dis
import enum
import functools
import gc
import inspect
import io
import pickle
import sys
import textwrap
import threading
import types
import typing
import weakref


def only():
    """Only a docstring."""
class Only:
    """Only a docstring."""
    def method(self):
        "One line."
async def later(): "One line."
print(only.__doc__, Only.__doc__, Only.method.__doc__, later.__doc__, only(), inspect.getclosurevars(only))
def documented(a: float, b: "int" = 2, *, c: float = 0.5) -> float:
    """Doc."""
    value = a / b
    return value * c


print(inspect.getsource(documented))
print(inspect.signature(documented), documented.__doc__, documented.__annotations__, documented.__defaults__)
print(documented.__code__.co_firstlineno, documented.__code__.co_filename == __file__, documented.__module__)
print(documented.__qualname__, documented.__kwdefaults__, documented.__code__.co_argcount)


@dataclasses.dataclass(order=True)
class Gauge:
    name: str
    level: float = 0.5
    tags: list = dataclasses.field(default_factory=list)

    def head(self) -> float:
        return self.level - 4.0


class Colour(enum.Enum):
    RED = 1.5 * 2
    BLUE = enum.auto()


class Named(typing.NamedTuple):
    a: float
    b: float = 1.5 / 2


g = Gauge("a", 2.0)
again = pickle.loads(pickle.dumps(g))
print(again, again == g, copy.deepcopy(g), Colour.RED, Colour.BLUE.value, Named(1.0), dataclasses.asdict(g))
print(pickle.loads(pickle.dumps(documented)) is documented, pickle.loads(pickle.dumps([Colour.RED, Named(2.0)])))
print(inspect.getsource(Gauge.head), inspect.getmodule(Gauge), Gauge.__module__)
print(__main__.Gauge is Gauge, sys.modules["__main__"].__dict__ is globals())


def local_names():
    x = 1.5
    y = x / 2
    for i in range(2):
        y += i
    return sorted(locals()), dir(), vars()


print(local_names())


def without():
    x = 3.0
    for i in [1, 2]:
        x += i / 2
    return x


print(without(), sorted(globals().keys()) == sorted(vars().keys()), "x" in globals())
ns = {}
exec(textwrap.dedent("""
def made(v):
    return v / 2
result = made(3.0)
"""), ns)
print(ns["result"], eval("without() * 2"))
code = compile("1 + 2.5", "<s>", "eval")
print(eval(code), sys.argv[1:], sys.path[0] == __file__.rpartition("/")[0])


class Meta(type):
    def __new__(mcs, name, bases, ns, **kw):
        print(name, [k for k in ns if not k.startswith("__")])
        return super().__new__(mcs, name, bases, ns)


class WithMeta(metaclass=Meta):
    first = 1.5
    second = first / 2

    def method(self):
        return self.second


class Desc:
    def __set_name__(self, owner, name):
        self.name = name

    def __get__(self, o, t=None):
        return 4.5 if o is None else o.__dict__.get(self.name, 0.0)

    def __set__(self, o, v):
        o.__dict__[self.name] = v / 2


class Has:
    d = Desc()


h = Has()
h.d = 3.0
h.d += 1.0
print(h.d, Has.d)
r = weakref.ref(h)
del h
print(r())


def decorate(times):
    def wrap(f):
        @functools.wraps(f)
        def inner(*a, **k):
            return [f(*a, **k) for _ in range(times)]

        return inner

    return wrap


@decorate(2)
def decorated(v=1.5):
    return v / 2


print(decorated(), decorated.__name__, decorated.__wrapped__(3.0))
print(threading.active_count(), threading.current_thread() is threading.main_thread())
out = []
t = threading.Thread(target=lambda: out.append(without()))
t.start()
t.join()
print(out, gc.isenabled(), sys.gettrace(), sys.getprofile())
print([n for n in dir(sys.modules["builtins"]) if not n.isidentifier()], sys.getrecursionlimit())
print(type(__loader__).__name__, __builtins__ is sys.modules["builtins"], sys.flags.optimize)


class Single:
    instance = None

    def __new__(cls):
        if cls.instance is None:
            cls.instance = super().__new__(cls)
        return cls.instance

    def __call__(self, x):
        return x / 2

    def __enter__(self):
        return self

    def __exit__(self, *a):
        print("exit", a[0])
        return True


print(Single() is Single(), Single()(3.0))
with Single() as s1:
    raise ValueError
print(sys.getrefcount([]), [sys.getrefcount(v) - sys.getrefcount(w) for v, w in [(object(), object())]])


def counted():
    thing = object()
    kept = [thing]
    return sys.getrefcount(thing)


if sys.version_info < (3, 14):  # later ones count a borrowed reference or not, as the optimiser likes
    print(counted())
sys.stdout.write("written\n")
print("to err", file=sys.stderr)
buffer = io.StringIO()
print("in buffer", file=buffer)
print(buffer.getvalue())


def tracer(frame, event, arg):
    seen.append(event)
    return None


seen = []
sys.settrace(tracer)
without()
sys.settrace(None)
print(seen)
