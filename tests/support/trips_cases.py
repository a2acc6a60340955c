"""Scripts with one fault each, and what must be said of it: reason, kind, line, function, culprit, pass.

The first line of each is line 1.  None for a culprit: not looked at; an empty list: nothing may trip.
"""

CASES = {
    "nested function": (
        "def outer(x):\n    def inner(y):\n        return 1e308 * y\n    return inner(x) * 2\nprint(outer(1e10))\n",
        [("nonfinite", "created", 3, "outer.<locals>.inner", "1e308 * y", None)],
    ),
    "method": (
        "class Gauge:\n    def __init__(self, z):\n        self.z = z\n    def head(self, x):\n"
        "        big = x * 1e300\n        return big * self.z\nGauge(1e300).head(2.0)\n",
        [("nonfinite", "created", 6, "Gauge.head", "big * self.z", None)],
    ),
    "comprehension": (
        "import numpy as np\nxs = [1.0, 4.0, -9.0, 16.0]\nys = [np.sqrt(x) for x in xs]\nprint(sum(ys))\n",
        [("nonfinite", "created", 3, "<module>", "np.sqrt(x)", 3)],
    ),
    "generator": (
        "import numpy as np\ndef gen(xs):\n    for x in xs:\n        yield np.log(x)\n"
        "total = sum(gen([1.0, 0.0, 2.0]))\n",
        [("nonfinite", "created", 4, "gen", "np.log(x)", 2)],
    ),
    "generator expression": (
        "import numpy as np\ntotal = sum(np.log(x) for x in [1.0, 2.0, 0.0])\n",
        [("nonfinite", "created", 2, "<module>", "np.log(x)", 3)],
    ),
    "lambda": (
        "import numpy as np\nf = lambda d: np.float64(1.0) / d\nfor k in [2.0, 1.0, 0.0]:\n    y = f(k)\n",
        [("nonfinite", "created", 2, "<lambda>", "np.float64(1.0) / d", 3)],
    ),
    "return": (
        "import numpy as np\ndef f(a):\n    return np.log(a)\nx = f(-1.0)\n",
        [("nonfinite", "created", 3, "f", "np.log(a)", None)],
    ),
    "argument": (
        "import numpy as np\ndef f(a):\n    return 1\nx = f(np.log(-2.0))\n",
        [("nonfinite", "created", 4, "<module>", "np.log(-2.0)", None)],
    ),
    "keyword argument of print": (
        "import numpy as np\na = np.float64(0.0)\nprint('x', a / a)\n",
        [("nonfinite", "created", 3, "<module>", "a / a", None)],
    ),
    "subscript store": (
        "d = {}\nbig = 1e200\nd['k'] = big * big\n",
        [("nonfinite", "created", 3, "<module>", "big * big", None)],
    ),
    "subscript index": (
        "import numpy as np\nd = {}\nz = np.float64(0.0)\nd[z / z] = 1\n",
        [("nonfinite", "created", 4, "<module>", "z / z", None)],
    ),
    "attribute": (
        "class A: pass\na = A()\na.v = 1e200 * 1e10\na.v = a.v * 1e200\n",
        [("nonfinite", "created", 4, "<module>", "a.v * 1e200", None)],
    ),
    "augmented in a function": (
        "def f(n):\n    t = 1e300\n    for i in range(n):\n        t *= 10.0\n    return t\nf(50)\n",
        [("nonfinite", "created", 4, "f", "t *= 10.0", 9)],
    ),
    "augmented at module level": (
        "t = 1e300\nfor i in range(50):\n    t *= 10.0\n",
        [("nonfinite", "created", 3, "<module>", "t *= 10.0", 9)],
    ),
    "augmented attribute": (
        "class Tank:\n    def __init__(self):\n        self.v = 1.0\n    def fill(self):\n"
        "        self.v *= 1e200\nt = Tank()\nt.fill()\nt.fill()\n",
        [("nonfinite", "created", 5, "Tank.fill", "self.v *= 1e200", None)],
    ),
    "augmented element": (
        "import numpy as np\ndef f():\n    a = np.ones(3)\n    a[1] /= 0.0\n    return a\nf()\n",
        [("nonfinite", "created", 4, "f", "a[1] /= 0.0", None)],
    ),
    "augmented array in place": (
        "import numpy as np\na = np.array([1.0, 0.0])\nb = np.array([1.0, 0.0])\na /= b\nprint(a)\n",
        [("nonfinite", "created", 4, "<module>", None, None)],
    ),
    "in place with itself": (
        "import numpy as np\nw = np.zeros(3)\nw /= w.sum()\n",
        [("nonfinite", "created", 3, "<module>", "w /= w.sum()", None)],
    ),
    "in place, carried": (
        "import numpy as np\nw = np.zeros(3)\nb = np.array([1.0, np.nan, 2.0])\nw += b\nw *= 2.0\nw += b * 2\n",
        [],
    ),
    "error in a comprehension": (
        "def g(xs):\n    return [1 / (x - 2) for x in xs]\ng([1, 2, 3])\n",
        [("error", None, 2, "g", "1 / (x - 2)", 2)],
    ),
    "right side of an augmented assignment": (
        "import numpy as np\ndef f(x):\n    t = 0.0\n    t += np.log(x) * 2\n    return t\nf(-1.0)\n",
        [("nonfinite", "created", 4, "f", "np.log(x)", None)],
    ),
    "tuple unpacking": (
        "import numpy as np\nx = np.float64(0.0)\na, b = 1.0, x / x\n",
        [("nonfinite", "created", 3, "<module>", "x / x", None)],
    ),
    "unpacking a call": (
        "import numpy as np\nx = np.array([1.0, -1.0])\na, b = np.sqrt(x)\n",
        [("nonfinite", "created", 3, "<module>", "np.sqrt(x)", None)],
    ),
    "condition": (
        "import numpy as np\nx = np.float64(-1.0)\nif np.log(x) > 0:\n    print('no')\n",
        [("nonfinite", "created", 3, "<module>", "np.log(x)", None)],
    ),
    "elif": (
        "import numpy as np\nx = np.float64(-1.0)\nif x > 0:\n    pass\nelif np.log(x) > 0:\n    pass\n",
        [("nonfinite", "created", 5, "<module>", "np.log(x)", None)],
    ),
    "while condition": (
        "x = 1e300\ndef f(x):\n    while x * 10 < 1e400:\n        x *= 10\n        if x > 1e307: break\nf(x)\n",
        [],
    ),
    "f-string": (
        "import numpy as np\nq = np.float64(2.0)\nw = np.float64(0.0)\ns = f'{q / w:.2f}'\n",
        [("nonfinite", "created", 4, "<module>", "q / w", None)],
    ),
    "array cell": (
        "import numpy as np\na = np.arange(6.0)\nb = a - 3.0\nc = 2.0 * (a / b)\n",
        [("nonfinite", "created", 4, "<module>", "a / b", None)],
    ),
    "integer array": (
        "import numpy as np\na = np.array([1, 0, 2])\nb = 10 / a\n",
        [("nonfinite", "created", 3, "<module>", "10 / a", None)],
    ),
    "float32": (
        "import numpy as np\na = np.array([1e30, 1.0], dtype=np.float32)\nb = a * a\n",
        [("nonfinite", "created", 3, "<module>", "a * a", None)],
    ),
    "complex": (
        "import numpy as np\nz = np.array([1+1j, 0j])\nw = 1 / z\n",
        [("nonfinite", "created", 3, "<module>", "1 / z", None)],
    ),
    "python complex": (
        "z = complex(1e200, 1e200)\nw = z * z\n",
        [("nonfinite", "created", 2, "<module>", "z * z", None)],
    ),
    "decimal": (
        "from decimal import *\ngetcontext().traps[DivisionByZero] = False\ngetcontext().traps[InvalidOperation] = False\n"
        "x = Decimal(1) / Decimal(0)\n",
        [("nonfinite", "created", 4, "<module>", "Decimal(1) / Decimal(0)", None)],
    ),
    "reduction of an empty array": (
        "import numpy as np\na = np.array([])\nm = a.mean()\n",
        [("nonfinite", "created", 3, "<module>", "a.mean()", None)],
    ),
    "matrix product": (
        "import numpy as np\na = np.full((2, 2), 1e200)\nb = a @ a\n",
        [("nonfinite", "created", 3, "<module>", "a @ a", None)],
    ),
    "pandas series": (
        "import pandas as pd\ns = pd.Series([1.0, 0.0, 2.0])\nt = s / s\n",
        [("nonfinite", "created", 3, "<module>", "s / s", None)],
    ),
    "pandas new column": (
        "import pandas as pd\ndf = pd.DataFrame({'q': [1.0, 2.0], 'w': [0.0, 1.0]})\ndf['r'] = df['q'] / df['w']\n",
        [("nonfinite", "created", 3, "<module>", "df['q'] / df['w']", None)],
    ),
    "pandas misaligned": (
        "import pandas as pd\na = pd.Series([1.0, 2.0], index=[0, 1])\nb = pd.Series([1.0, 2.0], index=[1, 2])\nc = a + b\n",
        [("nonfinite", "created", 4, "<module>", "a + b", None)],
    ),
    "pandas merge": (
        "import pandas as pd\na = pd.DataFrame({'k': [1, 2], 'x': [1.0, 2.0]})\nb = pd.DataFrame({'k': [2, 3], 'y': [5.0, 6.0]})\n"
        "c = a.merge(b, on='k', how='left')\n",
        [],
    ),
    "pandas merge beside gaps that were there": (
        "import pandas as pd\na = pd.DataFrame({'k': [1, 2], 'x': [None, 2.0]})\nb = pd.DataFrame({'k': [2, 3], 'y': [5.0, 6.0]})\n"
        "c = a.merge(b, on='k', how='left')\nd = c.copy()\ne = c.sort_values('k')\nf = c * 2\ng = c[['x']]\n",
        [("nonfinite", "gaps", 7, "<module>", None, None)],
    ),
    "pandas shift is meant": (
        "import pandas as pd\ns = pd.Series([1.0, 2.0, 4.0])\nt = s.shift(1)\nu = s.diff()\nv = s.rolling(2).mean()\nw = s.pct_change()\n",
        [],
    ),
    "arrived by a file": (
        "import numpy as np, io\na = np.genfromtxt(io.StringIO('1.0\\nnan\\n'))\nb = a * 2\n",
        [("nonfinite", "arrived", 2, "<module>", None, None)],
    ),
    "arrived by text": (
        "words = ['1.5', 'nan']\nfor w in words:\n    v = float(w)\n",
        [("nonfinite", "arrived", 3, "<module>", "float(w)", 2)],
    ),
    "carried is off": (
        "import numpy as np\na = np.array([1.0, np.nan])\nb = a * 2\nc = b + a\nd = np.cumsum(c)\ne = d.sum()\nf = np.sqrt(a)\n",
        [("nonfinite", "gaps", 5, "<module>", "np.cumsum(c)", None)],
    ),
    "created beside carried": (
        "import numpy as np\na = np.array([1.0, np.nan, 0.0])\nb = a / a\n",
        [("nonfinite", "created", 3, "<module>", "a / a", None)],
    ),
    "deliberate": (
        "import math\nimport numpy as np\nbest = math.inf\nlow = -float('inf')\nx = np.full(5, np.nan)\ny = np.empty(5)\n"
        "z = np.nan\nw = [np.nan] * 3\nbest = min(best, 3.0)\nq = np.ones(3) * np.nan\nmiss = float('nan')\nv = max(low, 1.0)\n",
        [],
    ),
    "masked array": (
        "import numpy as np\na = np.ma.masked_invalid([1.0, np.nan])\nb = a * 2\n",
        [],
    ),
    "masked branch is a warning": (
        "import numpy as np\nx = np.array([-1.0, 1.0])\ny = np.where(x > 0, np.log(x), 0.0)\n",
        [("warning", None, 3, "<module>", None, None)],
    ),
    "tested values": (
        "import numpy as np\nx = np.array([1.0, np.nan])\nok = np.isfinite(x / 2)\ny = np.nan_to_num(x * 2)\nz = np.nanmean(x)\n",
        [],
    ),
    "user's warning": (
        "import warnings\ndef f():\n    warnings.warn('low water')\nf()\n",
        [("warning", None, 3, "f", None, None)],
    ),
    "deprecation is quiet": ("import warnings\nwarnings.warn('old', DeprecationWarning)\n", []),
    "swallowed error is quiet": (
        "try:\n    x = 1 / 0\nexcept ZeroDivisionError:\n    x = 0\ntry:\n    {}['a']\nexcept Exception as e:\n    pass\n",
        [],
    ),
    "re-raised error": (
        "def f():\n    try:\n        return 1 / 0\n    except ZeroDivisionError:\n        print('log')\n        raise\nf()\n",
        [("error", None, 3, "f", "1 / 0", None)],
    ),
    "handled by a caller": (
        "def f(x):\n    return 1 / x\ndef g():\n    try:\n        return f(0)\n    except ArithmeticError:\n        return 0\ng()\n",
        [],
    ),
    "not handled by another clause": (
        "def f(x):\n    return [1][x]\ntry:\n    f(3)\nexcept KeyError:\n    pass\n",
        [("error", None, 2, "f", "[1][x]", None)],
    ),
    "handled by a library": (
        "import json\nd = dict(a=1)\nprint(getattr(d, 'nope', 1), hasattr(d, 'nope'), d.get('x'))\n"
        "class A:\n    def __getattr__(self, n):\n        raise AttributeError(n)\nprint(hasattr(A(), 'x'))\n",
        [],
    ),
    "head of a for": (
        "def gen():\n    yield 1\nfor day in range(3, 'x'):\n    pass\n",
        [("error", None, 3, "<module>", "range(3, 'x')", None)],
    ),
    "head of a with": (
        "with open('/no/such/file.csv') as f:\n    pass\n",
        [("error", None, 1, "<module>", "open('/no/such/file.csv')", None)],
    ),
    "unpacking error": (
        "pairs = [(1, 2), (3,)]\nfor a, b in pairs:\n    pass\n",
        [("error", None, 2, "<module>", None, None)],
    ),
    "raise": (
        "def check(v):\n    if v < 0:\n        raise ValueError(f'negative: {v}')\ncheck(-1)\n",
        [("error", None, 3, "check", None, None)],
    ),
    "index error": (
        "import numpy as np\nq = np.zeros(5)\nfor day in range(5):\n    s = q[day + 2] * 2.0\n",
        [("error", None, 4, "<module>", "q[day + 2]", 4)],
    ),
    "key error in a lambda": (
        "t = {'a': 1}\nf = lambda k: t[k]\nprint([f(k) for k in ('a', 'b')])\n",
        [("error", None, 2, "<lambda>", None, None)],
    ),
    "recursion": (
        "def f(n, x):\n    if n == 0:\n        return x / 0\n    return f(n - 1, x)\nf(5, 1.0)\n",
        [("error", None, 3, "f", "x / 0", None)],
    ),
    "callback of a library": (
        "import numpy as np\ndef f(x):\n    return np.log(x)\nv = np.array(list(map(f, [1.0, 0.0])))\n",
        [("nonfinite", "created", 3, "f", "np.log(x)", None)],
    ),
    "passed through a container": (
        "import numpy as np\ndef f(x):\n    return {'a': x / np.float64(0)}\nr = f(2.0)\ns = r['a'] * 2\n",
        [("nonfinite", "created", 3, "f", "x / np.float64(0)", None)],
    ),
    "nan from the user's code by name": (
        "import numpy as np\ndef f(x):\n    y = x * np.inf\n    return y\nz = f(1.0) + 1.0\nw = np.abs(f(2.0))\n",
        [],
    ),
    "assert": (
        "import numpy as np\nx = np.float64(-1.0)\nassert not np.sqrt(x) > 0\n",
        [("nonfinite", "created", 3, "<module>", "np.sqrt(x)", None)],
    ),
    "walrus": (
        "import numpy as np\nx = np.float64(0.0)\nif (y := 1 / x) > 0:\n    pass\n",
        [("nonfinite", "created", 3, "<module>", "1 / x", None)],
    ),
    "nested loops": (
        "def f():\n    t = 1.0\n    for i in range(4):\n        for j in [1, 2, 3]:\n            t = t / (2 - i) + j\n    return t\nf()\n",
        [("error", None, 5, "f", "t / (2 - i)", 1)],
    ),
    "while passes": (
        "x = 1.0\nn = 0\nwhile n < 400:\n    n += 1\n    x = x * 10.0\n",
        [("nonfinite", "created", 5, "<module>", "x * 10.0", 309)],
    ),
    "enumerate passes": (
        "def f(xs):\n    for i, x in enumerate(xs):\n        y = 1 / x\nf([2, 1, 0, 5])\n",
        [("error", None, 3, "f", "1 / x", 3)],
    ),
    "async": (
        "import asyncio\nasync def f(x):\n    await asyncio.sleep(0)\n    return x * 1e200\nasync def main():\n    y = await f(1e200)\n    return y\nasyncio.run(main())\n",
        [("nonfinite", "created", 4, "f", "x * 1e200", None)],
    ),
    "property": (
        "class A:\n    w = 0.0\n    @property\n    def r(self):\n        return 1.0 / self.w\nA().r\n",
        [("error", None, 5, "A.r", "1.0 / self.w", None)],
    ),
    "multi-line statement": (
        "a = 2.0\nb = 0.0\nc = (a\n     + a /\n     b)\n",
        [("error", None, 3, "<module>", "a / b", None)],
    ),
    "np.errstate raise": (
        "import numpy as np\nwith np.errstate(all='raise'):\n    x = np.array([1.0]) / 0.0\n",
        [("error", None, 3, "<module>", "np.array([1.0]) / 0.0", None)],
    ),
    "linear algebra": (
        "import numpy as np\na = np.ones((2, 2))\nx = np.linalg.solve(a, np.ones(2))\n",
        [("error", None, 3, "<module>", None, None)],
    ),
    "scipy": (
        "from scipy.integrate import quad\nimport numpy as np\ndef f(x):\n    return np.sqrt(x - 0.5)\nv, err = quad(f, 0, 1)\n",
        [("nonfinite", "created", 4, "f", "np.sqrt(x - 0.5)", None), ("warning", None, 5, "<module>", None, None)],
    ),
    "list of lists": (
        "rows = []\nfor k in range(3):\n    rows.append([k, 1e308 * (k + 1)])\n",
        [("nonfinite", "created", 3, "<module>", "1e308 * (k + 1)", 2)],
    ),
    "vectorised branch": (
        "import numpy as np\nq = np.linspace(0, 1, 5)\nr = q / q.sum()\ns = np.log(r[1:])\nt = (q - q.mean()) / q.std()\nu = 1 / (q - 0.5)\n",
        [("nonfinite", "created", 6, "<module>", "1 / (q - 0.5)", None)],
    ),
    "starred argument": (
        "import numpy as np\nimport math\nargs = [np.float64(0.0)]\nv = math.hypot(*[1 / a for a in args])\n",
        [("nonfinite", "created", 4, "<module>", "1 / a", 1)],
    ),
    "warned of, with a deliberate nan": (
        "import numpy as np\nf = np.vectorize(lambda h: h ** 0.5 if h >= 0 else np.nan)\ny = f(np.array([1.0, -1.0]))\n",
        [("warning", None, 3, "<module>", None, None)],
    ),
    "warned of, with a carried nan": (
        "import numpy as np\nx = np.array([np.nan, np.nan])\nfor k in range(2):\n    m = np.nanmean(x)\n",
        [("warning", None, 4, "<module>", None, 1)],
    ),
    "warned of in an element": (
        "import numpy as np\nx = np.array([np.nan])\ny = [1 + np.nanmean(r) for r in [x]]\nz = np.nanmax(x)\n",
        [("warning", None, 3, "<module>", None, 1), ("warning", None, 4, "<module>", None, None)],
    ),
    "an operator of the user's own": (
        "class Reach:\n    def __matmul__(self, other):\n        return 1e308 * other\n    def __getitem__(self, k):\n"
        "        return self @ k\nr = Reach()\nprint(r @ 1e10)\nx = r @ 3e10\ny = r[1e10]\nz = -(r @ 2.0)\n",
        [("nonfinite", "created", 3, "Reach.__matmul__", "1e308 * other", None)],
    ),
    "elements of the user's own": (
        "import numpy as np\nclass Levels:\n    def __getitem__(self, k):\n        return (np.inf, 2.0)[k]\n"
        "v = Levels()\nx = v[1] - v[0]\ny = v[1] / (v[1] - 2.0 + np.float64(0.0))\n",
        [("nonfinite", "created", 7, "<module>", "v[1] / (v[1] - 2.0 + np.float64(0.0))", None)],
    ),
    "a frame from a stream that is used up": (
        "import io\nimport pandas as pd\ntext = io.StringIO('stage\\n1.5\\n\\n-2\\n')\n"
        "d = pd.read_csv(text, skip_blank_lines=False).assign(half=lambda d: d.stage / 2)\n",
        [],
    ),
    "a column that is not there yet": (
        "import pandas as pd\nd = pd.DataFrame({'stage': [0.0, 2.0]})\nd.loc[d.stage >= 0, 'ratio'] = 1 / d.stage\n",
        [("nonfinite", "created", 3, "<module>", "1 / d.stage", None)],
    ),
    "an iterator that is used up": (
        "import numpy as np\nlines = iter(['1.0', '0.0'])\nx = np.log(float(next(lines)))\ny = np.log(float(next(lines)))\n",
        [("nonfinite", "created", 4, "<module>", None, None)],
    ),
    "a group handled in parts": (
        "def gauges():\n    raise ExceptionGroup('gauges', [ValueError(1), ExceptionGroup('low', [KeyError('k'), ValueError(2)])])\n"
        "for k in range(2):\n    try:\n        gauges()\n    except* ValueError as e:\n        print(len(e.exceptions))\n"
        "    except* (KeyError, TypeError):\n        print('key')\ntry:\n    try:\n        raise ExceptionGroup('one', [TypeError()])\n"
        "    except* ValueError:\n        pass\nexcept ExceptionGroup:\n    print('whole')\n",
        [],
    ),
    "a group of which a part is left": (
        "try:\n    raise ExceptionGroup('gauges', [ValueError(1), OSError(2)])\nexcept* ValueError:\n    print('one')\n",
        [("error", None, 2, "<module>", None, None)],
    ),
    "an array that was filled with a number": (
        "import numpy as np\nlevel = 1e100\nx = np.cumprod(np.full(4, level))\ny = np.full(3, np.nan) * 2.0\n"
        "z = np.full_like(y, fill_value=np.nan).sum()\n",
        [("nonfinite", "created", 3, "<module>", "np.cumprod(np.full(4, level))", None)],
    ),
}
