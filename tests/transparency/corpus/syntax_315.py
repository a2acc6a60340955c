# needs 3.15
"""What 3.15 brought: unpacking in comprehensions, lazy imports."""

lazy import wave
lazy from fractions import Fraction
lazy import xml.dom.minidom as minidom
import sys

lists = [[1, 2.5], [], [3.0]]
dicts = [{"a": 1.0}, {"b": 2.0, "a": 3.0}]
print([*part for part in lists], {*part for part in lists} == {1, 2.5, 3.0}, {**d for d in dicts})
print(list(*part for part in lists if part))
print([*(x / 2 for x in part) for part in lists], [*[y / 2] for part in lists for y in part])


def flat(rows, scale=2.0):
    found = [*[x / scale for x in row] for row in rows]
    merged = {**{k: v / scale} for row in dicts for k, v in row.items()}
    return found, merged, max(*row for row in [[[1.0, 2.0]]])


print(flat(lists))
print("wave" in sys.modules, "xml.dom.minidom" in sys.modules)
print(wave.WAVE_FORMAT_PCM, "wave" in sys.modules)
print(Fraction(1, 3) + 1, minidom.__name__)
lazy import not_there_at_all
try:
    not_there_at_all.x
except ImportError as e:
    print(type(e).__name__, e)
