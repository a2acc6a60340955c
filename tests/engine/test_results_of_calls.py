"""What is read from the result of a call is looked at, wherever it stands; what a collection holds is not made anew."""

from __future__ import annotations

import pytest
from driving import running

from .test_deserved import HEAD, pauses

LEVEL = "level = pd.Series([0.0, 1.0, 2.0])\narray = level.to_numpy()\nnp.seterr(all='ignore')\n"
READ = {  # what is read from one call whose result has an infinity, in each place of a statement
    "item": "x = level.rdiv(1.0)[0]",
    "items": "x = level.rdiv(1.0)[:2]",
    "attribute": "x = level.rdiv(1.0).values",
    "attribute of an item": "x = level.rdiv(1.0)[0].real",
    "of a function": "x = np.log(array)[0]",
    "mask": "x = np.log(array)[array < 1]",
    "returned": "def f():\n    return level.rdiv(1.0)[0]\nx = f()",
    "passed on": "print(level.rdiv(1.0)[0])",
    "compared": "x = level.rdiv(1.0)[0] > 3",
    "tested": "if level.rdiv(1.0)[0] > 3:\n    pass",
    "formatted": "x = f'{level.rdiv(1.0)[0]}'",
    "in arithmetic": "x = 1.0 - level.rdiv(1.0)[0]",
    "chosen": "x = None or level.rdiv(1.0)[0]",
    "element": "x = [level.rdiv(1.0)[k] for k in range(2)]",
    "gone through": "x = [str(v) for v in level.rdiv(1.0)]",
    "unpacked": "x = [*level.rdiv(1.0)]",
    "value": "x = {'first': level.rdiv(1.0)[0]}",
    "attribute set": "class Gauge: pass\nGauge.head = level.rdiv(1.0)[0]",
    "in a class": "class Gauge:\n    head = level.rdiv(1.0)[0]",
    "appended": "x = []\nx.append(level.rdiv(1.0)[0])",
    "added": "x = 0.0\nx += level.rdiv(1.0)[0]",
}


@pytest.mark.parametrize("name", READ)
async def test_it_is_looked_at_in_each_place(name: str, script) -> None:
    found = await pauses(script, LEVEL + READ[name])
    assert [(p.reason, p.kind) for p in found] == [("nonfinite", "created")]
    assert found[0].culprit.text in ("level.rdiv(1.0)", "np.log(array)")


ONCE = [
    "x = np.sum(np.log(array))",
    "x = np.log(array).sum()",
    "x = np.log(array).max()",
    "x = level.rdiv(1.0).min()",
    "x = float(np.log(array)[0])",
    "x = (1.0 / level).sum()",
    "x = str(np.sqrt(1.0 / array[:1])[0] + 1.0)",
]


async def test_an_object_of_the_script_is_no_culprit_beside_threads(script) -> None:
    text = "import dataclasses, threading\nthreading.Thread(target=threading.Event().wait, daemon=True).start()\n"
    text += "@dataclasses.dataclass\nclass Gauge:\n    limit: float = math.inf\n    levels: tuple = (math.nan, 1.0)\n"
    assert not await pauses(script, text + "x = Gauge().limit\ny = Gauge().levels[0]\nz = [Gauge().limit][0]\n")
    (found,) = await pauses(script, text + "np.seterr(all='ignore')\nx = np.linalg.inv(np.diag([1e-320, 1.0]))[0, 0]\n")
    assert found.culprit.text == "np.linalg.inv(np.diag([1e-320, 1.0]))"


@pytest.mark.parametrize("text", ONCE)
async def test_one_culprit_pauses_once_in_a_statement(text: str, script) -> None:
    """Also in each pass, and in the next statement again."""
    lines = f"for k in range(2):\n    {text}\n{text}\n"
    async with running(script(HEAD + LEVEL + lines)) as run:
        found = [await run.pause()]
        while found[-1] is not None:
            found.append(await run.step("on"))
    assert [(p.line, p.loops[0].number if p.loops else 0) for p in found[:-1]] == [(9, 1), (9, 2), (10, 0)]


async def test_its_warning_is_quoted_once(script) -> None:
    text = HEAD + "array = np.array([0.0, 1.0])\nx = np.sum(np.log(array))\ny = 1\n"
    async with running(script(text)) as run:
        facts = await run.pause()
        assert facts.reason == "nonfinite" and "divide by zero encountered in log" in facts.headline
        assert await run.step("on") is None


HELD = [
    "stack = [1.0, inf, 2.0]\nwhile stack:\n    x = stack.pop()",
    "stack = [(1.0, 'a'), (inf, 'b'), (2.0, 'c')]\nwhile stack:\n    x = stack.pop()[0]",
    "line = collections.deque([(1.0, 'a'), (inf, 'b')])\nwhile line:\n    x = line.popleft()[0]",
    "heap = [(0.0, 'a'), (inf, 'b')]\nwhile heap:\n    x = heapq.heappop(heap)[0]",
    "cost = {'a': inf, 'b': (inf, 1)}\nx = cost.pop('a')\nx = cost.pop('b')[0]\nx = cost.get('c', inf)",
    "class Node:\n    cost = inf\n    pair = (inf, 1)\n    def best(self):\n        return self.pair\nx = Node().cost\nx = Node().best()[0]",
    "x = min([(inf, 1), (inf, 2)])[0]",
    "x = json.loads('{\"head\": [NaN, 1.0]}')['head'][0]",
    "x = pd.read_csv(io.StringIO('a,b\\n1,\\n2,3\\n'))['b']",
    "x = pd.Series([1.0, 2.0]).shift(1).values",
    "x = pd.to_numeric(pd.Series(['1', '-']), errors='coerce').values",
    "x = pd.Series([1.0, nan]).copy().values[1]",
]


@pytest.mark.parametrize("text", HELD)
async def test_what_was_there_already_does_not_pause(text: str, script) -> None:
    assert not await pauses(script, f"import collections, heapq, io, json\nfrom math import inf, nan\n{text}")


CARRIES_ON = (
    "np.seterr(all='ignore')\nfirst = np.float64(1.0) / 0.0\ndef total(a):\n    return np.cumsum(a)\n"
    "def work():\n    flow = np.ones(3)\n    for k in range(40):\n        flow[0] = math.nan if k < 25 else k\n"
    "        if k == 30:\n            flow[1:] = math.inf, -math.inf\n        x = {}\nwork()\n"
)


@pytest.mark.parametrize("call", ["total(flow)", "np.cumsum(flow)[-1]", "flow.sum()"])
async def test_a_call_that_has_carried_nan_is_judged_where_it_makes_some(call: str, script) -> None:
    found = await pauses(script, CARRIES_ON.format(call))
    assert [p.kind for p in found] == ["created", "created"] and "[30.0 inf -inf]" in found[1].headline


async def test_gaps_of_a_call_are_followed_through_what_is_read_from_it(script) -> None:
    text = "a = pd.DataFrame({'day': [1, 2]})\nb = pd.DataFrame({'day': [1], 'level': [2.0]})\n"
    assert not await pauses(script, text + "level = a.merge(b, how='left')['level']\ntotal = level.sum()\n")
    (found,) = await pauses(script, text + "level = a.merge(b, how='left')['level']\ndepth = level * 2.0\n")
    assert (found.kind, found.line) == ("gaps", 8) and "by level" in found.headline


THREADS = {
    "map": "list(pool.map(head, range(4)))",
    "submit": "[one.result() for one in [pool.submit(head, k) for k in range(4)]]",
    "thread pool": "ThreadPool(2).map(head, range(4))",
    "starmap": "ThreadPool(2).starmap(head, [(k,) for k in range(4)])",
    "dask": "dask.compute(*[dask.delayed(head)(k) for k in range(4)], scheduler='threads')",
    "joblib": "joblib.Parallel(n_jobs=2, backend='threading')(joblib.delayed(head)(k) for k in range(4))",
}


@pytest.mark.parametrize("name", THREADS)
async def test_what_a_thread_passes_on_was_judged_there(name: str, script) -> None:
    text = (
        "import dask, joblib\nfrom concurrent.futures import ThreadPoolExecutor\nfrom multiprocessing.pool import ThreadPool\n"
        "def head(k):\n    return math.inf - math.inf if k == 2 else float(k)\n"
        f"with ThreadPoolExecutor(2) as pool:\n    x = {THREADS[name]}\n"
    )
    (found,) = await pauses(script, text)
    assert (found.kind, found.line) == ("created", 9)
