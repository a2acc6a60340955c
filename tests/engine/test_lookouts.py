"""Each kind of lookout through the client, on each CPython; and what is said of bad ones."""

from __future__ import annotations

import asyncio
import time

import pytest
from driving import running, slowness
from hypothesis import given
from hypothesis import strategies as st

from uneven_sum.client.placing import follow
from uneven_sum.client.sentences import Unclear, badge, parse, parse_tripwire, sentence, tripwire_sentence
from uneven_sum.protocol import Lookout, Switches, Tripwire

SOURCE = """\
class Tank:
    def __init__(self, name):
        self.level = 0.0
        self.name = name

    def fill(self, x):
        self.level += x
        return self.level


def rate(head):
    flow = head * 1.5
    if flow > 3:
        flow = 3.0
    return flow


def simulate(n):
    tank, other = Tank("a"), Tank("b")
    total = 0.0
    for day in range(n):
        head = day * 0.5
        total += rate(head)
        tank.fill(head)
        other.fill(1.0)
        try:
            int("x")
        except ValueError:
            pass
    squares = [k * k for k in range(5)]
    f = lambda z: z + 1
    while n > 8:
        n -= 1
    y = (f(3) +
         f(4))
    return total


print(simulate(10))
rate(100.0)
"""


async def met(script, interpreter, *wanted: dict, most: int = 8, start: bool = False, **options):
    """(line, function, pass, headline) of each pause, and the run."""
    path = script(SOURCE)
    found = []
    lookouts = [Lookout(id=n, **{"file": path, **w}) for n, w in enumerate(wanted, 1)]
    lookouts = [lk if lk.line else Lookout(**{**_fields(lk), "file": ""}) for lk in lookouts]
    if start:
        options["pause_on"] = {"error", "warning", "nonfinite", "start"}
    async with running(path, python=interpreter, **options) as run:
        if start:
            await run.pause()
            await run.client.set_lookouts(lookouts)
            facts = await run.step("on")
        else:
            facts = await _from_start(run, lookouts)
        while facts is not None and len(found) < most:
            number = facts.loops[0].number if facts.loops else 0
            found.append((facts.line, facts.function, number, facts.headline))
            facts = await run.step("on")
        assert not run.trouble
        return found, run


def _fields(lk: Lookout) -> dict:
    return {n: getattr(lk, n) for n in lk.__struct_fields__}


async def _from_start(run, lookouts):
    """The run has begun already in `running`: end it and begin again with the lookouts set before."""
    await run.client.end()
    run.__init__(type(run.client)(run.client.launch))
    await run.client.start(lookouts=lookouts)
    return await run.pause()


KINDS = {
    "condition": ({"line": 22, "condition": "day == 7"}, [(22, "simulate", 8)]),
    "from the nth time, every mth": ({"line": 22, "start": 4, "every": 3}, [(22, "simulate", n) for n in (4, 7, 10)]),
    "condition and count": (
        {"line": 22, "condition": "day % 2", "start": 2, "every": 2},
        [(22, "simulate", n) for n in (4, 8)],
    ),
    "condition at a for": ({"line": 21, "condition": "day == 7"}, [(21, "simulate", 8)]),
    "while": ({"line": 32, "condition": "n == 9"}, [(32, "simulate", 1)]),
    "inside": ({"line": 12, "inside": "simulate", "start": 9}, [(12, "rate", 9), (12, "rate", 10)]),
    "not inside": ({"line": 12, "outside": "simulate"}, [(12, "rate", 0)]),
    "for one object": ({"line": 7, "object": "tank", "start": 10}, [(7, "Tank.fill", 10)]),
    "within a statement": ({"line": 35}, [(34, "simulate", 0)]),
    "element": ({"where": "element", "line": 30, "condition": "k == 3"}, [(30, "simulate", 4)]),
    "lambda": ({"where": "lambda", "line": 31, "condition": "z == 4"}, [(31, "simulate.<locals>.<lambda>", 0)]),
    "entry": ({"where": "entry", "name": "Tank.fill", "condition": "x > 4"}, [(7, "Tank.fill", 10)]),
    "return": ({"where": "return", "name": "rate", "condition": "returned > 2.9", "once": True}, [(15, "rate", 5)]),
    "raise": ({"where": "raise", "name": "ValueError", "start": 9}, [(27, "simulate", 9), (27, "simulate", 10)]),
    "change of a name": (
        {"where": "change", "name": "total", "within": "simulate", "start": 9},
        [(23, "simulate", n) for n in (9, 10)],
    ),
    "change of an attribute": (
        {"where": "change", "name": "self.level", "condition": "new > 20"},
        [(7, "Tank.fill", 10)],
    ),
    "off": ({"line": 22, "on": False}, []),
}


@pytest.mark.parametrize("before", [True, False], ids=["set before", "set at a pause"])
@pytest.mark.parametrize("name", KINDS)
async def test_each_kind(name: str, before: bool, script, interpreter: str) -> None:
    wanted, places = KINDS[name]
    found, run = await met(script, interpreter, wanted, start=not before)
    told = 2 if name == "element" else 3  # the pass of a comprehension is not told before its element is made
    assert [f[:told] for f in found] == [p[:told] for p in places]
    assert run.out == "22.5\n"


async def test_headlines_tell_what_was_met(script) -> None:
    found, _ = await met(script, None, {"where": "return", "name": "rate", "start": 4, "once": True})
    assert found[0][3].startswith("rate returns 2.25, at line 15 (hit 4 times).")
    found, _ = await met(
        script, None, {"where": "change", "name": "total", "within": "simulate", "start": 2, "once": True}
    )
    assert "total changed: 0.0 → 0.75, at line 23" in found[0][3]
    found, _ = await met(script, None, {"line": 22, "condition": "day == 3"})
    assert found[0][3].startswith("Breakpoint at line 22: day == 3 is true. Pass 4 of 10")


async def test_one_after_and_until_another(script, interpreter: str) -> None:
    found, _ = await met(
        script,
        interpreter,
        {"line": 14, "once": True},
        {"line": 24, "after": 1, "once": True},
        {"line": 22, "until": 1},
    )
    assert [f[0] for f in found] == [22] * 6 + [14, 24]


async def test_several_on_one_line_pause_once(script, interpreter: str) -> None:
    found, _ = await met(
        script,
        interpreter,
        {"line": 22, "condition": "day == 3"},
        {"line": 22, "start": 4, "every": 100},
        {"line": 22, "condition": "day == 5"},
    )
    assert [f[2] for f in found] == [4, 6]


async def test_stepping_onto_a_lookout_pauses_once(script, interpreter: str) -> None:
    path = script(SOURCE)
    async with running(path, python=interpreter, breakpoints={path: [22, 23]}) as run:
        assert (await run.pause()).line == 22
        assert (await run.step()).line == 23
        facts = await run.step("on")
        assert (facts.line, facts.loops[0].number) == (22, 2)


async def test_written_instead_of_a_pause(script, interpreter: str) -> None:
    from uneven_sum.client import Exited, Output

    path = script(SOURCE)
    told = Lookout(1, file=path, line=23, text="day {day}: {head:.2f} {missing}", trail=True, start=5, every=5)
    async with running(path, python=interpreter) as run:
        await run.client.end()
        run.__init__(type(run.client)(run.client.launch))
        await run.client.start(lookouts=[told])
        text = ""
        while not isinstance(event := await asyncio.wait_for(run.client.next_event(), 120), Exited):
            if isinstance(event, Output) and event.category == "console":
                text += event.text
    first, second = text.splitlines()
    assert first.startswith("day {day}: {head:.2f} {missing}   (NameError: name 'missing' is not defined)")
    assert "[<module>:39 › simulate:23]" in second


BAD = {
    "syntax": ({"condition": "day ="}, "not an expression"),
    "assigns": ({"condition": "(day := 3)"}, "may not assign"),
    "unknown": ({"condition": "dayy == 3"}, "is day meant?"),
    "calls": ({"condition": "tank.fill(1) > 3"}, "calls fill"),
    "count of 0": ({"start": 0}, "A count begins with 1"),
    "unclosed brace": ({"text": "level {level"}, "cannot be filled in"),
    "no such line": ({"line": 999}, "no code at or after"),
    "moved": ({"line": 9}, "moved to line 11"),
    "no comprehension": ({"where": "element"}, "has no comprehension"),
    "no name": ({"where": "change", "name": "1 + 2"}, "is not a name, attribute or element"),
    "no file": ({"file": "/nowhere/a.py"}, "There is no file"),
}


@pytest.mark.parametrize("name", BAD)
async def test_bad_ones_are_told_in_a_sentence(name: str, script) -> None:
    wanted, sentence_ = BAD[name]
    path = script(SOURCE)
    async with running(path, pause_on={"start"}) as run:
        await run.pause()
        lk = Lookout(**{"id": 1, "file": path, "line": 22, **wanted})
        placed = await run.client.check_lookout(lk)
        assert sentence_ in placed.message
        assert placed.verified == (name in ("unknown", "calls", "moved"))
        (placed,) = await run.client.set_lookouts([lk])
        assert sentence_ in placed.message
        assert await run.ask("1 + 1") == "2"


async def test_conditions_that_fail_pause_and_say_so(script, interpreter: str) -> None:
    found, _ = await met(script, interpreter, {"line": 22, "condition": "1 / (day - 3) > 100"})
    assert [(f[0], f[2]) for f in found] == [(22, 4)]
    assert "could not be evaluated: ZeroDivisionError" in found[0][3]
    found, _ = await met(script, interpreter, {"line": 32, "condition": "1 / (n - 9) > 100"})
    assert "ZeroDivisionError" in found[0][3]


@pytest.mark.parametrize(
    ("data", "lines"),
    [
        (b"x = 1\r\nfor k in range(3):\r\n\ty = k\r\n\tz = y\r\n", [4]),
        ("# -*- coding: latin-1 -*-\ns = 'Höhe'\nfor k in range(3):\n    y = k\n".encode("latin-1"), [4]),
        (b"\xef\xbb\xbfx = 1\nfor k in range(3):\n    y = k\n", [3]),
    ],
    ids=["CRLF and tabs", "latin-1", "BOM"],
)
async def test_odd_files(data: bytes, lines: list[int], tmp_path, interpreter: str) -> None:
    path = tmp_path / "odd.py"
    path.write_bytes(data)
    async with running(str(path), python=interpreter, breakpoints={str(path): lines}) as run:
        seen = 0
        while (facts := await run.pause()) is not None:
            assert facts.line == lines[0]
            seen += 1
            await run.client.go_on()
    assert seen == 3


async def test_in_a_module_before_it_is_imported(script, tmp_path, interpreter: str) -> None:
    (tmp_path / "gauge.py").write_text("def read(k):\n    value = k * 2.0\n    return value\n")
    path = script("def main():\n    import gauge\n    return sum(gauge.read(k) for k in range(4))\nprint(main())\n")
    lk = Lookout(1, file=str(tmp_path / "gauge.py"), line=2, condition="k == 2")
    async with running(path, python=interpreter, pause_on={"start"}) as run:
        await run.pause()
        (placed,) = await run.client.set_lookouts([lk])
        assert placed.verified and not placed.message
        facts = await run.step("on")
        assert (facts.function, facts.line) == ("read", 2) and await run.ask("k") == "2"
        assert (await run.client.met())[0] == {1: 1}
        assert await run.step("on") is None
    assert run.out == "12.0\n"


CLOSURE = """\
def outer():
    hidden = 5
    def inner(k):
        a = k + 1
        return a
    return [inner(k) for k in range(8)]

print(outer())
"""


async def test_a_condition_that_names_what_the_function_does_not_close_over(script, interpreter: str) -> None:
    path = script(CLOSURE)
    async with running(path, python=interpreter, pause_on={"start"}) as run:
        await run.pause()
        await run.client.set_lookouts([Lookout(1, file=path, line=4, condition="k == hidden")])
        facts = await run.step("on")
        assert "NameError" in facts.headline, "hidden is not known in inner"
        await run.client.set_lookouts([Lookout(1, file=path, line=4, condition="k == 5")])
        assert await run.ask("k") == "0"
        await run.step("on")
        assert await run.ask("k") == "5"
        await run.step("on")
    assert run.out == "[1, 2, 3, 4, 5, 6, 7, 8]\n"


async def test_set_while_a_long_loop_runs(script, interpreter: str) -> None:
    path = script("def work():\n    n = 0\n    while n < 10**9:\n        n += 1\n        m = n * 2\n\nwork()\n")
    async with running(path, python=interpreter) as run:
        await asyncio.sleep(0.4)
        began = time.perf_counter()
        await run.client.set_lookouts([Lookout(1, file=path, line=5, condition="n % 10 == 0")])
        facts = await run.pause()
        assert time.perf_counter() - began < 0.5 * slowness() + 1
        assert facts.line == 5 and int(await run.ask("n")) % 10 == 0
        await run.client.set_lookouts([Lookout(2, where="change", name="m", within="work")])
        facts = await run.step("on")
        assert "m changed" in facts.headline
        await run.client.set_lookouts([])
        await run.client.go_on()
        await asyncio.sleep(0.2)
        assert run.client.running


TOOLS = """import sys
met = []
monitoring = getattr(sys, "monitoring", None)
def work():
    n = 0
    while n < 10**9:
        n += 1
        m = n * 2
for number in TAKEN if monitoring else ():
    monitoring.use_tool_id(number, "own")
    monitoring.register_callback(number, monitoring.events.LINE, lambda code, line: (met.append(line), monitoring.DISABLE)[1])
    monitoring.set_local_events(number, work.__code__, monitoring.events.LINE)
work()
"""


@pytest.mark.parametrize("taken", [(), (4,), (3, 4)])
async def test_tools_of_the_script_are_left_alone(taken: tuple[int, ...], script, interpreter: str) -> None:
    """A breakpoint in a running call takes a tool number that is free, and none where there is none; what the script's
    own tool has switched off stays off."""
    path = script(TOOLS.replace("TAKEN", repr(taken)))
    async with running(path, python=interpreter) as run:
        await asyncio.sleep(0.4)
        await run.client.set_lookouts([Lookout(1, file=path, line=8, condition="n % 10 == 0")])
        facts = await run.pause()
        assert facts.line == 8 and int(await run.ask("n")) % 10 == 0
        told = int(await run.ask("len(met)"))
        for _ in range(3):
            await run.client.set_lookouts([Lookout(1, file=path, line=8, condition="n % 10 == 1")])
            await run.client.go_on()
            assert await run.pause() is not None
        assert int(await run.ask("len(met)")) <= told + 3 * len(taken)
        tools = await run.ask("monitoring and [monitoring.get_tool(k) for k in (3, 4)]")
        if tools != "None":
            assert tools.count("own") == len(taken)
            assert tools.count("uneven-sum") == (len(taken) < 2)
    assert not run.trouble


async def test_breakpoint_in_the_text(script, interpreter: str) -> None:
    path = script("x = 2.5\nbreakpoint()\ny = x\nprint(y)\n")
    async with running(path, python=interpreter) as run:
        facts = await run.pause()
        assert (facts.reason, facts.line, facts.state) == ("breakpoint", 2, "in")
        assert await run.ask("x") == "2.5"
        assert await run.step("on") is None
    async with running(path, python=interpreter, env={"PYTHONBREAKPOINT": "0"}) as run:
        assert await run.pause() is None
    assert run.out == "2.5\n"


TRIPS = """\
import warnings
import numpy as np

def a():
    try:
        return {}["k"]
    except KeyError:
        return 1

def b():
    warnings.warn("old", FutureWarning)
    warnings.warn("odd", UserWarning)

def c():
    x = np.array([1.0, 0.0])
    y = np.log(x)
    z = float(y[1]) * 2
    return z

a(); b(); c()
print("done")
raise LookupError("last")
"""


@pytest.mark.parametrize(
    ("switches", "lines"),
    [
        (Switches(), [12, 16, 22]),
        (Switches(handled=True), [6, 12, 16, 22]),
        (Switches(handled=True, error=Tripwire(only=["KeyError"])), [6, 12, 16]),
        (Switches(error=Tripwire(never=["LookupError"])), [12, 16]),
        (Switches(error=Tripwire(on=False), warning=Tripwire(on=False)), [16]),
        (Switches(warning=Tripwire(never=["UserWarning"])), [11, 16, 22]),
        (Switches(warning=Tripwire(only=["FutureWarning"])), [11, 16, 22]),
        (Switches(warning=Tripwire(places=["b"])), [16, 22]),
        (Switches(nonfinite=Tripwire(only=["scalar"])), [12, 16, 22]),
        (Switches(nonfinite=Tripwire(on=False), warning=Tripwire(on=False)), [22]),
        (Switches(carried=True), [12, 16, 17, 18, 22]),
        (Switches(nonfinite=Tripwire(places=["script.py"]), warning=Tripwire(places=["*/script.py"])), [22]),
        (Switches(error=Tripwire(write=True), warning=Tripwire(write=True)), [16]),
    ],
    ids=str,
)
async def test_tripwire_switches(switches: Switches, lines: list[int], script) -> None:
    async with running(script(TRIPS)) as run:
        await run.client.end()
        run.__init__(type(run.client)(run.client.launch))
        await run.client.start(switches=switches)
        seen = []
        while (facts := await run.pause()) is not None:
            seen.append(facts.line)
            await run.client.go_on()
    if switches.nonfinite.only == ["scalar"]:
        assert seen[0] == 12 and seen[-1] == 22  # the warning of the logarithm itself may pause instead
    else:
        assert sorted(set(seen)) == lines


CONSTRUCTS = """\
import functools, asyncio
class Basin:
    names = [n for n in "ab"]
    limit = 3
    area = limit * 2
    @property
    def size(self):
        return self.area
    @functools.lru_cache
    def depth(self, k):
        return k / 2

def gen(n):
    for k in range(n):
        got = yield k
    return "done"

def fact(n):
    if n <= 1:
        return 1
    return n * fact(n - 1)

def deco(f):
    @functools.wraps(f)
    def inner(*a, **k):
        return f(*a, **k)
    return inner

@deco
def work(x):
    match x:
        case [a, b]:
            z = a + b
        case {"k": v}:
            z = v
        case _:
            z = 0
    try:
        y = z / (z - 3)
    except ZeroDivisionError as e:
        y = -1
    else:
        y += 1
    finally:
        z = None
    with open("/dev/null") as f:
        f.read()
    return y

async def agauge(n):
    total = 0
    async for k in aiter_(n):
        total += k
    return total

async def aiter_(n):
    for k in range(n):
        yield k

b = Basin()
print(b.size, b.depth(3), list(gen(3)), fact(5), work([1, 2]), work({"k": 5}), work(9))
print(asyncio.run(agauge(4)))
x = 10; y = 20; z = x + y
while x > 7: x -= 1
print(x, z)
"""

PLACES = {
    "class body": ({"line": 5, "condition": "limit == 3"}, [5]),
    "entry of a generator": ({"where": "entry", "name": "gen"}, [14]),
    "return of a generator": ({"where": "return", "name": "gen"}, [16]),
    "recursion": ({"where": "return", "name": "fact", "condition": "returned > 6"}, [21, 21]),
    "property": ({"where": "entry", "name": "Basin.size"}, [8]),
    "decorated": ({"where": "entry", "name": "work"}, [31, 31, 31]),
    "match": ({"line": 31}, [31, 31, 31]),
    "case": ({"line": 34, "condition": "v == 5"}, [35]),
    "else of a try": ({"line": 42, "condition": "y > 0"}, [43]),
    "async for": ({"line": 53}, [53] * 4),
    "while in one line": ({"line": 64}, [64] * 4),
    "element in a class": ({"where": "element", "line": 3, "condition": "n == 'b'"}, [3]),
    "change": ({"where": "change", "name": "x"}, [63, 64, 64, 64]),
    "change in branches": ({"where": "change", "name": "y", "within": "work"}, [41, 39, 43, 39, 43]),
    "line of a decorator": ({"line": 9}, [11]),
    "raise": ({"where": "raise", "name": "ZeroDivisionError"}, [39]),
}


@pytest.mark.parametrize("name", PLACES)
async def test_lookouts_in_every_construct(name: str, script, interpreter: str) -> None:
    wanted, lines = PLACES[name]
    path = script(CONSTRUCTS)
    file = path if "line" in wanted else ""
    async with running(path, python=interpreter) as run:
        await run.client.end()
        run.__init__(type(run.client)(run.client.launch))
        await run.client.start(lookouts=[Lookout(1, **{"file": file, **wanted})])
        seen = []
        while (facts := await run.pause()) is not None:
            seen.append(facts.line)
            await run.client.go_on()
    assert seen == lines
    assert run.out.splitlines() == ["6 1.5 [0, 1, 2] 120 -1 3.5 1.0", "6", "7 30"] and not run.trouble


# -- sentences and places ----------------------------------------------------------------------------

names = st.from_regex(r"[a-z][a-z_]{0,8}(\.[a-z]{1,5})?", fullmatch=True)
texts = st.text(st.characters(codec="ascii", min_codepoint=32, max_codepoint=126), min_size=1, max_size=20).filter(
    lambda t: t.strip() == t and t
)


@given(
    st.builds(
        Lookout,
        where=st.sampled_from(["line", "element", "lambda"]),
        file=st.just("/quillmere/rating_year.py"),
        line=st.integers(1, 9999),
        condition=st.one_of(st.just(""), texts),
        start=st.integers(2, 99),
        inside=st.one_of(st.just(""), names),
        outside=st.one_of(st.just(""), names),
        object=st.one_of(st.just(""), names),
        after=st.integers(0, 9),
        until=st.integers(0, 9),
        text=st.one_of(st.just(""), texts),
        once=st.booleans(),
        on=st.booleans(),
    )
)
def test_a_sentence_says_the_whole_lookout(lk: Lookout) -> None:
    assert parse(sentence(lk), lk.file) == lk


@given(st.builds(Lookout, where=st.sampled_from(["entry", "return", "raise", "change"]), name=names, condition=texts))
def test_named_places_too(lk: Lookout) -> None:
    assert parse(sentence(lk), "/quillmere/rating_year.py") == lk


@given(st.lists(names, max_size=3), st.lists(names, max_size=2), st.booleans(), st.booleans())
def test_tripwires_as_sentences(never: list[str], places: list[str], write: bool, on: bool) -> None:
    wire = Tripwire(never=never, places=places, write=write, on=on)
    for name, extras in (("error", {"handled"}), ("warning", set()), ("nonfinite", {"carried"})):
        said = parse_tripwire(name, tripwire_sentence(name, wire, extras))
        assert said.wire == wire and said.extras == extras


@pytest.mark.parametrize(
    "text",
    [
        "stop at 3",
        "pause at line x",
        "pause at line 3, sometimes",
        "pause at line 3, from the 0th time",
        "write `` at line 3",
        "pause at line 3 when ``",
    ],
)
def test_unclear_sentences(text: str) -> None:
    with pytest.raises(Unclear) as caught:
        parse(text, "/a.py")
    assert str(caught.value).endswith((".", "…", "sometimes"))


def test_badges() -> None:
    told = [badge(Lookout(condition="x")), badge(Lookout(start=3)), badge(Lookout(text="x")), badge(Lookout())]
    assert told == ["if", "x3", "log", ""]


lines_ = st.lists(
    st.sampled_from(["a = 1", "b = a + 2", "for k in x:", "    c = k", "", "d = f(c)"]), min_size=1, max_size=12
)


@given(lines_, lines_, st.data())
def test_lookouts_stay_with_their_lines(old: list[str], added: list[str], data) -> None:
    at = data.draw(st.integers(0, len(old)))
    line = data.draw(st.integers(1, len(old)))
    marked = [f"{text}  # {n}" for n, text in enumerate(old)]
    new = marked[:at] + added + marked[at:]
    assert follow(marked, new, line) == (line if line <= at else line + len(added))


def test_an_edited_line_is_followed_and_a_gone_one_is_not() -> None:
    old = ["a = 1", "head = level - SILL", "flow = C * head ** 1.5", "total += flow"]
    assert follow(old, ["a = 1", "head = level - SILL", "flow = C * max(head, 0) ** 1.5", "total += flow"], 3) == 3
    assert follow(old, ["a = 1", "total += flow"], 3) is None
    assert follow(old, ["flow = C * head ** 1.5", "a = 1"], 3) == 1
