"""Values of every kind through the Close-up, on each CPython; figures against NumPy's and pandas' own."""

from __future__ import annotations

import ast
import json
import math
import os
import re
import xml.etree.ElementTree as ElementTree
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from driving import running
from hypothesis import example, given, settings
from hypothesis import strategies as st

from uneven_sum.agent.values import compare, downsample, statistics
from uneven_sum.agent.values.kinds.grids import BadSlice, array_grid, parse_slice
from uneven_sum.app.closeup.reader import folded
from uneven_sum.app.plotting.canvas import Axis
from uneven_sum.app.plotting.charts import DRAW, floats
from uneven_sum.app.plotting.number_format import STYLES, Format, aligned, shown
from uneven_sum.app.shell.theme import CHALK, SLATE
from uneven_sum.charts import summary_markdown, write_plot
from uneven_sum.client import BadUse
from uneven_sum.host.launch import Limits

SCRIPT = str(Path(__file__).parents[1] / "support" / "values_script.py")
FLOATS = st.floats(allow_nan=True, allow_infinity=True, width=64)


def names() -> list[str]:
    tree = ast.parse(Path(SCRIPT).read_text())
    found = []
    for node in ast.walk(tree):
        if isinstance(node, ast.Assign) and node.col_offset in (0, 4):
            for target in node.targets:
                found += [n.id for n in ast.walk(target) if isinstance(n, ast.Name) and isinstance(n.ctx, ast.Store)]
    return [n for n in dict.fromkeys(found) if n not in ("touched", "np", "pd", "sp", "__str__", "__hash__")]


async def test_every_kind_is_shown_and_none_is_touched(interpreter: str) -> None:
    async with running(SCRIPT, python=interpreter, pause_on=set()) as run:
        await run.pause()
        have = {c.name for c in await run.client.cards(0, "module")} | {"function", "module", "cls"}
        found = [n for n in names() if n in have]
        assert len(found) >= 45, "the standard library's kinds at least"
        for name in found:
            told = await run.client.closeup(name)
            summary = told["summary"]
            assert summary["text"] and summary["text"].isprintable() and len(summary["text"]) < 600, name
            assert summary["type"], name
            if told["children"]:
                parts = await run.client.parts(name, 0, 0, 50)
                assert parts["parts"], name
            if told["grid"]:
                page = await run.client.page(name, 0, row=0, column=0, rows=30, columns=8, slice=told["grid"]["slice"])
                assert len(page["rowLabels"]) == min(30, page["rows"]), name
                assert all(len(c["marks"]) == len(page["rowLabels"]) for c in page["cells"]), name
            for kind in told["plots"]:
                data = await run.client.plot(
                    name, 0, kind=kind, width=60, height=20, slice=(told["grid"] or {}).get("slice", "")
                )
                drawn = DRAW[kind](data, 80, 24, SLATE, Format())
                assert len(drawn.canvas.strips("#000000", "#ffffff")) == 24, name
                drawn.read(40, 10)
            if told["reader"]:
                text = await run.client.read_text(name)
                assert "\x1b" not in text and "\x07" not in text
        assert await run.step("on") is None
        assert run.out == "touched []\n"
        assert not run.trouble


FOREIGN = {
    "pframe": ("3 rows x 2 columns: gauge, depth", ["..!", ".!."]),
    "pseries": ("3 rows Float64, 1 missing or not finite", [".!."]),
    "table": ("2 rows x 2 columns: gauge, depth", [".!", ".!"]),
    "parray": ("3 rows double, 1 missing or not finite", [".!."]),
    "chunked": ("2 rows double, 1 missing or not finite", [".!"]),
    "labelled": ("x 2, y 2, 1 not finite", ["..", "!."]),
    "dataset": ("x 2, y 2", None),
    "coo": ("2 x 2 sparse float64, 2 stored, 1 not finite", [".!", ".."]),
    "sparr": ("3 x 3 sparse float64, 3 stored", ["...", "...", "..."]),
    "arrow_series": ("2 rows double[pyarrow], 1.5 … 1.5, mean 1.5, 1 missing, first at row 1", [".!"]),
    "lazy": ("a plan that has not run: collect() runs it", None),
    "expression": ('the expression [(col("depth")) + (dyn int: 1)].sqrt()', None),
    "scalar_": ("1.5", None),
    "schema": ("gauge: string depth: double", None),
    "one": ("one float64: 2.5", ["."]),
    "coordinates": ("x 2, y 2", None),
    "variable": ("x 2, y 2, 1 not finite", ["..", "!."]),
    "bare": ("no dimensions", None),
    "lookup": ("2 x 3 sparse float64, 0 stored", ["..", "..", ".."]),
    "operator_": ("2 x 2 linear operator float64, MatrixLinearOperator", None),
    "route": ("3 x 2 linear operator float64, Route", None),
    "matrix": ("1 x 2 cells int64, 1 … 2", [".", "."]),
    "polynomial": ("polynomial of order 1, coefficients 2 cells int64, [1 2]", None),
    "flat": ("flat iterator over 4 cells, at 0", None),
    "compound": ("4 labels: 1 / sill … 2 / weir", ["....", "...."]),
    "row": ("3 sparse float64, 2 stored", ["..."]),
    "texts": ("2 cells StringDType(): 'sill', 'a long text a long text a long text a …", [".."]),
}
OWN_WORDS = {
    "called": "function max with 1, default=2",
    "own_called": "function min with Repr object",
    "reference": "weak reference to pattern 'x+'",
    "dead": "weak reference, dead",
    "c_number": "c_double 1.5",
    "c_cells": "3 cells of C's: [1, 2, 3]",
    "c_place": "Place(easting=2.5, row=7)",
    "tree": "<gauge>, 1 attribute, 2 parts",
    "branch": "Branch object",
    "frame_": "call of <module>, line ",
    "code_": "code of gen, line ",
    "alias": "list[int]",
    "own_file": f"file {SCRIPT[:60]}",
    "memory": "3 bytes in memory, at 0",
    "page": "text in memory, at 0",
    "shut": f"file {SCRIPT[:60]}",
    "own_stream": "Stream object",
}


async def test_workings_are_told_by_their_own_words(interpreter: str) -> None:
    async with running(SCRIPT, python=interpreter, pause_on=set()) as run:
        await run.pause()
        for name, text in OWN_WORDS.items():
            told = await run.client.closeup(name)
            assert told["summary"]["text"].startswith(text), name
            assert not any("cannot" in fact for _, fact in told["facts"]), name
        assert "<level>1.5</level>" in (await run.client.read_text("tree"))["text"]
        parts = {n: (await run.client.parts(n, 0, 0, 9))["parts"] for n in ("c_place", "tree", "c_cells", "called")}
        assert {n: [p["name"] for p in found] for n, found in parts.items()} == {
            "c_place": ["easting", "row"],
            "tree": ["attrib", "text", "[0] level", "[1] level"],
            "c_cells": ["[0]", "[1]", "[2]"],
            "called": ["func", "args", "keywords"],
        }
        assert await run.ask("touched") == "[]"


async def test_values_of_other_libraries() -> None:
    async with running(str(Path(SCRIPT).with_name("values_foreign.py")), pause_on=set()) as run:
        await run.pause()
        for name, (text, marks) in FOREIGN.items():
            told = await run.client.closeup(name)
            assert told["summary"]["text"] == text, name
            assert not any("cannot" in fact for _, fact in told["facts"]), name
            if marks is not None:
                page = await run.client.page(name, 0, row=0, column=0, rows=5, columns=5)
                assert [c["marks"] for c in page["cells"]] == marks, name
            if told["children"]:
                assert (await run.client.parts(name, 0, 0, 5))["parts"], name
            for kind in told["plots"]:
                data = await run.client.plot(name, 0, kind=kind, width=40, height=12)
                DRAW[kind](data, 60, 16, SLATE, Format())
        assert not run.trouble


async def test_facts_tell_what_counts() -> None:
    async with running(SCRIPT, pause_on=set(), limits=Limits(trial=60)) as run:
        await run.pause()

        async def facts(name: str) -> dict[str, str]:
            return {a: b for a, b in (await run.client.closeup(name))["facts"]}

        array = await facts("array")
        assert (array["nan"], array["+inf"], array["-inf"], array["zero"], array["negative"]) == (
            "1",
            "0",
            "1",
            "1",
            "1",
        )
        assert array["minimum"] == "-2.0" and array["maximum"] == "1.0" and array["bad cells at"] == "1  2"
        assert "read only" in (await facts("frozen"))["layout"]
        assert "not contiguous, a view" in (await facts("strided"))["layout"]
        assert (await facts("level"))["hexadecimal"] == (0.1).hex()
        assert float((await facts("level"))["ulp"]) == pytest.approx(math.ulp(0.1), rel=1e-5)
        assert (await facts("frame"))["depth"].startswith("float64, 1 missing, -2.0 … 1.0")
        assert "unique, ascending" in (await facts("series"))["index"]
        assert (await facts("masked"))["masked"] == "1"
        assert (await facts("times"))["NaT"] == "1"
        assert "volume (read when asked)" in (await facts("prop"))["properties"]
        assert await run.ask("prop.volume") == "8.0"
        matrix = {a: b for a, b in await run.client.matrix("symmetric")}
        assert matrix["rank"] == "2 of 2" and matrix["condition number"] == "3.0" and matrix["symmetric"] == "yes"
        assert matrix["definiteness"] == "positive definite" and matrix["eigenvalues"] == "1.0  3.0"
        assert (await run.client.matrix("symmetric * np.nan"))[0][1].startswith("none")
        with pytest.raises(BadUse, match="two-dimensional"):
            await run.client.matrix("array")
        assert (await run.client.read_text("json_text"))["text"] == '{"station": "quillmere", "levels": [1.5, null]}'
        assert (await run.client.read_text("raw"))["text"].startswith("00000000  00 01 02 03")


async def test_pages_sorted_filtered_sliced(tmp_path) -> None:
    async with running(SCRIPT, pause_on=set()) as run:
        c = run.client
        await run.pause()
        page = await c.page("frame", 0, sort={"column": 1})
        assert page["rowLabels"] == ["1", "0", "2"] and floats(page["cells"][1]["data"])[:2] == [-2.0, 1.0]
        assert page["cells"][1]["marks"] == "..!"
        assert (await c.page("frame", 0, sort={"column": 2, "down": True}))["rowLabels"] == ["0", "2", "1"]
        page = await c.page("frame", 0, filter="depth < 0")
        assert (page["rows"], page["rowLabels"]) == (1, ["1"])
        assert (await c.page("frame", 0, filter="(gauge == 'sill') & (n > 2)"))["rowLabels"] == ["0"]
        for wanted in ("depth <", "nowhere > 1", "3", "__import__('os')"):
            with pytest.raises(BadUse, match="cannot be used"):
                await c.page("frame", 0, filter=wanted)
        assert (await c.page("cube", 0, slice="[1, :, ::2]"))["columns"] == 2
        for wrong, why in (
            ("[9, :, :]", "does not fit"),
            ("[:, :, :]", "leaves 3"),
            ("x", "not a slice"),
            ("[0, 0, 0, 0]", "4 parts"),
        ):
            with pytest.raises(BadUse, match=why):
                await c.page("cube", 0, slice=wrong)
        assert (await c.page("wide", 0, column=99_990, columns=12))["columnLabels"][-1] == "99999"
        assert (await c.page("twice"))["columnLabels"] == ["a", "a"]
        assert (await c.page("multi"))["rowLabels"] == ["a / 1", "b / 2"]
        assert await c.find_bad("array", 0, row=-1, column=0) == (1, 0)
        assert await c.find_bad("array", 0, row=1, column=0) == (2, 0)
        assert await c.find_bad("array", 0, row=2, column=0) is None
        assert await c.find_bad("array", 0, row=2, column=0, back=True) == (1, 0)
        assert await c.find_bad("frame", 0, row=-1, column=0) == (2, 1)
        page = await c.page("array * 2", 0)
        assert floats(page["cells"][0]["data"])[0] == 2.0, "an expression is evaluated in a trial"
        with pytest.raises(BadUse, match="could not be evaluated: ZeroDivisionError"):
            await c.page("1 / 0")
        with pytest.raises(BadUse, match="no rows and columns"):
            await c.page("level")
        await c.seen()
        await run.ask("!array.__setitem__(4, 7.0)")
        assert (await c.page("array"))["cells"][0]["marks"] == ".!!.c"
        told = await c.compare("array", 0, "·before", 0, 0)
        assert told["differ"] == 1 and told["at"] == [4]
        assert (await c.compare("array", 0, "array + 1e-9", 1e-8, 0))["differ"] == 0
        assert "the shapes differ" in str(await c.compare("array", 0, "cube", 0, 0))
        for ending in ("csv", "npy"):
            target = str(tmp_path / f"out.{ending}")
            assert (await c.export_grid("ints", 0, target))["rows"] == 3
            assert (await c.compare("ints", 0, target, 0, 0))["differ"] == 0
        await c.export_grid("frame", 0, str(tmp_path / "frame.csv"), filter="n < 3", sort={"column": 2})
        assert (tmp_path / "frame.csv").read_text().splitlines()[1].startswith("1,weir,-2.0,1")
        await c.export_grid("frame", 0, str(tmp_path / "frame.parquet"), filter="n < 3")
        back = pd.read_parquet(tmp_path / "frame.parquet")
        assert list(back["gauge"]) == ["weir", "sill"] and back["depth"].isna().tolist() == [False, True]
        with pytest.raises(BadUse, match="could not be written"):
            await c.export_grid("ints", 0, "/nowhere/out.csv")
        with pytest.raises(BadUse, match=r"\.csv, \.npy or \.parquet"):
            await c.export_grid("ints", 0, str(tmp_path / "out.xls"))
        with pytest.raises(BadUse, match="cannot be read"):
            await c.compare("ints", 0, "/nowhere/x.npy", 0, 0)


async def test_large_ones_open_at_once(script) -> None:
    path = script(
        "import numpy as np, pandas as pd\nbig = np.zeros(100_000_000, dtype=np.float32)\nbig[77_777_777] = np.nan\n"
        "frame = pd.DataFrame({'a': np.arange(10_000_000.0)})\nbreakpoint()\n"
    )
    async with running(path, pause_on=set()) as run:
        await run.pause()
        page = await run.client.page("big", 0, row=77_777_770, rows=10)
        assert page["cells"][0]["marks"] == ".......!.."
        assert await run.client.find_bad("big", 0, row=-1, column=0) == (77_777_777, 0)
        assert (await run.client.page("frame", 0, row=9_999_990, rows=20))["rowLabels"][-1] == "9999999"
        cards = {c.name: c for c in await run.client.cards(0, "module")}
        assert cards["big"].pending
        (filled,) = await run.client.fill(0, "module", ["big"])
        assert not filled.pending and filled.nonfinite == 1


async def test_arrays_on_files_that_go_and_shrink(interpreter: str, script, tmp_path) -> None:
    path = script(
        "try:\n    import numpy as np\nexcept ImportError:\n    raise SystemExit(0)\nimport os\n"
        "def mapped(name):\n    a = np.memmap(name, dtype=float, mode='w+', shape=(40_000,))\n    a[:] = 2.5\n"
        "    a.flush()\n    return a\n"
        f"os.chdir({str(tmp_path)!r})\nkept, gone, short = mapped('kept'), mapped('gone'), mapped('short')\n"
        "part = short[39_000:]\nos.remove('gone')\nos.truncate('short', 800)\nbreakpoint()\nprint('done')\n"
    )
    async with running(path, python=interpreter, pause_on=set()) as run:
        if await run.pause() is None:
            pytest.skip("no numpy for this interpreter")
        c = run.client
        cards = {card.name: card for card in await c.cards(0, "module")}
        assert cards["kept"].text.startswith("40000 cells float64") and "2.5 … 2.5" in cards["gone"].text
        for name in ("short", "part"):
            assert "its file" in cards[name].text and "has become shorter" in cards[name].text
            told = await c.closeup(name)
            assert told["grid"] is None and told["plots"] == []
        facts = dict(map(tuple, (await c.closeup("kept"))["facts"]))
        assert facts["layout"].startswith("C, memory-mapped from")
        assert floats((await c.page("gone"))["cells"][0]["data"])[:2] == [2.5, 2.5]
        await c.seen()
        assert await run.step("on") is None
        assert run.out == "done\n" and not run.trouble


async def test_a_text_of_two_gigabytes(script) -> None:
    if os.sysconf("SC_AVPHYS_PAGES") * os.sysconf("SC_PAGE_SIZE") < 8e9:
        pytest.skip("too little memory")
    async with running(script("text = 'stage ' * 340_000_000\nbreakpoint()\n"), pause_on=set()) as run:
        await run.pause()
        (card,) = [c for c in await run.client.cards(0, "module") if c.name == "text"]
        assert "2040000000" in card.text and len(card.text) < 300
        assert len((await run.client.read_text("text"))["text"]) < 3_000_000
        await run.client.seen()
        assert await run.step("on") is None


async def test_figures_of_matplotlib_are_kept(script, tmp_path) -> None:
    path = script("import matplotlib.pyplot as plt\nplt.plot([1, 2])\nplt.title('stage')\nplt.show()\nx = 1\n")
    async with running(path, pause_at_end=True) as run:
        facts = await run.pause()
        assert facts.reason == "end", facts.headline
        assert await run.client.figures() == [{"number": 1, "title": "stage", "axes": 1}]
        await run.client.figures(1, str(tmp_path / "stage.svg"))
    assert "<svg" in (tmp_path / "stage.svg").read_text()
    assert "non-interactive" not in run.err


# -- figures against the libraries' own --------------------------------------------------------------


@given(st.lists(FLOATS, max_size=60))
def test_measures_agree_with_numpy(data: list[float]) -> None:
    a = np.array(data, dtype=float)
    m = statistics.measure(np, a)
    fine = a[np.isfinite(a)]
    assert (m.nan, m.pinf, m.ninf) == (np.isnan(a).sum(), (a == np.inf).sum(), (a == -np.inf).sum())
    assert m.zero == (fine == 0).sum() and m.negative == (fine < 0).sum()
    if fine.size:
        assert m.low == fine.min() and m.high == fine.max()
        if np.abs(fine).max() < 1e150:
            scale = max(np.abs(fine).max(), 1e-300)
            assert m.mean == pytest.approx(fine.mean(), rel=1e-9, abs=1e-9 * scale)
            assert m.std == pytest.approx(fine.std(), rel=1e-6, abs=1e-7 * scale)


@given(st.integers(1, 5), st.integers(60_000, 140_000), st.sampled_from(["C", "F", "strided"]), st.integers(0, 99))
@settings(max_examples=15, deadline=None)
def test_measures_of_many_chunks(dims: int, size: int, order: str, seed: int) -> None:
    rng = np.random.default_rng(seed)
    a = rng.normal(5, 2, (dims, size))
    a = np.asfortranarray(a) if order == "F" else a[:, ::3] if order == "strided" else a
    a[rng.integers(0, dims, 5), rng.integers(0, a.shape[1], 5)] = np.nan
    m = statistics.measure(np, a)
    assert m.nan == np.isnan(a).sum() and m.low == np.nanmin(a) and m.high == np.nanmax(a)
    assert m.mean == pytest.approx(np.nanmean(a)) and m.std == pytest.approx(np.nanstd(a))
    flat = np.flatnonzero(~np.isfinite(a))
    assert statistics.bad_places(np, a, 3) == flat[:3].tolist()
    assert statistics.bad_places(np, a, 1, int(flat[0])) == flat[1:2].tolist()
    assert statistics.bad_places(np, a, 1, int(flat[-1]), True) == flat[:-1][-1:].tolist()


@given(st.lists(FLOATS, min_size=1, max_size=300), st.integers(1, 40))
def test_peaks_and_bad_cells_survive_the_reduction(data: list[float], columns: int) -> None:
    a = np.array(data)
    lows, highs, marks = downsample.extremes(np, a, columns)
    fine = a[np.isfinite(a)]
    assert len(lows) == len(highs) == len(marks) == min(columns, a.size)
    if fine.size:
        assert np.nanmin(lows) == fine.min() and np.nanmax(highs) == fine.max()
    assert (set(marks) == {"."}) == bool(np.isfinite(a).all())
    bounds = downsample.edges(np, a.size, min(columns, a.size))
    for n, mark in enumerate(marks):
        part = a[bounds[n] : bounds[n + 1]]
        assert (mark == ".") == bool(np.isfinite(part).all())


@given(st.integers(1, 30), st.integers(1, 30), st.integers(1, 12), st.integers(1, 12), st.integers(0, 50))
@settings(max_examples=40)
def test_heat_blocks_keep_bad_cells_and_extremes(height: int, width: int, rows: int, columns: int, seed: int) -> None:
    rng = np.random.default_rng(seed)
    a = rng.normal(0, 1, (height, width))
    a.flat[seed % a.size] = np.inf
    out, marks = downsample.blocks(np, a, rows, columns)
    assert sum(mark == "+" for row in marks for mark in row) == 1
    fine = a[np.isfinite(a)]
    if a.size > 1:
        away = np.abs(fine - fine.mean())
        furthest = fine[np.isclose(away, away.max())]
        assert any(np.isclose(out, far).any() for far in furthest), "of all cells, the one furthest from their mean"


@given(st.lists(FLOATS, min_size=1, max_size=50), st.lists(FLOATS, min_size=1, max_size=50))
def test_comparison_agrees_with_numpy(one: list[float], other: list[float]) -> None:
    size = min(len(one), len(other))
    a, b = np.array(one[:size]), np.array(other[:size])
    told = compare.compare(np, a, b, 1e-9, 1e-6)
    with np.errstate(all="ignore"):
        assert told["differ"] == int((~np.isclose(a, b, rtol=1e-6, atol=1e-9, equal_nan=True)).sum())


@given(st.lists(st.one_of(FLOATS, st.none()), min_size=1, max_size=30))
def test_columns_agree_with_pandas(data: list) -> None:
    from uneven_sum.agent.values.describe import facts

    told = dict(facts(pd.Series(data, dtype=float)))
    assert told["missing"] == str(pd.Series(data, dtype=float).isna().sum())
    assert told["distinct"] == str(pd.Series(data, dtype=float).nunique())


def test_slices() -> None:
    assert parse_slice("[3, :, ::2]", 3) == (3, slice(None), slice(None, None, 2))
    assert parse_slice("..., -1", 3) == (Ellipsis, -1)
    for wrong in ("[x]", "[1.5]", "[1, 2, 3, 4]", "[1:2:3:4]", "__import__"):
        with pytest.raises(BadSlice):
            parse_slice(wrong, 3)
    assert array_grid(np.zeros((2, 3, 4))).rows == 3


# -- how they are shown ------------------------------------------------------------------------------


@given(
    st.lists(st.one_of(FLOATS, st.integers(-(10**9), 10**9)), min_size=1, max_size=20),
    st.sampled_from(STYLES),
    st.integers(1, 12),
)
def test_decimals_line_up(values: list, style: str, digits: int) -> None:
    texts = aligned([shown(v, Format(style, digits)) for v in values])
    assert len({len(t) for t in texts}) == 1
    if style in ("general", "fixed", "exact"):
        plain = [t for t in texts if re.fullmatch(r"\s*-?\d+\.\d+\s*", t)]
        assert len({t.index(".") for t in plain}) <= 1


@given(st.floats(allow_nan=False, allow_infinity=False))
def test_numbers_can_be_read_back(value: float) -> None:
    assert float(shown(value, Format("exact"))) == value
    assert float(shown(value, Format("scientific", 17))) == value
    assert float(shown(value, Format("engineering", 6))) == pytest.approx(value, rel=1e-5, abs=5e-324)
    assert float.fromhex(shown(value, Format("hexadecimal"))) == value
    assert shown(1234567.5, Format("fixed", 1, True)) == "1,234,567.5"


@given(st.floats(-1e300, 1e300), st.floats(-1e300, 1e300), st.integers(2, 12))
@example(0.0, 5e-324, 4)
def test_ticks_are_round_and_within(a: float, b: float, most: int) -> None:
    axis = Axis(min(a, b), max(a, b))
    ticks = axis.ticks(most)
    assert len(ticks) <= most + 3
    slop = (axis.high / 2 - axis.low / 2) * 1e-6
    assert all(axis.low - slop <= tick <= axis.high + slop for tick in ticks)
    assert 0 <= axis.place(a) <= 1 and 0 <= axis.place(b) <= 1


def line_data() -> dict:
    a = np.sin(np.arange(400) / 30)
    a[100:140], a[250], a[300] = np.nan, np.inf, -np.inf
    from uneven_sum.agent.values.grid_page import reduced_series

    return reduced_series(np, [("stage", a)], 0, 400, 50)


def test_a_drawn_line_has_gaps_marks_and_round_ticks() -> None:
    drawn = DRAW["line"](line_data(), 70, 20, CHALK, Format())
    rows = ["".join(s.text for s in strip) for strip in drawn.canvas.strips(CHALK.ground, CHALK.text)]
    marks = rows[17]
    assert marks.count("!") >= 5 and marks.count("^") == 1 and marks.count("v") == 1
    gap = slice(marks.index("!") + 1, marks.rindex("!") - 1)
    assert all(set(row[gap]) <= {" "} for row in rows[:17]), "no line across the gap"
    assert "0.5" in "".join(rows) and "200" in rows[19]
    assert "nan" in drawn.read(11 + 18, 3)


@pytest.mark.parametrize("ending", ["svg", "pdf"])
def test_files_hold_points_gaps_and_marks(ending: str, tmp_path) -> None:
    path = tmp_path / f"plot.{ending}"
    write_plot("line", line_data(), str(path), "stage — rating_year.py, line 35, pass 212")
    data = path.read_bytes()
    if ending == "pdf":
        assert data.startswith(b"%PDF") and data.rstrip().endswith(b"%%EOF")
        return
    tree = ElementTree.fromstring(data)
    groups = {g.get("id"): g for g in tree.iter("{http://www.w3.org/2000/svg}g") if g.get("id")}
    line = groups["line-0"].find(".//{http://www.w3.org/2000/svg}path").get("d")
    assert line.count("M") >= 2, "the line is broken at the gap"
    for word in ("nan", "inf", "-inf"):
        assert groups[f"bad-0-{word}"].findall(".//{http://www.w3.org/2000/svg}use")
    texts = "".join(t for t in tree.itertext())
    assert "rating_year.py, line 35" in texts and "nan:" in texts


def test_all_plots_are_written(tmp_path) -> None:
    from uneven_sum.agent.values.grid_page import b64

    heat = {"shape": [2, 2], "data": b64(np.array([[1.0, 2.0], [np.nan, 4.0]])), "marks": ["..", "n."], "of": [20, 20]}
    kinds = {
        "histogram": {"names": ["x"], **downsample.histogram(np, np.array([1.0, 2, 2, np.nan]), 4)},
        "heat": heat,
        "scatter": {"names": ["x", "y"], **downsample.scatter(np, [1.0, 2, np.nan], [3.0, 4, 5], 10, 10)},
        "frequent": {"names": ["gauge"], "bars": [["sill", 3], ["weir", 1]], "distinct": 2},
        "box": {"names": ["depth", "gauge"], "boxes": downsample.boxes(np, [1.0, 2, 3, np.nan], ["a", "a", "a", "b"])},
        "image": {"shape": [1, 2, 3], "data": b64(np.zeros((1, 2, 3), dtype="u1")), "of": [1, 2], "bad": 0},
    }
    for kind, data in kinds.items():
        for palette in (SLATE, CHALK):
            DRAW[kind](data, 60, 20, palette, Format())
        write_plot(kind, data, str(tmp_path / f"{kind}.svg"), kind)
        assert "</svg>" in (tmp_path / f"{kind}.svg").read_text()
    write_plot("heat", heat, str(tmp_path / "x.png"), "")
    assert (tmp_path / "x.png").read_bytes().startswith(b"\x89PNG")
    with pytest.raises(ValueError, match=r"\.svg, \.pdf or \.png"):
        write_plot("heat", heat, str(tmp_path / "x.jpg"), "")


def test_texts_fold() -> None:
    kind, parts = folded(json.dumps({"a": [1, {"b": None}], "c": "x"}))
    assert kind == "JSON" and parts[0] == ("a  2 parts", [("[0]", "1"), ("[1]  1 parts", [("b", "null")])])
    kind, parts = folded("<basin name='quillmere'><sill>4.0</sill></basin>")
    assert kind == "XML" and parts == [('basin name="quillmere"', [("sill", "4.0")])]
    assert folded("plain words") is None and folded("{not json") is None and folded("<" * 100_000) is None


def test_a_summary_as_markdown() -> None:
    text = summary_markdown("flow", "numpy.ndarray", "365 cells", [["nan", "3"], ["a|b", "x\ny"]], "flow — rating")
    assert "| nan | 3 |" in text and "a\\|b" in text and "x y" in text
