"""Scripts, the place that is asked for at their end, and the chain as it was worked out by hand: line, pass, target."""

CASES: dict[str, tuple[str, str, list[tuple[int, int, str]]]] = {
    "scalar in a loop": (
        """
total = 0.0
for day in range(5):
    flow = day - 2.0
    total = total + 1.0 / flow if flow else float("nan")
share = total
""",
        "share",
        [(6, 0, "share"), (5, 3, "total")],
    ),
    "cell of an array": (
        """
import numpy as np
stage = np.linspace(1.0, 3.0, 5)
head = stage - 2.0
flow = np.sqrt(head - 0.25)
first = flow[1]
""",
        "first",
        [(6, 0, "first"), (5, 0, "flow[1]")],
    ),
    "view": (
        """
import numpy as np
flow = np.ones(10)
spring = flow[2:5]
spring[1] = np.log(0.0)
flow[7] = 2.0
peak = flow[3]
""",
        "peak",
        [(7, 0, "peak"), (5, 0, "flow[3]")],
    ),
    "alias": (
        """
import numpy as np
flow = np.ones(4)
copy = flow
copy[2] = np.inf
copy[1] = 0.0
mean = flow[2] * 0.5
""",
        "mean",
        [(7, 0, "mean"), (5, 0, "flow[2]")],
    ),
    "slices": (
        """
import numpy as np
rain = np.arange(12.0)
loss = np.zeros(12)
loss[4:8] = rain[:4] / (rain[:4] - 2.0)
loss[0:4] = rain[:4]
worst = loss[6]
""",
        "worst",
        [(7, 0, "worst"), (5, 0, "loss[6]")],
    ),
    "two dimensions": (
        """
import numpy as np
rain = np.zeros((3, 4))
rain[1] = 2.0
rain[:, 2] = np.arange(3.0) * rain[:, 0]
rain[..., 0] = 7.0
rain[::2, 1:3] = -1.0
seen = rain[1, 2]
""",
        "seen",
        [(8, 0, "seen"), (5, 0, "rain[1, 2]"), (4, 0, "rain[:, 0][1]")],
    ),
    "two writes in one statement": (
        """
a = [1.0, 2.0]
x, y = 5.0, float("nan")
a[0], a[1] = x, y
a[0], a[1] = a[0], a[1]
b = a[1]
""",
        "b",
        [(6, 0, "b"), (4, 0, "a[1]"), (3, 0, "y")],
    ),
    "mask": (
        """
import numpy as np
level = np.array([1.0, -1.0, 4.0, -4.0])
level[level < 0] = np.nan
level[0] = 2.0
bad = level[3]
""",
        "bad",
        [(6, 0, "bad"), (4, 0, "level[3]")],
    ),
    "put": (
        """
import numpy as np
level = np.ones(5)
np.put(level, [1, 3], [2.0, np.nan])
level.sort()
bad = level[-1]
""",
        "bad",
        [(6, 0, "bad"), (5, 0, "level[-1]"), (4, 0, "level[3]")],
    ),
    "argument and return": (
        """
def loss(flow, area):
    rate = flow / area
    return rate * 2.0
def day(flow):
    return loss(flow, 4.0)
lost = day(float("inf"))
""",
        "lost",
        [
            (7, 0, "lost"),
            (6, 0, 'day(float("inf"))'),
            (4, 0, "loss(flow, 4.0)"),
            (3, 0, "rate"),
            (6, 0, "flow"),
            (7, 0, "flow"),
        ],
    ),
    "object": (
        """
class Reservoir:
    def __init__(self, level):
        self.level = level
    def drain(self, rate):
        self.level = self.level - rate
    def reset(self):
        self.level = 3.0
pool = Reservoir(5.0)
pool.drain(float("inf"))
print(pool.level)
""",
        "pool.level",
        [(6, 0, "pool.level"), (10, 0, "rate")],
    ),
    "made by a class": (
        """
class Reservoir:
    def __init__(self, level):
        self.level = level * 2.0
        self.area = 3.0
pool = Reservoir(4.0)
depth = pool.level
""",
        "depth",
        [(7, 0, "depth"), (6, 0, "pool.level"), (4, 0, "Reservoir(4.0).level"), (6, 0, "level")],
    ),
    "closure": (
        """
def counter():
    total = 0.0
    def add(x):
        nonlocal total
        total = total + x
        return total
    return add
add = counter()
add(1.0)
add(float("nan"))
last = add(2.0)
""",
        "last",
        [(12, 0, "last"), (7, 0, "add(2.0)"), (6, 0, "total"), (11, 0, "x")],
    ),
    "generator": (
        """
def depths():
    for k in range(4):
        yield 1.0 - k / 2
flow = 0.0
for depth in depths():
    flow = depth ** 0.5 if depth >= 0 else float("nan")
""",
        "flow",
        [(7, 4, "flow")],
    ),
    "recursion": (
        """
def fall(n, x):
    y = x - 1.0
    if n == 0:
        return y / 0.5
    return fall(n - 1, y)
end = fall(2, 4.0)
""",
        "end",
        [
            *((7, 0, "end"), (6, 0, "fall(2, 4.0)"), (6, 0, "fall(n - 1, y)"), (5, 0, "fall(n - 1, y)")),
            *((3, 0, "y"), (6, 0, "x"), (3, 0, "y"), (6, 0, "x"), (3, 0, "y"), (7, 0, "x")),
        ],
    ),
    "global": (
        """
scale = 1.0
def tune(x):
    global scale
    scale = x
for k in range(3):
    tune(k * 2.0)
result = scale
""",
        "result",
        [(8, 0, "result"), (5, 3, "scale"), (7, 3, "x"), (6, 3, "k")],
    ),
    "list and dictionary": (
        """
gauges = {"north": [1.0, 2.0], "south": [3.0]}
south = gauges["south"]
south.append(float("nan"))
gauges["north"][0] = 5.0
bad = gauges["south"][1]
""",
        "bad",
        [(6, 0, "bad"), (4, 0, "gauges['south'][1]")],
    ),
    "frame": (
        """
import pandas as pd
table = pd.DataFrame({"flow": [1.0, 2.0, 4.0], "area": [1.0, 0.0, 2.0]})
table["rate"] = table["flow"] - table["area"]
table.loc[1, "rate"] = float("nan")
table["extra"] = 1.0
bad = table.loc[1, "rate"]
""",
        "bad",
        [(7, 0, "bad"), (5, 0, "table.loc[1, 'rate']")],
    ),
    "merge": (
        """
import pandas as pd
rain = pd.DataFrame({"gauge": ["a", "b", "c"], "rain": [1.0, 2.0, 3.0]})
area = pd.DataFrame({"gauge": ["a", "c"], "area": [5.0, 6.0]})
both = rain.merge(area, on="gauge", how="left")
both["depth"] = both["rain"] / both["area"]
bad = both["depth"][1]
""",
        "bad",
        [(7, 0, "bad"), (6, 0, "both['depth'][1]"), (5, 0, "both['area'].loc[1]")],
    ),
    "group": (
        """
import pandas as pd
table = pd.DataFrame({"gauge": ["a", "b", "a"], "flow": [1.0, float("nan"), 3.0]})
table["flow"] = table["flow"] * 2.0
mean = table.groupby("gauge")["flow"].mean()
bad = mean["b"]
""",
        "bad",
        [(6, 0, "bad"), (5, 0, "mean['b']"), (3, 0, "table['flow'].loc[1]")],
    ),
    "deleted": (
        """
level = 2.0
del level
level = 3.0
depth = level
""",
        "depth",
        [(5, 0, "depth"), (4, 0, "level")],
    ),
    "same value again": (
        """
flow = [0.0, 0.0]
for day in range(3):
    flow[1] = 0.0
seen = flow[1]
""",
        "seen",
        [(5, 0, "seen"), (4, 3, "flow[1]")],
    ),
    "what a function is told to fill": (
        """
import numpy as np
level = np.array([1.0, 2.0, 3.0])
head = np.empty(3)
np.subtract(level, 2.0, out=head)
turned = head.T
turned[...] *= 2.0
low = head[1]
""",
        "low",
        [(8, 0, "low"), (7, 0, "head[1]"), (6, 0, "turned[...][1]"), (5, 0, "head.T[...][1]")],
    ),
    "a name of a comprehension": (
        """
k = 3.0
table = {k: v for k, v in zip("ab", [1.0, 2.0])}
seen = k
""",
        "seen",
        [(4, 0, "seen"), (2, 0, "k")],
    ),
    "decorated": (
        """
import functools
def logged(f):
    @functools.wraps(f)
    def inner(*args):
        return f(*args)
    return inner
@logged
def root(h):
    return h ** 0.5
flow = root(4.0)
""",
        "flow",
        [(11, 0, "flow"), (6, 0, "root(4.0)"), (10, 0, "f(*args)"), (6, 0, "h")],
    ),
    "awaited": (
        """
import asyncio
async def later(v):
    await asyncio.sleep(0)
    w = v * 2.0
    return w
f = 3.0
a = asyncio.run(later(f))
""",
        "a",
        [(8, 0, "a"), (6, 0, "later(f)"), (5, 0, "w"), (8, 0, "v"), (7, 0, "f")],
    ),
    "by a thread": (
        """
import threading
flow = [1.0, 1.0, 1.0]
def fill():
    flow[2] = float("inf")
one = threading.Thread(target=fill)
one.start()
one.join()
total = sum(flow)
""",
        "total",
        [(9, 0, "total"), (5, 0, "flow[2]")],
    ),
    "several targets": (
        """
def both():
    low, high = 1.0, float("nan")
    return low, high
low, high = both()
width = high - low
""",
        "width",
        [(6, 0, "width"), (5, 0, "high"), (4, 0, "both()[1]"), (3, 0, "high")],
    ),
    "text read twice": (
        """
words = "12 n/a 7".split()
levels = []
for word in words:
    try:
        levels.append(float(word))
    except ValueError:
        levels.append(float("nan"))
total = sum(levels)
""",
        "total",
        [(9, 0, "total"), (8, 2, "levels[1]")],
    ),
}
