"""Scripts with one finite fault each, by rule, and clean twins that look alike.

Each faulty one has the line of its finding; a twin has no finding that is not a question.
"""

NP = "import numpy as np\n"
PD = "import numpy as np\nimport pandas as pd\n"

FAULTY: dict[str, list[tuple[str, int]]] = {
    "wrap": [
        (
            NP
            + "ticks = np.int32(2_000_000_000)\nfor k in range(3):\n    ticks = ticks + np.int32(100_000_000)\nprint(ticks)\n",
            4,
        ),
        (NP + "depth = np.array([100, 120], dtype=np.int8)\ntwice = depth * np.int8(2)\nprint(twice)\n", 3),
        (PD + "s = pd.Series([30000, 1], dtype='int16')\nprint((s + s).tolist())\n", 4),
        (NP + "a = np.array([2**62, 2**62])\nprint(a.sum())\n", 3),
        (
            NP + "class Gauge:\n    def __init__(self):\n        self.count = np.uint8(3)\n    def back(self, by):\n"
            "        return self.count - np.uint8(by)\nprint(Gauge().back(5))\n",
            6,
        ),
    ],
    "truncation": [
        (NP + "levels = np.zeros(3, dtype=int)\nfor k in range(3):\n    levels[k] = 17.5 * k\nprint(levels)\n", 4),
        ("share = 0.29\nprint(int(share * 100))\n", 2),
        (NP + "cents = (np.array([0.29, 0.5]) * 100).astype(int)\nprint(cents)\n", 2),
    ],
    "narrowing": [
        (NP + "ids = np.array([2**24 + 1, 2**24])\nprint(ids.astype(np.float32))\n", 3),
        ("station = 2**53 + 1\nprint(float(station))\n", 2),
        (NP + "x = np.float32(2**25 + 1)\nprint(x)\n", 2),
    ],
    "broadcast": [
        (
            NP
            + "def misfit(seen, made):\n    return ((seen - made) ** 2).mean()\nprint(misfit(np.arange(4.0), np.ones((4, 1))))\n",
            3,
        ),
        (NP + "a, b = np.ones((3, 1)), np.arange(3.0)\nprint((a * b).sum())\n", 3),
        (
            NP
            + "class Lake:\n    level = np.ones((5, 1))\n    def above(self, sill):\n        return self.level > sill\nprint(Lake().above(np.arange(5.0)))\n",
            5,
        ),
    ],
    "underflow": [
        ("p = 1.0\nfor k in range(400):\n    p *= 0.1\nprint(p)\n", 3),
        (NP + "print(np.prod(np.full(500, 0.1)))\n", 2),
        (NP + "a = np.full(3, 1e-200)\nprint(a * a)\n", 3),
        ("rate = 1e-5\nprint(rate ** 80)\n", 2),
    ],
    "absorption": [
        ("total = 1e17\nfor k in range(100):\n    total += 1.0\nprint(total)\n", 3),
        (NP + "total = np.float32(4e8)\nfor k in range(300):\n    total = np.float32(total + 3.0)\nprint(total)\n", 4),
        (
            "class Gauge:\n    def __init__(self):\n        self.sum = 1e17\n    def add(self, x):\n        self.sum = self.sum + x\n"
            "gauge = Gauge()\nfor k in range(80):\n    gauge.add(2.0)\nprint(gauge.sum)\n",
            5,
        ),
        (
            NP
            + "flow = np.full(20_000_000 // 100, 300.7, dtype=np.float32)\nflow[0] = 3e9\nprint(np.cumsum(flow)[-1])\n",
            4,
        ),
    ],
    "float-equality": [
        ("t = 0.0\nwhile t < 1.0:\n    t += 0.1\n    if t == 0.3:\n        print('noon')\n", 4),
        (NP + "x = np.arange(0.0, 1.0, 0.1)\nprint((x == np.array([0, 1, 2, 3, 4, 5, 6, 7, 8, 9]) / 10).all())\n", 3),
        (NP + "print(len(np.arange(1.0, 1.3, 0.1)))\n", 2),
    ],
    "unsorted": [
        (NP + "stage, flow = [3.0, 1.0, 2.0], [9.0, 1.0, 4.0]\nprint(np.interp(1.5, stage, flow))\n", 3),
        ("import bisect\nlimits = [5, 2, 9]\nprint(bisect.bisect_left(limits, 4))\n", 3),
        (NP + "edges = np.array([0.0, 2.0, 1.0])\nprint(edges.searchsorted(1.5))\n", 3),
    ],
    "exhausted": [
        ("heads = (k * 0.5 for k in range(4))\nmean = sum(heads) / 4\nprint(mean, max(heads, default=0.0))\n", 3),
        ("def rows():\n    yield from range(3)\ng = rows()\nfor r in g:\n    pass\nfor r in g:\n    print(r)\n", 6),
        ("def rows():\n    yield from range(3)\ng = rows()\nprint(list(g))\nprint(list(g))\n", 5),
    ],
    "reseeded": [
        (
            NP
            + "out = []\nfor k in range(5):\n    rng = np.random.default_rng(7)\n    out.append(rng.random())\nprint(out)\n",
            4,
        ),
        (
            "import random\ndef draw():\n    random.seed(1)\n    return random.random()\nprint([draw() for _ in range(4)])\n",
            3,
        ),
        (NP + "for k in range(4):\n    np.random.seed(0)\n    print(np.random.rand())\n", 3),
    ],
    "ignored-failure": [
        (
            NP
            + "from scipy.optimize import minimize\nr = minimize(lambda v: (v[0] - 1) ** 4 + np.sin(50 * v[0]), [3.0], options={'maxiter': 1})\nprint(r.x)\n",
            3,
        ),
        ("from scipy.optimize import root\nr = root(lambda x: x * x + 1.0, 0.5)\nprint(r.x)\n", 2),
        (
            NP
            + "from scipy.optimize import linprog\nr = linprog([1.0], A_ub=[[1.0], [-1.0]], b_ub=[1.0, -2.0])\nprint(r.x)\n",
            3,
        ),
    ],
    "lost-rows": [
        (
            PD
            + "a = pd.DataFrame({'gauge': ['sill ', 'weir'], 'x': [1.0, 2.0]})\nb = pd.DataFrame({'gauge': ['sill', 'weir'], 'y': [3.0, 4.0]})\nprint(a.merge(b, on='gauge'))\n",
            5,
        ),
        (
            PD
            + "a = pd.DataFrame({'id': ['1', '2'], 'x': [1.0, 2.0]})\nb = pd.DataFrame({'key': [1, 2], 'y': [3.0, 4.0]}).astype({'key': object})\nprint(a.merge(b, left_on='id', right_on='key', how='left'))\n",
            5,
        ),
        (
            PD
            + "a = pd.DataFrame({'x': [1.0, 2.0]}, index=['Sill', 'weir'])\nb = pd.DataFrame({'y': [3.0, 4.0]}, index=['sill', 'weir'])\nprint(a.join(b))\n",
            5,
        ),
    ],
    "duplicated-rows": [
        (
            PD
            + "a = pd.DataFrame({'g': [1, 2], 'x': [1.0, 2.0]})\nb = pd.DataFrame({'g': [1, 1, 2], 'y': [3.0, 4.0, 5.0]})\nprint(a.merge(b, on='g')['x'].sum())\n",
            5,
        ),
        (
            PD
            + "a = pd.DataFrame({'g': [1, 2], 'x': [1.0, 2.0]})\nb = pd.DataFrame({'g': [2, 2, 2], 'y': [3.0, 4.0, 5.0]})\nprint(pd.merge(a, b, how='left'))\n",
            5,
        ),
        (
            PD
            + "a = pd.DataFrame({'x': [1.0, 2.0]}, index=[1, 2])\nb = pd.DataFrame({'y': [3.0, 4.0, 5.0]}, index=[1, 1, 2])\nprint(a.join(b))\n",
            5,
        ),
    ],
    "text-arithmetic": [
        ("read = ['10', '9']\nprint(max(read))\n", 2),
        ("a, b = '5', '7'\nprint(a + b)\n", 2),
        (PD + "s = pd.DataFrame({'d': ['10', '9', '8']})\nprint(s.sort_values('d'))\n", 4),
    ],
    "alignment": [
        (
            PD
            + "a = pd.Series([1.0, 2.0], index=['a', 'b'])\nb = pd.Series([1.0, 2.0], index=['c', 'd'])\nprint((a + b).sum())\n",
            5,
        ),
        (
            PD
            + "f = pd.DataFrame({'x': [1.0, 2.0, 3.0]})\nf['y'] = pd.Series([7.0, 8.0, 9.0], index=[10, 11, 12])\nprint(f)\n",
            4,
        ),
        (
            PD
            + "def share(a, b):\n    return a / b\nprint(share(pd.Series([1.0, 2.0]), pd.Series([1.0, 2.0], index=[5, 6])))\n",
            4,
        ),
    ],
    "lost-write": [
        (PD + "f = pd.DataFrame({'x': [2.0, 1.0]})\nf.sort_values('x')\nprint(f)\n", 4),
        (PD + "f = pd.DataFrame({'x': [2.0, 1.0]})\nf[f['x'] > 1.0]['x'] = 0.0\nprint(f)\n", 4),
        (NP + "a = np.arange(5.0)\na[[1, 2]][0] = 9.0\nprint(a)\n", 3),
        ("name = ' sill '\nname.strip()\nprint(name)\n", 2),
    ],
    "ill-conditioned": [
        (NP + "a = np.array([[1.0, 1.0], [1.0, 1.0 + 1e-12]])\nprint(np.linalg.solve(a, [1.0, 2.0]))\n", 3),
        (NP + "x = np.linspace(1000.0, 1001.0, 30)\nprint(np.polyfit(x, x, 5))\n", 3),
        (
            NP
            + "n = 12\nh = np.array([[1.0 / (i + j + 1) for j in range(n)] for i in range(n)])\nprint(np.linalg.inv(h).sum())\n",
            4,
        ),
    ],
    "dates": [
        (PD + "print(pd.to_datetime(pd.Series(['03/04/2031', '04/04/2031', '05/04/2031', '06/04/2031'])))\n", 3),
    ],
    "out-of-range": [(NP + "print(np.interp(9.0, [1.0, 2.0], [3.0, 4.0]))\n", 2)],
    "swallowed": [
        (
            "rows = ['1', '--', '3']\nout = []\nfor r in rows:\n    try:\n        v = float(r)\n    except Exception:\n        v = 0.0\n    out.append(v)\nprint(sum(out))\n",
            6,
        )
    ],
    "alias": [
        ("rows = [[0.0] * 3] * 4\nrows[0][1] = 5.0\nprint(rows)\n", 1),
        ("def add(x, out=[]):\n    out.append(x)\n    return out\nprint(add(1.0), add(2.0))\n", 1),
        (
            "class Gauge:\n    def table(self, n):\n        made = [{}] * n\n        made[0]['a'] = 1\n        return made\nprint(Gauge().table(3))\n",
            3,
        ),
    ],
    "wraparound-index": [
        (
            "flow = [1.0, 2.0, 3.0]\nrise = []\nfor day in range(3):\n    rise.append(flow[day] - flow[day - 1])\nprint(rise)\n",
            4,
        ),
        (
            "import numpy as np\ndef last(a, k):\n    return a[-k:].sum()\nprint(last(np.arange(5.0), 2), last(np.arange(5.0), 0))\n",
            3,
        ),
        ("import numpy as np\na = np.arange(6.0)\nfor k in range(6):\n    b = a[k - 2] * 0.5\nprint(b)\n", 4),
    ],
}

CLEAN: dict[str, list[str]] = {
    "wrap": [
        NP
        + "h = np.uint32(2166136261)\nfor c in b'sill':\n    h = np.uint32((h ^ c) * np.uint32(16777619))\nprint(h)\n",
        NP + "ticks = np.int64(2_000_000_000)\nprint(ticks + np.int64(2_000_000_000))\n",
        NP + "a = np.array([100, 27], dtype=np.int8)\nprint(a + np.int8(20), np.abs(a).sum())\n",
    ],
    "truncation": [
        NP + "levels = np.zeros(3, dtype=int)\nlevels[1] = 17.0\nprint(levels, int(17.5), int(28.9))\n",
        NP + "levels = np.zeros(3)\nlevels[1] = 17.5\nprint((levels * 2).astype(int))\n",
        "print(int(round(0.29 * 100)), int(7.25))\n",
    ],
    "narrowing": [
        NP + "ids = np.array([2**24, 12345])\nprint(ids.astype(np.float32), float(2**53))\n",
        NP + "print(np.float32(0.1), np.arange(5).astype(float))\n",
        NP + "print(np.array([1e9 + 0.5]).astype(np.float32))\n",
    ],
    "broadcast": [
        NP + "a = np.arange(4.0)\nprint((a[:, None] - a).shape)\n",
        NP + "a = np.arange(3.0)\ntable = a.reshape(-1, 1) * a\nprint(table)\n",
        NP + "a, b = np.ones((3, 1)), np.ones((3, 1))\nprint(a - b)\n",
    ],
    "underflow": [
        "p = 0.0\nfor k in range(9):\n    p *= 0.1\nprint(p, 0.5 ** 900 > 0)\n",
        NP + "print(np.prod(np.array([0.5, 0.0, 3.0])), np.array([0.0, 1.0]) * 5.0)\n",
        NP + "import math\nprint(sum(math.log10(x) for x in [0.1] * 500))\n",
    ],
    "absorption": [
        "total = lost = 0.0\nfor k in range(100):\n    y = 0.1 - lost\n    t = total + y\n    lost = (t - total) - y\n    total = t\nprint(total)\n",
        "total = 0.0\nfor k in range(1000):\n    total += 0.1\nprint(total)\n",
        "x = 1.0\nfor k in range(60):\n    x = x + (2.0 / x - x) / 2.0\nprint(x)\n",
        NP + "total = np.float32(0.0)\nfor k in range(200):\n    total = np.float32(total + 3.0)\nprint(total)\n",
    ],
    "float-equality": [
        "x, before = 1.0, 0.0\nwhile x != before:\n    before, x = x, (x + 2.0 / x) / 2.0\nprint(x)\n",
        "eps = 1.0\nwhile 1.0 + eps / 2.0 != 1.0:\n    eps /= 2.0\nprint(eps)\n",
        NP + "print(0.5 + 0.25 == 0.75, len(np.arange(0.0, 1.0, 0.25)), 3.0 == 4.0)\n",
    ],
    "unsorted": [
        NP + "print(np.interp(1.5, [1.0, 2.0, 3.0], [1.0, 4.0, 9.0]))\n",
        "import bisect\nprint(bisect.bisect([1, 2, 2, 3], 2))\n",
        NP + "a = np.array([3.0, 1.0])\nprint(a.searchsorted(2.0, sorter=a.argsort()))\n",
    ],
    "exhausted": [
        "rows = [1, 2]\nprint(sum(rows), max(rows))\nfor r in rows:\n    print(r)\n",
        "def rows():\n    yield from range(3)\nprint(list(rows()), list(rows()))\n",
        "it = iter([1, 2, 3])\nfirst = next(it)\nfor r in it:\n    print(first, r)\n",
    ],
    "reseeded": [
        NP + "rng = np.random.default_rng(7)\nprint([rng.random() for _ in range(5)])\n",
        NP + "for k in range(5):\n    rng = np.random.default_rng(k)\n    print(rng.random())\n",
        "import random\nrandom.seed(1)\nprint(random.random())\n",
    ],
    "ignored-failure": [
        "from scipy.optimize import minimize\nr = minimize(lambda v: (v[0] - 1) ** 2, [3.0])\nprint(r.x)\n",
        NP
        + "from scipy.optimize import minimize\nr = minimize(lambda v: (v[0] - 1) ** 4 + np.sin(50 * v[0]), [3.0], options={'maxiter': 1})\nif not r.success:\n    print('again')\n",
        "from scipy.optimize import brentq\nprint(brentq(lambda x: x * x - 2.0, 0.0, 2.0))\n",
    ],
    "lost-rows": [
        PD
        + "a = pd.DataFrame({'g': ['a', 'b'], 'x': [1.0, 2.0]})\nb = pd.DataFrame({'g': ['a', 'b'], 'y': [3.0, 4.0]})\nprint(a.merge(b, on='g'))\n",
        PD
        + "a = pd.DataFrame({'g': ['a', 'z'], 'x': [1.0, 2.0]})\nb = pd.DataFrame({'g': ['a', 'b'], 'y': [3.0, 4.0]})\nprint(a.merge(b, on='g', how='outer', indicator=True))\n",
        PD
        + "a = pd.DataFrame({'g': ['a', 'z'], 'x': [1.0, 2.0]})\nb = pd.DataFrame({'g': ['a', 'b'], 'y': [3.0, 4.0]})\nprint(a.merge(b, on='g', how='left'))\n",
    ],
    "duplicated-rows": [
        PD
        + "a = pd.DataFrame({'g': [1, 1, 2], 'x': [1.0, 2.0, 3.0]})\nb = pd.DataFrame({'g': [1, 2], 'y': [3.0, 4.0]})\nprint(a.merge(b, on='g'))\n",
        PD + "a = pd.DataFrame({'g': [1, 2]})\nb = pd.DataFrame({'h': [1, 2]})\nprint(a.merge(b, how='cross'))\n",
        PD
        + "a = pd.DataFrame({'g': [1, 1, 2]})\nb = pd.DataFrame({'g': [1, 1, 2], 'y': [1.0, 2.0, 3.0]})\nprint(a.merge(b, on='g'))\n",
    ],
    "text-arithmetic": [
        "print(max(['weir', 'sill']), 'a' + 'b', '1' + 'x')\n",
        "print('-' * 20, '0' + 'x10')\n",
        "print(sorted(['10', '9'], key=float), max([10, 9]))\n",
    ],
    "alignment": [
        PD + "a = pd.Series([1.0, 2.0], index=['a', 'b'])\nb = pd.Series([1.0, 2.0], index=['b', 'a'])\nprint(a + b)\n",
        PD + "f = pd.DataFrame({'x': [1.0, 2.0]})\nf['y'] = pd.Series([7.0, 8.0])\nprint(f['x'] + f['y'])\n",
        PD + "f = pd.DataFrame({'x': [1.0, 2.0]})\nf['y'] = [3.0, 4.0]\nprint(f)\n",
    ],
    "lost-write": [
        PD + "f = pd.DataFrame({'x': [2.0, 1.0]})\nf = f.sort_values('x')\nf.loc[f['x'] > 1.0, 'x'] = 0.0\nprint(f)\n",
        NP + "a = np.arange(6.0).reshape(2, 3)\na[0][1] = 9.0\na[:, 1][0] = 3.0\nprint(a)\n",
        "d = {'a': [1, 2]}\nd['a'][0] = 5\nrows = [[1], [2]]\nrows[0][0] = 3\nprint(d, rows)\n",
    ],
    "ill-conditioned": [
        NP + "a = np.diag([1e12, 1.0])\nprint(np.linalg.solve(a, [1.0, 2.0]))\n",
        NP + "x = np.linspace(0.0, 1.0, 30)\nprint(np.polyfit(x, x ** 2, 2))\n",
        NP + "print(np.linalg.inv(np.array([[2.0, 1.0], [1.0, 3.0]])))\n",
    ],
    "dates": [
        PD + "print(pd.to_datetime(pd.Series(['2031-04-03', '2031-04-04'])))\n",
        PD + "print(pd.to_datetime(pd.Series(['03/04/2031', '04/04/2031']), format='%d/%m/%Y'))\n",
        PD + "print(pd.to_datetime(pd.Series(['03/31/2031', '04/01/2031'])))\n",
    ],
    "out-of-range": [
        NP + "print(np.interp(1.5, [1.0, 2.0], [3.0, 4.0]), np.interp(9.0, [1.0, 2.0], [3.0, 4.0], right=0.0))\n"
    ],
    "swallowed": [
        "try:\n    v = float('x')\nexcept ValueError as e:\n    print('not a number', e)\n    v = 0.0\n",
        "try:\n    v = float('3')\nexcept Exception:\n    v = 0.0\nprint(v)\n",
    ],
    "alias": [
        "rows = [[0.0] * 3 for _ in range(4)]\nrows[0][1] = 5.0\nprint(rows)\n",
        "def add(x, out=None):\n    out = [] if out is None else out\n    out.append(x)\n    return out\nprint(add(1.0), add(2.0))\n",
        "row = [[1, 2]] * 2\nprint(sum(r[0] for r in row))\n",
    ],
    "wraparound-index": [
        "flow = [1.0, 2.0, 3.0]\nfor day in range(1, 3):\n    print(flow[day] - flow[day - 1])\n",
        "x = [0.0, 1.0, 2.0]\nn = 3\nfor i in range(n):\n    print(x[i - 1], x[(i + 1) % n])\n",
        "x = [1, 2, 3]\nk = 2\nprint(x[-k:], x[-1], x[k - 3])\n",
    ],
}
