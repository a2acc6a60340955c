"""The five loops, as the script under measurement runs them: `python loops.py`-style source text.

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
