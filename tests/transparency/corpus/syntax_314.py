# needs 3.14
"""What 3.14 brought: template strings, `except` without brackets, deferred annotations."""

import annotationlib
import math
import sys
from string.templatelib import Interpolation, Template


def tell(template: Template) -> str:
    parts = []
    for part in template:
        if isinstance(part, Interpolation):
            parts.append(f"<{part.expression}|{part.value}|{part.conversion}|{part.format_spec}>")
        else:
            parts.append(part)
    return "".join(parts)


head, width = 2.5, 4
print(tell(t"head {head:.2f} of {width!r} and {head / width} {[x / 2 for x in range(3)]} {t'inner {head}'.strings}"))
print(tell(t"{head=}" t" and {width}"), type(t""))

for key in ("a", 1, 5):
    try:
        if key == "a":
            {}[key]
        elif key == 1:
            [][key]
        else:
            1 / (key - 5)
    except KeyError, IndexError:
        print("nothing at", key)
    except ZeroDivisionError, OverflowError:
        print("divided")

try:
    raise ExceptionGroup("g", [ValueError("v"), TypeError("t")])
except* ValueError, TypeError:
    print("both parts")


def later(x: Gauge, y: not_there = 2.0) -> list[Gauge]:
    z: also_not_there = x
    return [z, y / 2]


class Gauge:
    level: float = 1.5
    next: Gauge | None = None

    def read(self, at: Gauge, scale: unknown = 1.0) -> Gauge:
        return self.level / scale


print(later(1.0), len(annotationlib.get_annotations(later, format=annotationlib.Format.FORWARDREF)))
print(annotationlib.get_annotations(later, format=annotationlib.Format.STRING))
print(Gauge.__annotations__, annotationlib.get_annotations(Gauge.read, format=annotationlib.Format.STRING))
try:
    print(later.__annotations__)
except NameError as e:
    print("NameError", e)


def closed_over(step):
    def inner(a: step) -> step:
        return a / 2

    return inner


print(closed_over(float).__annotations__, closed_over(int)(3))
volume: float = math.pi / 2
print(sys.modules["__main__"].__annotations__, volume)


def bound[T: (int, float) = int](value: T, *rest: T) -> T:
    type Pair = tuple[T, T]
    return value


print(bound(2), bound.__type_params__, bound.__annotations__)
for n in range(2):
    try:
        continue
    finally:
        print("finally", n)
print([f"{x!r:>5}" for x in (1.5, "q")], f"{'nested ' + f'{head:{width}.1f}'}")
