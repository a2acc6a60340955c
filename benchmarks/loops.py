"""The loops, as the script under measurement runs them: `python loops.py`-style source text.

Each loop is a module of its own: `plain` runs it as it is, `rewritten` with the probes of the agent, in one
and the same process, so that the ratios do not depend on the machine's mood.
"""

LOOPS = {
    "scalar": """
def work(n):
    x, y = 0.3, 0.0
    for i in range(n):
        x = 3.7 * x * (1.0 - x)
        y = y * 0.99 + x
    return y
def main():
    return work(400_000)
""",
    "calls": """
def half(x, y):
    return x * 0.5 + y
def work(n):
    x = 1.0
    for i in range(n):
        x = half(x, 1.5)
    return x
def main():
    return work(300_000)
""",
    "vectorised": """
import numpy as np
a = np.linspace(0.1, 1.0, 1_000_000)
b = np.linspace(1.0, 2.0, 1_000_000)
def work(n):
    for i in range(n):
        c = a * b + 0.5
        d = np.sqrt(c) / b
        e = np.exp(-d) * a
    return e
def main():
    return work(8)
""",
    "elements": """
import numpy as np
def work(n):
    out = np.zeros(n)
    level = 2.0
    for i in range(1, n):
        out[i] = out[i - 1] * 0.9 + level
    return out
def main():
    return work(200_000)
""",
    "module": """
total = 0.0
x = 0.3
for i in range(200_000):
    x = 3.7 * x * (1.0 - x)
    total += x * 0.5
""",
}
LOOPS["gaps"] = LOOPS["vectorised"].replace(
    "def work", "a[np.random.default_rng(7).random(a.size) < 0.01] = np.nan\ndef work", 1
)
LOOPS["small"] = LOOPS["vectorised"].replace("1_000_000", "100").replace("work(8)", "work(20_000)")
LOOPS["in place"] = LOOPS["small"].replace("c = a * b + 0.5", "c = a * b\n        c += 0.5")
LOOPS["oscillator"] = """
import numpy as np
def work(n):
    x, v = np.linspace(0.1, 1.0, 100), np.zeros(100)
    for i in range(n):
        pull = -2.0 * x
        drag = 0.1 * v
        force = pull - drag
        v = v + force * 0.01
        x = x + v * 0.01
    return x
def main():
    return work(10_000)
"""
LOOPS["small gaps"] = LOOPS["small"].replace("def work", "a[7] = np.nan\ndef work", 1).replace("20_000", "5_000")
LOOPS["carried"] = """
def work(n):
    level, total = float("nan"), 0.0
    for i in range(n):
        level = level * 0.5 + i
        total = level - 1.0
    return total
def main():
    return work(20_000)
"""
LIMITS = {  # whole runs, and the same in one process
    **{"scalar": 1.8, "calls": 1.9, "elements": 1.7, "module": 1.9, "vectorised": 1.2, "gaps": 1.7},
    **{"small": 1.8, "in place": 2.5, "oscillator": 1.6, "small gaps": 8.0, "carried": 60.0},
}

# Programs as they are written to try languages out: what a script of loops over plain numbers costs.
CLASSIC = {
    "bodies": """
import math
class Body:
    def __init__(self, x, y, z, vx, vy, vz, mass):
        self.x, self.y, self.z = x, y, z
        self.vx, self.vy, self.vz = vx, vy, vz
        self.mass = mass
def advance(bodies, dt, steps):
    for step in range(steps):
        for i, one in enumerate(bodies):
            for other in bodies[i + 1:]:
                dx = one.x - other.x
                dy = one.y - other.y
                dz = one.z - other.z
                squared = dx * dx + dy * dy + dz * dz
                pull = dt / (squared * math.sqrt(squared))
                one.vx -= dx * other.mass * pull
                one.vy -= dy * other.mass * pull
                one.vz -= dz * other.mass * pull
                other.vx += dx * one.mass * pull
                other.vy += dy * one.mass * pull
                other.vz += dz * one.mass * pull
        for one in bodies:
            one.x += dt * one.vx
            one.y += dt * one.vy
            one.z += dt * one.vz
def energy(bodies):
    total = 0.0
    for i, one in enumerate(bodies):
        total += 0.5 * one.mass * (one.vx ** 2 + one.vy ** 2 + one.vz ** 2)
        for other in bodies[i + 1:]:
            apart = math.sqrt((one.x - other.x) ** 2 + (one.y - other.y) ** 2 + (one.z - other.z) ** 2)
            total -= one.mass * other.mass / apart
    return total
def main():
    bodies = [Body(i * 1.7, i * 0.9 - 1.0, i * 0.2, 0.1 * i, 0.3 - 0.1 * i, 0.02 * i, 1.0 + 0.3 * i) for i in range(5)]
    advance(bodies, 0.001, 3_000)
    return energy(bodies)
""",
    "norm": """
import math
def cell(i, j):
    return 1.0 / ((i + j) * (i + j + 1) / 2 + i + 1)
def times(v):
    return [sum(cell(i, j) * v[j] for j in range(len(v))) for i in range(len(v))]
def times_turned(v):
    return [sum(cell(j, i) * v[j] for j in range(len(v))) for i in range(len(v))]
def main():
    u = [1.0] * 60
    for _ in range(8):
        v = times_turned(times(u))
        u = times_turned(times(v))
    top = bottom = 0.0
    for a, b in zip(u, v):
        top += a * b
        bottom += b * b
    return math.sqrt(top / bottom)
""",
    "escape": """
def row(y, width, most):
    found = []
    for k in range(width):
        cx = 3.0 * k / width - 2.0
        x = z = 0.0
        n = 0
        while n < most and x * x + z * z <= 4.0:
            x, z = x * x - z * z + cx, 2.0 * x * z + y
            n += 1
        found.append(n)
    return found
def main():
    return [row(y * 0.05, 60, 200) for y in range(12)]
""",
    "heat": """
def main():
    cells = 400
    old = [20.0] * cells
    old[0] = 100.0
    new = old[:]
    rate = 0.24
    for step in range(800):
        for i in range(1, cells - 1):
            new[i] = old[i] + rate * (old[i - 1] - 2.0 * old[i] + old[i + 1])
        old, new = new, old
    return sum(old)
""",
    "runge": """
def slope(t, y):
    return -2.0 * y + t * t
def step(t, y, h):
    k1 = slope(t, y)
    k2 = slope(t + h / 2, y + h / 2 * k1)
    k3 = slope(t + h / 2, y + h / 2 * k2)
    k4 = slope(t + h, y + h * k3)
    return y + h / 6 * (k1 + 2 * k2 + 2 * k3 + k4)
def main():
    t, y, h = 0.0, 1.0, 0.0001
    for n in range(40_000):
        y = step(t, y, h)
        t += h
    return y
""",
}
