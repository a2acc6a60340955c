"""Trials: what they would have changed, what they are refused; calls with pauses; terms; changes by hand."""

from __future__ import annotations

import ast
import os

import numpy as np
import pandas as pd
import pytest
from driving import running
from hypothesis import given, settings
from hypothesis import strategies as st

from uneven_sum.agent.diagnosis.shape_notes import from_the_end, told
from uneven_sum.agent.trials import snapshot_diff
from uneven_sum.client import BadUse, CallEnded
from uneven_sum.host.launch import Limits

STATE = """
import math, os
class Gauge:
    def __init__(self):
        self.level, self.log = 1.5, []
    def rise(self, by):
        self.level += by
        self.log.append(by)
        return self.level
gauge = Gauge()
runs = 0
table = {"sill": 1.5, "weir": 2.0}
flow = [1.0, 2.0, 3.0]
def step(by=1):
    global runs
    runs += by
    flow[1] = -by
    table["new"] = by
    return runs
def ratio(a, b=0.0):
    c = a + 1
    return c / b
def main(total):
    head = 0.5
    breakpoint()
    return head + total
print(main(10.0))
"""


async def changed(run, text: str) -> str:
    return (await run.client.ask(text))["unevenSum"]["changed"]


async def test_a_trial_tells_what_it_would_have_changed(script, interpreter: str) -> None:
    async with running(script(STATE), python=interpreter, pause_on=set()) as run:
        await run.pause()
        assert await changed(run, "head * 2") == ""
        assert await changed(run, "step(3)") == ("runs 0 → 3; table['new'] not there → 3; flow[1] 2.0 → -3")
        assert await changed(run, "gauge.rise(2)") == "gauge.level 1.5 → 3.5; gauge.log 0 elements → 1 elements"
        assert await changed(run, "head = 7; late = [1]") == "head 0.5 → 7; late not assigned → [1]"
        assert await changed(run, "del table['sill']") == "table['sill'] 1.5 → deleted"
        with pytest.raises(BadUse, match="ZeroDivisionError") as failed:
            await run.client.ask("(step(), 1 / 0)")
        assert failed.value.facts["changed"].startswith("runs 0 → 1")
        assert await run.ask("(runs, flow == [1, 2, 3], len(table), gauge.level, head)") == "(0, True, 2, 1.5, 0.5)"
        assert not await run.step("on") and run.out == "10.5\n" and not run.trouble


async def test_what_a_trial_is_refused(script, tmp_path) -> None:
    kept = tmp_path / "kept.txt"
    kept.write_text("as it was")
    async with running(script(STATE), pause_on=set(), cwd=str(tmp_path)) as run:
        await run.pause()
        refusals = {
            f"open({str(kept)!r}, 'w')": "does not write files",
            f"os.remove({str(kept)!r})": "does not call os.remove",
            f"os.rename({str(kept)!r}, 'other')": "does not call os.rename",
            "__import__('subprocess').run(['true'])": "does not call subprocess",
            "__import__('socket').create_connection(('127.0.0.1', 9))": "does not call socket",
            "os.system('true')": "does not call os.system",
        }
        for text, why in refusals.items():
            with pytest.raises(BadUse, match=f"{why}.*Start with ! to run it in the script"):
                await run.client.ask(text)
        swallowed = "import contextlib\nwith contextlib.suppress(OSError): os.remove('kept.txt')\n'went on'"
        told = (await run.client.ask(swallowed))["unevenSum"]
        assert told["text"] == "'went on'" and told["refused"] == [
            "A copy of the script does not call os.remove('kept.txt')"
        ]
        assert kept.read_text() == "as it was"


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("head +", "This is not Python"),
        ("while True: pass", "longer than"),
        ("bytearray(100_000_000_000)", "MemoryError"),
        ("os._exit(3)", "ended its own process"),
        ("os.abort()", "SIGABRT"),
        ("input('level? ')", "EOFError"),
        ("exit()", "SystemExit"),
    ],
)
async def test_hostile_questions(script, text: str, why: str) -> None:
    async with running(script(STATE), pause_on=set(), limits=Limits(trial=5)) as run:
        await run.pause()
        with pytest.raises(BadUse, match=why):
            await run.client.ask(text)
        assert await run.ask("head") == "0.5"
        assert not await run.step("on") and run.out == "10.5\n" and not run.trouble


async def test_much_printed_and_threads_in_a_trial(script) -> None:
    async with running(script(STATE), pause_on=set()) as run:
        await run.pause()
        told = (await run.client.ask("print('x' * 100_000_000)"))["unevenSum"]
        assert 1000 < len(told["printed"]) <= 20_000
        threads = (
            "import threading\nt = threading.Thread(target=gauge.rise, args=(1,)); t.start(); t.join()\ngauge.level"
        )
        assert await run.ask(threads) == "2.5"
        assert await run.ask("gauge.level") == "1.5"


async def test_keys_and_columns_are_completed(script) -> None:
    text = "import pandas as pd\nframe = pd.DataFrame({'depth': [1], 'date': [2], 'flow rate': [3]})\n"
    async with running(script(text + "table = {'sill': 1, 'side weir': 2}\nbreakpoint()\n"), pause_on=set()) as run:
        await run.pause()

        async def labels(begun: str) -> list[str]:
            return [f["label"] for f in await run.client.complete(begun)]

        assert await labels("frame['d") == ["date", "depth"]
        assert await labels('1 + frame["') == ["date", "depth", "flow rate"]
        assert await labels("table['si") == ["side weir", "sill"]
        assert await labels("nowhere['") == []


# -- calls with pauses -------------------------------------------------------------------------------


async def test_a_call_with_pauses_and_back(script, interpreter: str) -> None:
    async with running(script(STATE), python=interpreter, rewind=True) as run:
        await run.pause()
        await run.client.session.points.wait_for(run.point)
        here = run.point
        await run.client.call_with_pauses("ratio(step(4))")
        facts = await run.pause()
        assert facts.reason == "error" and facts.line == 22 and facts.nested == "ratio(step(4))"
        assert [c.function for c in facts.trail] == ["<module>", "main", "ratio"]
        assert await run.ask("(runs, c)") == "(4, 5)"
        await run.ask("!b = 2.0")
        await run.client.retry()
        ended = await run.pause()
        if not isinstance(ended, CallEnded):
            assert ended.reason == "step"
            ended = await run.step("on")
        assert isinstance(ended, CallEnded) and ended.told["text"] == "2.5" and ended.point == here
        assert await run.ask("runs") == "4", "not undone yet"
        await run.client.step_back(here)
        facts = await run.pause()
        assert facts.line == 25 and facts.nested == "" and await run.ask("(runs, flow[1], head)") == "(0, 2.0, 0.5)"
        await run.client.call_with_pauses("gauge.rise(1)", into=True)
        facts = await run.pause()
        assert (facts.function, facts.line, facts.state) == ("Gauge.rise", 7, "next")
        for line in (8, 9):
            facts = await run.step()
            assert facts.line == line
        ended = await run.step()
        assert isinstance(ended, CallEnded) and ended.told["text"] == "2.5"
        await run.client.call_with_pauses("nowhere(1)")
        ended = await run.pause()
        assert ended.failed.startswith("NameError")
        with pytest.raises(BadUse, match="is not a call"):
            await run.client.call_with_pauses("head = 3")
        await run.client.step_back(here)
        await run.pause()
        assert await run.step("on") is None and run.out == "10.5\n" and not run.trouble


async def test_the_paused_call_again(script) -> None:
    text = (
        "class Gauge:\n    def rate(self, stage, *rest, sill=1.0, **more):\n        breakpoint()\n        return stage\n"
        "def inner():\n    def hidden(a):\n        breakpoint()\n    hidden(1)\n"
        "def rate(stage, sill=1.5):\n    breakpoint()\n    return stage - sill\n"
        "rate(2.0)\nGauge().rate(3.0, 4, x=5)\n[breakpoint() for _ in range(1)]\n"
    )
    async with running(script(text), pause_on=set()) as run:
        await run.pause()
        assert await run.client.call_text() == "rate(stage, sill)"
        assert await run.ask("stage - sill") == "0.5"
        await run.step("on")
        assert await run.client.call_text() == "self.rate(stage, *rest, sill=sill, **more)"
        await run.step("on")
        with pytest.raises(BadUse, match="Write the call yourself"):
            await run.client.call_text()


# -- terms -------------------------------------------------------------------------------------------

TERMS = """
import numpy as np
stage, grid, day = np.linspace(0.5, 3, 12), np.ones((365, 1)), 1
flow, lag = [1.0, 2.0, -3.0, 4.0], np.zeros(5)
def main():
    breakpoint()
    x = grid * stage
    y = np.float32(stage) @ np.ones((12, 2))
    u = sum(np.log(v) for v in flow if v != 1)
    q = flow[day - 2] + lag[-1]
    r = day > 3 and flow[0] > 1 or day == 1
    t = 1 if day > 3 else flow[2]
    lag[day - 2] = 7.0
    with open(__file__) as f, open(__file__, "rb") as g:
        pass
    while 0 < day < 1 < 7 - day:
        pass
    w = {k: 1 / (k - 2) for k in flow}
main()
"""


async def test_terms_of_every_kind(script, interpreter: str) -> None:
    async with running(script(TERMS), python=interpreter, pause_on=set()) as run:
        if await run.pause() is None:
            pytest.skip("no numpy for this interpreter")

        async def terms(line: int) -> dict:
            _, found, remark = await run.client.terms(0, line)
            assert remark == ("with the values of now" if line != 6 else "")
            return {t.text: t for t in found}

        assert (await terms(7))["grid * stage"].how == "(365, 1) * (12,) → (365, 12)"
        found = await terms(8)
        assert found["np.float32(stage)"].how == "float64 → float32"
        whole = found["np.float32(stage) @ np.ones((12, 2))"]
        assert whole.how == "(12,) @ (12, 2) → (2,); float32, float64 → float64"
        found = await terms(9)
        culprit = next(t for t in found.values() if t.culprit)
        assert (culprit.text, culprit.value, culprit.how) == ("np.log(v)", "nan", "element 1, v = -3.0")
        assert found[culprit.text].depth == 2
        found = await terms(10)
        assert found["flow[day - 2]"].how == "index -1 counts from the end: place 3"
        assert found["lag[-1]"].how == ""
        found = await terms(11)
        assert found["flow[0] > 1"].value == "not evaluated: the result was known before"
        assert found["day == 1"].value == "True"
        assert (await terms(12))["flow[2]"].value == "-3.0"
        assert (await terms(13))["lag[day - 2]"].how == "index -1 counts from the end: place 4"
        assert len([t for t in (await terms(14)).values() if t.text.startswith("open")]) == 2
        assert (await terms(16))["7 - day"].value.startswith("not evaluated")
        found = await terms(18)
        culprit = next(t for t in found.values() if t.culprit)
        assert culprit.text == "1 / (k - 2)" and culprit.how == "element 1, k = 2.0"
        await run.client.step_line()
        await run.pause()
        assert (await run.client.terms(0, 7))[2] == "what it will compute: it has not run yet"


@given(st.integers(-6, 6), st.integers(1, 6), st.booleans())
def test_indices_from_the_end(index: int, length: int, computed: bool) -> None:
    node = ast.parse("a[i]" if computed else f"a[{index}]", mode="eval").body.slice
    for owner in (list(range(length)), np.arange(length)):
        said = from_the_end(node, owner, index)
        assert bool(said) == (computed and -length <= index < 0)
        if said:
            assert owner[int(said.rpartition(" ")[2])] == owner[index]


SHAPES = st.sampled_from([(3,), (1,), (4, 3), (4, 1), (1, 3), ()])


@given(SHAPES, SHAPES, st.sampled_from(["f8", "f4", "i8"]), st.sampled_from(["f8", "f4", "i8"]))
def test_shapes_and_dtypes_as_numpy_makes_them(one, other, kind, kind2) -> None:
    a, b = np.ones(one, kind), np.ones(other, kind2)
    c = a * b
    said = told(ast.parse("a * b", mode="eval").body, [a, b], c)
    assert (f"→ {c.shape}" in said) == (bool(one) and bool(other) and one != other)
    assert (f"→ {c.dtype}" in said) == (a.dtype != b.dtype or c.dtype != a.dtype)


# -- what has changed --------------------------------------------------------------------------------


@settings(max_examples=60)
@given(
    st.lists(st.floats(allow_nan=True), min_size=1, max_size=40),
    st.dictionaries(st.integers(0, 39), st.floats(allow_nan=True), max_size=8),
)
def test_changed_cells_are_counted_as_they_are(cells: list[float], puts: dict[int, float]) -> None:
    array, listed = np.array(cells), list(cells)
    frame = pd.DataFrame({"depth": cells, "other": 1})
    snapshot = snapshot_diff.NamesBefore({"array": array, "listed": listed, "frame": frame, "same": np.ones(3)})
    before = array.copy()
    for at, value in puts.items():
        if at < len(cells):
            array[at] = listed[at] = value
            frame.iloc[at, 0] = value
    wanted = int((~((array == before) | (np.isnan(array) & np.isnan(before)))).sum())
    found = snapshot.differences({"array": array, "listed": listed, "frame": frame, "same": np.ones(3)})
    by_name = {f["name"]: f for f in found}
    assert by_name.pop("same")["new"].startswith("3 cells"), "another array"
    assert by_name.get("array", {}).get("cells", 0) == wanted
    assert by_name.get("frame['depth']", {}).get("cells", 0) == wanted
    # Of a list every element is told by itself, up to a few.
    assert min(wanted, 4) <= len([n for n in by_name if n.startswith("listed")]) <= wanted


def test_large_arrays_are_summed_then_sampled(monkeypatch) -> None:
    monkeypatch.setattr(snapshot_diff, "COPIED", 1000)
    monkeypatch.setattr(snapshot_diff, "SUMMED", 100_000)
    small, middle, large = np.zeros(100), np.zeros(10_000), np.zeros(1_000_000)
    snapshot = snapshot_diff.NamesBefore({"small": small, "middle": middle, "large": large})
    assert snapshot.sampled
    for array in (small, middle, large):
        array[:] = 1
    told_of = {f["name"]: f for f in snapshot.differences({"small": small, "middle": middle, "large": large})}
    assert told_of["small"]["cells"] == 100
    assert told_of["middle"]["new"] == told_of["large"]["new"] == "changed in place"


@pytest.mark.parametrize(
    ("text", "pure"),
    [
        ("a * 2 + len(b)", True),
        ("a.mean() > np.sqrt(2)", True),
        ("np.add(a, 1, out=a)", False),
        ("a.sort()", False),
        ("b.append(1)", False),
        ("own(a)", False),
        ("[x for x in b]", True),
        ("(y := 3)", False),
        ("thing.level", False),
    ],
)
def test_what_is_known_to_change_nothing(text: str, pure: bool) -> None:
    import sys

    from uneven_sum.agent.frames.namespace import Scope

    class Thing:
        level = 1

    a, b, own, thing = np.zeros(3), [1], (lambda x: x), Thing()
    assert snapshot_diff.is_pure(ast.parse(text, mode="eval"), Scope(sys._getframe())) == pure
    assert (a.size, b, own(1), thing.level) == (3, [1], 1, 1) and os


async def test_going_back_keeps_what_was_done_for_good_in_that_pause(script, interpreter: str) -> None:
    async with running(script(STATE), python=interpreter, pause_on=set(), rewind=True) as run:
        await run.pause()
        here = run.point
        for number in range(1, 4):
            await run.ask(f"!head = {number}")
            await run.client.step_back(here)
            await run.pause()
            assert await run.ask("head") == str(number)
        assert await run.step("on") is None and run.out == "13.0\n" and not run.trouble


HAND = """
try:
    import numpy as np
except ImportError:
    raise SystemExit(0)
stage, name = np.linspace(0.0, 1.0, 4), "sill"
class Gauge:
    level = 2.0
gauge = Gauge()
def rate(head):
    breakpoint()
    return head + stage[1]
def main(by):
    got = rate(by)
    print(got, by, gauge.level, name)
main(1.0)
breakpoint()
"""


async def test_values_set_by_hand(script, interpreter: str) -> None:
    async with running(script(HAND), python=interpreter, pause_on=set()) as run:
        if await run.pause() is None:
            pytest.skip("no numpy for this interpreter")
        c = run.client
        frames = {f.name: f.id for f in await c.stack()}
        assert (await c.set_value("head", "5"))["value"] == "5"
        assert (await c.set_value("by", "by * 3", frames["main"]))["value"] == "3.0"
        assert (await c.set_value("stage[1:3]", "[7.0, 8.0]"))["value"] == "2 cells float64, [7.0 8.0]"
        told = await c.set_value("gauge.level", "2.5")
        assert told["hand"] == ["head", "by", "stage[1:3]", "gauge.level"]
        cards = {k.name: k for k in await c.cards(0, "call")}
        assert cards["head"].hand and {k.name for k in await c.cards(0, "module") if k.hand} == {"stage", "gauge"}
        for target, value, why in (
            ("name", "4", "name is str, and would be int"),
            ("stage", "stage[:2]", r"shape \(4,\) and float64, and would be .* shape \(2,\)"),
            ("stage", "stage.astype('f4')", "would be .*float32"),
        ):
            with pytest.raises(BadUse, match=why) as failed:
                await c.set_value(target, value)
            assert failed.value.facts["misfit"]
        for target, value, why in (
            ("stage[1]", "'deep'", "cannot be set to that: ValueError"),
            ("stage[:2]", "[1.0, 2.0, 3.0]", "ValueError: could not broadcast"),
            ("stage[9]", "1", "IndexError"),
            ("head", "nowhere", "NameError"),
            ("head", "1 +", "cannot be done"),
            ("head + 1", "2", "cannot be done|is not a name"),
        ):
            with pytest.raises(BadUse, match=why):
                await c.set_value(target, value)
        assert (await c.set_value("name", "4", force=True))["value"] == "4"
        facts = await run.step("out")
        assert facts.hand == ["by", "stage[1:3]", "gauge.level", "name"], "the call of rate is over"
        facts = await run.step("on")
        assert facts.hand == ["stage[1:3]", "gauge.level", "name"]
        assert await run.step("on") is None and run.out == "12.0 3.0 2.5 4\n" and not run.trouble
