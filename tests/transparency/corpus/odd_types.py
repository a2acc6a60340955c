"""A metaclass that cannot be compared, one without a hash, and built-ins replaced for a while."""
import builtins


class Meta(type):
    def __eq__(self, other):
        raise RuntimeError("no comparing")


class Odd(metaclass=Meta):
    def __init__(self):
        self.v = 1

    def __add__(self, other):
        return self

    __iadd__ = __add__


class Loud(type):
    def __eq__(self, other):
        print("compared")
        return NotImplemented

    def __hash__(self):
        print("hashed")
        return 1


class Noisy(float, metaclass=Loud):
    pass


def keep(z):
    z += 1
    y = z + 1
    return [y, (y, {"a": z})]


o = Odd()
for value in (o, Noisy(2.5)):
    value += 1
    kept = keep(value)
    print(len(kept), len([value, value]))
names = ("len", "isinstance", "type", "hasattr", "getattr", "sorted", "print", "any", "dict", "id", "float", "set")
originals = {n: getattr(builtins, n) for n in names}
try:
    for n in originals:
        setattr(builtins, n, None)

    def compute(a):
        a += 0.5
        try:
            w = {}["k"]
        except KeyError:
            w = 2
        return a * 2.0 + w

    total = compute(1.5)
    for q in (1.0, 2.0):
        total += q
finally:
    for n in originals:
        builtins.__dict__[n] = originals[n]
print(total)
