"""What a collection or an object of the script's holds is carried by what is made of it: no second pause."""

from __future__ import annotations

import pytest

from .test_deserved import pauses

MADE = "big = 1e200\nbad = big * big{nan}\n"
COLLECTIONS = """
import array, collections, functools, itertools, operator, statistics
d = {"a": bad, "b": 1.0}
l = [bad, 1.0]
t = (bad, 1)
s = {bad, 2.0}
a = array.array("d", [bad, 1.0])
q = collections.deque([bad, 1.0])
ll = [[bad, 1.0], [2.0]]
dl = {"a": [bad, 1.0]}
u = collections.UserList([bad, 1.0])
"""
OF_COLLECTIONS = [
    *("sum(d.values())", "sum(l)", "sum(t)", "sum(s)", "sum(a)", "sum(q)", "sum(u)", "sum(map(sum, ll))"),
    *("sum([sum(v) for v in dl.values()])", "sum(v for v in d.values())", "max(l) + sum(l) / len(l)"),
    *("sum(x * y for x, y in zip(l, t))", "sum(sum(r) for r in ll)", "sum(sorted(l))", "sum(list(d.values()))"),
    *("sum(ll, [])", "sum(itertools.chain(*ll))", "sum(dict(d).values())", "sum(dict(zip('ab', l)).values())"),
    *("[sum(c) for c in zip(*[l, t])]", "math.fsum(l)", "math.prod(d.values())", "statistics.fmean(d.values())"),
    *("functools.reduce(operator.add, d.values())", "collections.ChainMap(d)['a']", "list(reversed(l))"),
]

OBJECTS = """
import array, collections, itertools, statistics
class Grid:
    {slots}
    def __init__(self, cells):
        self.cells = cells
    def __iter__(self):
        return iter(self.cells)
    def __array__(self, dtype=None, copy=None):
        return np.array(self.cells)
    def items(self):
        return zip("abc", self.cells)
class Level:
    def __init__(self, value):
        self.value = value
    def __float__(self):
        return self.value
g = Grid([1.0, bad, 2.0])
"""
OF_OBJECTS = [
    *("list(g)", "tuple(g)", "sum(g)", "sorted(g)", "[*g]", "np.array(g)", "float(Level(bad))", "dict(g.items())"),
    *("[x for x in g]", "{x for x in g}", "list(itertools.chain(g, g))", "list(map(float, g))", "collections.deque(g)"),
    *("array.array('d', g)", "math.fsum(g)", "next(iter(g))", "np.sum(g)", "np.mean(list(g))", "statistics.mean(g)"),
    *("sum((x for x in g), 0.0)", "sum(map(lambda v: v, g))", "np.linalg.norm(g)", "np.sqrt(g)"),
]


async def pauses_after(script, text: str, places: list[str]) -> list[str]:
    """The headlines but for that of the value's own line.  All places stand in one script."""
    text += "".join(f"x{n} = {place}\n" for n, place in enumerate(places))
    first, *others = await pauses(script, text)
    assert "big * big" in first.headline
    return [f.headline for f in others]


@pytest.mark.parametrize("nan", ["", " - big * big"], ids=["infinity", "nan"])
async def test_collections(nan: str, script) -> None:
    assert not await pauses_after(script, MADE.format(nan=nan) + COLLECTIONS, OF_COLLECTIONS)


@pytest.mark.parametrize("slots", ["", "__slots__ = ('cells',)"], ids=["attributes", "slots"])
async def test_objects(slots: str, script) -> None:
    assert not await pauses_after(script, MADE.format(nan="") + OBJECTS.format(slots=slots), OF_OBJECTS)


MADE_ANEW = [  # of a collection that holds infinities, or finite numbers only
    "x = sum([math.inf, -math.inf])",
    "x = sum({'a': math.inf, 'b': -math.inf}.values())",
    "x = sum([1e308, 1e308])",
    "levels = [1e308] * 3\nx = sum(levels)",
    "class Grid:\n    def __init__(self):\n        self.cells = [1e308, 1e308]\n    def __iter__(self):\n        return iter(self.cells)\nx = sum(Grid())",
]


@pytest.mark.parametrize("text", MADE_ANEW)
async def test_what_is_made_of_them_pauses(text: str, script) -> None:
    (found,) = await pauses(script, text + "\n")
    assert found.reason == "nonfinite" and "sum(" in found.culprit.text


ELEMENTS = [  # of a comprehension, which carry what is read from outside of it
    *(
        "np.array([x[i : i + 5] * 2.0 for i in range(6)])",
        "[x[i] * 2.0 for i in range(6)]",
        "{i: x[i] for i in range(6)}",
    ),
    *("np.fromiter((x[i] * 2.0 for i in range(6)), float)", "np.array(list(x[i] + 1.0 for i in range(6)))"),
    *("np.stack([x[i : i + 3] * 2.0 for i in range(4)])", "np.array([[x[i] * j for j in (1, 2)] for i in range(6)])"),
    *(
        "np.concatenate([x[i : i + 3] - 1.0 for i in range(4)])",
        "np.array([v for row in (x[:3], x[3:6]) for v in row])",
    ),
]
LAMBDAS = [  # that read what is outside of them
    *("list(map(lambda i: x[i] * 2.0, range(6)))", "list(itertools.accumulate(range(6), lambda s, i: s + x[i]))"),
    *("list(itertools.starmap(lambda i, j: x[i] * j, [(4, 1), (2, 3)]))", "pd.Series(range(6)).apply(lambda i: x[i])"),
    *("pd.DataFrame({'i': range(6)}).apply(lambda r: x[r['i']], axis=1)", "np.vectorize(lambda i: x[i])(np.arange(6))"),
]


async def test_lambdas(script) -> None:
    text = "import itertools\nx = np.arange(10.0)\nx[4] = np.nan\n"
    assert not await pauses(script, text + "".join(f"y{n} = {one}\n" for n, one in enumerate(LAMBDAS)))


async def test_elements_of_comprehensions(script) -> None:
    text = "x = np.arange(10.0)\nx[4] = np.nan\n" + "".join(f"y{n} = {one}\n" for n, one in enumerate(ELEMENTS))
    assert not await pauses(script, text)


async def test_an_element_that_is_made_bad_pauses_once(script) -> None:
    text = "np.seterr(all='ignore')\nx = np.arange(4.0)\nx[2] = np.nan\ny = np.array([x[i] / x[0] for i in (2, 3)])\n"
    (found,) = await pauses(script, text)
    assert found.kind == "created" and found.culprit.text == "x[i] / x[0]"
