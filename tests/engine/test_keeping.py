"""Calls kept as tests and as small scripts: each is run with the fault and without it."""

from __future__ import annotations

import ast
import asyncio
import subprocess
import sys
import tempfile
from pathlib import Path

import pytest
from driving import running

from uneven_sum.check import check
from uneven_sum.client import BadUse, Launch
from uneven_sum.client.fault import Repair
from uneven_sum.client.keeping.call import SavedCall, calls_of, save
from uneven_sum.client.keeping.copies import in_copy
from uneven_sum.client.keeping.proof import Files, Proof, default_place, free, prove, write
from uneven_sum.client.keeping.smaller import Smaller
from uneven_sum.client.keeping.text import checked, script_text
from uneven_sum.client.repairs import repairs
from uneven_sum.protocol import Facts

pytestmark = pytest.mark.usefixtures("own_folder")

NP = "import numpy as np\n"
WEIR = NP + (
    "COEFFICIENT = 1.7\n\n\nclass Weir:\n    def __init__(self, sill):\n        self.sill = sill\n"
    "        self.heads = []\n\n    def flow(self, level, scale=1.0):\n        head = level - self.sill\n"
    "        self.heads.append(head)\n        level = level * 2\n        return COEFFICIENT * scale * np.sqrt(head) ** 3\n\n\n"
)
# A script; the function whose call is kept; a text in its arguments; a line of it and what mends that.
CASES: dict[str, tuple[str, str, str, str, str]] = {
    "method": (
        WEIR + "weir = Weir(0.5)\nfor level in (0.9, 0.8, 0.2):\n    print(weir.flow(level, scale=2.0))\n",
        "Weir.flow",
        "self = made(module.Weir, sill=0.5, heads=[0.4, 0.30000000000000004])",
        "        head = level - self.sill\n",
        "        head = max(level - self.sill, 0.0)\n",
    ),
    "arrays": (
        NP + "def share(flows, widths):\n    flows[0] += 1.0\n    return flows / widths\n\n\n"
        "widths = np.ones(40)\nwidths[7] = 0.0\nprint(share(np.arange(40.0), widths).sum())\n",
        "share",
        'flows = np.load(DATA / "flows.npy")',
        "    return flows / widths\n",
        "    return flows / np.where(widths == 0.0, 1.0, widths)\n",
    ),
    "generator": (
        "def parts(xs):\n    for x in xs:\n        yield 1.0 / x\n\n\nprint(sum(parts([2.0, 0.0])))\n",
        "parts",
        "result = list(module.parts(xs))",
        "        yield 1.0 / x\n",
        "        yield 1.0 / x if x else 0.0\n",
    ),
    "coroutine": (
        "import asyncio\nimport math\n\n\nasync def root(x):\n    return math.sqrt(x)\n\n\nprint(asyncio.run(root(-1.0)))\n",
        "root",
        "result = asyncio.run(module.root(x))",
        "    return math.sqrt(x)\n",
        "    return math.sqrt(abs(x))\n",
    ),
    "data class, enumeration, dates": (
        "import datetime\nimport enum\nfrom dataclasses import dataclass, field\n\n\nclass Kind(enum.Enum):\n    WEIR = 1\n\n\n"
        "@dataclass\nclass Gauge:\n    name: str\n    kind: Kind\n    since: datetime.date\n    heads: dict = field(default_factory=dict)\n\n\n"
        "def slope(gauge, *more, unit, **rest):\n    more = None\n    return 1.0 / gauge.heads['low']\n\n\n"
        "print(slope(Gauge('north', Kind.WEIR, datetime.date(2031, 5, 1), {'low': 0.0}), 1, 2, unit='m', at=(1,)))\n",
        "slope",
        "gauge = made(module.Gauge, name='north', kind=module.Kind.WEIR, since=datetime.date(2031, 5, 1)",
        "    return 1.0 / gauge.heads['low']\n",
        "    return 1.0 / (gauge.heads['low'] or 1.0)\n",
    ),
    "random numbers": (
        NP + "def noisy(rng, scale):\n    x = rng.normal(size=3)\n    return np.log(x - x[0]) * scale\n\n\n"
        "rng = np.random.default_rng(4)\nrng.normal()\nprint(noisy(rng, 2.0))\n",
        "noisy",
        "rng = generator({'bit_generator': 'PCG64'",
        "    return np.log(x - x[0]) * scale\n",
        "    return np.log(np.abs(x) + 1.0) * scale\n",
    ),
    "frame": (
        "import numpy as np\nimport pandas as pd\n\n\ndef rate(frame, column):\n    return frame['flow'] / frame[column]\n\n\n"
        "days = pd.date_range('2031-01-01', periods=3)\n"
        "frame = pd.DataFrame({'flow': [1.0, 2.0, 3.0], 'width': [1.0, 0.0, 2.0], 'name': ['a', 'b', 'c']}, index=days)\n"
        "print(rate(frame, 'width'))\n",
        "rate",
        'frame = pd.read_parquet(DATA / "frame.parquet")',
        "    return frame['flow'] / frame[column]\n",
        "    return frame['flow'] / frame[column].replace(0.0, 1.0)\n",
    ),
}


async def pause_of(launch: Launch) -> Facts:
    return (await check(launch)).pauses[0]


def place_of(facts: Facts, function: str) -> int:
    return next(place for place in calls_of(facts) if facts.trail[place].function == function)


async def kept(path: str, function: str, folder: Path, **how) -> tuple[Facts, SavedCall]:
    launch = Launch(path, cwd=str(Path(path).parent))
    facts = await pause_of(launch)
    folder.mkdir(exist_ok=True)
    return facts, await save(launch, facts, place_of(facts, function), folder, **how)


async def proved(call: SavedCall, place: Path, expected: str, facts: Facts, known: list[Repair]) -> Proof:
    async for proof in prove(call, place, expected, facts, Files.of(Launch(""), {}), known):
        last = proof
    return last


@pytest.mark.parametrize("name", CASES)
async def test_a_kept_test_fails_with_the_fault_and_passes_with_its_repair(name: str, script, tmp_path) -> None:
    text, function, part, old, new = CASES[name]
    path = script(text)
    facts, call = await kept(path, function, tmp_path / "data")
    place = default_place(call)
    assert place == Path(path).with_name(f"test_{function.rpartition('.')[2]}.py")
    first = text[: text.index(old)].count("\n") + 1
    repair = Repair("mended", new.strip("\n"), "")
    facts.line = facts.end_line = first
    proof = await proved(call, place, "finite", facts, [repair])
    assert proof.shows, proof.fault
    assert part in proof.text
    assert proof.tried[0][1].passed, proof.tried
    write(call, place, proof.text)
    assert run_by_pytest(place) == 1
    Path(path).write_text(text.replace(old, new))
    assert run_by_pytest(place) == 0


def run_by_pytest(place: Path) -> int:
    command = [sys.executable, "-m", "pytest", "-q", "-p", "no:cacheprovider", str(place)]
    return subprocess.run(command, capture_output=True, cwd=place.parent).returncode


@pytest.mark.parametrize("name", CASES)
async def test_a_small_script_trips_at_the_same_term_in_a_fresh_folder(name: str, script, tmp_path) -> None:
    text, function, *_ = CASES[name]
    path = script(text)
    facts, call = await kept(path, function, tmp_path / "data", alone=True)
    launch = Launch(path, cwd=str(Path(path).parent))
    small = await Smaller(call, facts, launch, text).script(tmp_path / "small.py")
    fresh = tmp_path / "fresh"
    fresh.mkdir()
    (fresh / "small.py").write_text(small)
    again = await pause_of(Launch(str(fresh / "small.py"), cwd=str(fresh)))
    assert again.statement == facts.statement
    assert (again.culprit and again.culprit.text) == (facts.culprit and facts.culprit.text)
    assert again.reason == facts.reason
    assert list(fresh.iterdir()) == [fresh / "small.py"]


async def test_rows_columns_and_arguments_are_left_out(script, tmp_path) -> None:
    text = NP + (
        "def share(flows, widths, table, note='none', scale=1.0):\n    return scale * flows / widths + table[:, 2].sum()\n\n\n"
        "widths = np.ones(300)\nwidths[207] = 0.0\n"
        "print(share(np.arange(300.0), widths, np.ones((50, 6)), note='x', scale=1.0)[0])\n"
    )
    facts, call = await kept(script(text), "share", tmp_path / "data", alone=True)
    said: list[str] = []
    search = Smaller(call, facts, Launch(call.file, cwd=str(tmp_path)), text, said.append)
    small = await search.script(tmp_path / "small.py")
    assert "note = " not in small and "scale = " not in small
    assert "flows = np.array([207.0]" in small and "widths = np.array([0.0]" in small
    assert search.windows["table"].rows[1] - search.windows["table"].rows[0] == 1
    assert search.windows["table"].columns == (0, 3)
    assert any("of 300 rows are left" in one for one in said)


async def test_the_arguments_are_those_at_the_beginning_of_the_call(script, tmp_path) -> None:
    """They have changed by the time of the pause: the name is bound again, the list is emptied."""
    text = (
        "def last(xs, k):\n    while xs:\n        xs.pop()\n    k = 3\n    return xs[0] + k\n\n\nlast([1.0, 2.0], 0)\n"
    )
    _, call = await kept(script(text), "last", tmp_path / "data")
    assert [one.text for one in call.arguments] == ["[1.0, 2.0]", "0"]


async def test_names_of_the_module_are_kept_as_they_were(script, tmp_path) -> None:
    text = "import math\n\nsills = [0.5]\n\n\ndef head(level):\n    return math.sqrt(level - limit)\n\n\nlimit = max(sills)\nhead(0.2)\n"
    facts, call = await kept(script(text), "head", tmp_path / "data")
    assert call.values == {"limit": "0.5"}
    proof = await proved(call, default_place(call), "finite", facts, repairs(facts, text))
    assert proof.shows and "clamp to zero" in proof.passes


async def test_a_module_that_is_imported_is_imported_by_the_test(script, tmp_path) -> None:
    folder = tmp_path / "own"
    (folder / "flows").mkdir(parents=True)
    (folder / "flows/__init__.py").write_text("")
    (folder / "flows/weir.py").write_text("def share(a, b):\n    return a / b\n")
    (folder / "tests").mkdir()
    path = folder / "run.py"
    path.write_text("from flows.weir import share\nprint(share(1.0, 0.0))\n")
    facts, call = await kept(str(path), "share", tmp_path / "data")
    place = default_place(call)
    assert place == folder / "tests/test_share.py"
    proof = await proved(
        call, folder / "tests/test_share.py", "finite", facts, repairs(facts, "def share(a, b):\n    return a / b\n")
    )
    assert proof.shows and "import flows.weir" in proof.text
    assert "count as zero" in proof.passes
    assert (folder / "flows/weir.py").read_text().endswith("return a / b\n")


async def test_what_is_expected(script, tmp_path) -> None:
    text = "def half(x, n):\n    assert n\n    return x / 2 / n\n\n\nhalf(3.0, 0)\n"
    facts, call = await kept(script(text), "half", tmp_path / "data")
    assert checked("", call) == "is_finite(result)"
    assert checked("1.5", call) == "result == 1.5"
    assert checked("result >= 0", call) == "result >= 0"
    assert checked("rows of x kept", call) == "len(result) == len(x)"
    with pytest.raises(BadUse, match="is no condition"):
        checked("result >", call)
    proof = await proved(call, default_place(call), "1.5", facts, [])
    assert proof.shows and proof.fault.kind == "AssertionError"


async def test_a_test_that_passes_with_the_fault_is_not_shown_as_one_that_fails(script, tmp_path) -> None:
    text = NP + "def safe(x):\n    y = np.log(x)\n    return np.nan_to_num(y)\n\n\nsafe(np.array([-1.0]))\n"
    facts, call = await kept(script(text), "safe", tmp_path / "data")
    proof = await proved(call, default_place(call), "finite", facts, [])
    assert not proof.shows and proof.fault.passed


CANNOT = {
    "def f(x):\n    return next(x) / 0\n\n\nf(i for i in (1.0,))\n": "x cannot be kept: a generator",
    "def f(x):\n    return 1 / 0\n\n\nwith open(__file__) as one:\n    f(one)\n": "x cannot be kept: an open file",
    "import threading\n\n\ndef f(x):\n    return 1 / 0\n\n\nf(threading.Lock())\n": "x cannot be kept: a lock",
    "def f():\n    def g(x):\n        return 1 / x\n\n    return g(0)\n\n\nf()\n": "g is defined inside another function",
    "def f(x):\n    return 1 / 0\n\n\nx = []\nx.append(x)\nf(x)\n": "contains itself",
    NP + "def f(x):\n    return 1 / 0\n\n\nf(np.zeros(20_000_000))\n": "x is too large: 153 MB",
    "def f(x):\n    return 1 / 0\n\n\nf(lambda: 1)\n": "has no name that can be imported",
}


@pytest.mark.parametrize("text", CANNOT)
async def test_what_cannot_be_kept_is_said(text: str, script, tmp_path) -> None:
    launch = Launch(script(text))
    facts = await pause_of(launch)
    (tmp_path / "data").mkdir()
    with pytest.raises(BadUse, match=CANNOT[text]):
        await save(launch, facts, calls_of(facts)[0], tmp_path / "data")


async def test_a_pause_outside_of_functions_has_no_call(script) -> None:
    facts = await pause_of(Launch(script("x = 1 / 0\n")))
    assert calls_of(facts) == []


async def test_a_name_of_its_own_for_each_file(tmp_path) -> None:
    (tmp_path / "test_flow.py").touch()
    (tmp_path / "test_flow_2.py").touch()
    assert free(tmp_path / "test_flow.py") == tmp_path / "test_flow_3.py"


async def test_a_script_that_runs_otherwise_each_time(script, tmp_path) -> None:
    """The call is not found again."""
    marker = tmp_path / "seen"
    text = f"import os\n\n\ndef f(x):\n    return 1 / x\n\n\nif not os.path.exists({str(marker)!r}):\n    open({str(marker)!r}, 'w').close()\n    f(0)\n"
    launch = Launch(script(text))
    async with running(launch) as run:
        facts = await run.pause()
    with pytest.raises(BadUse, match="was not found again"):
        await save(Launch(launch.program), facts, 1, tmp_path)


@pytest.mark.interpreters
async def test_a_call_is_kept_in_each_interpreter(interpreter: str, script, tmp_path) -> None:
    text, function, part, *_ = CASES["method"]
    launch = Launch(script(text), python=interpreter, pause_on={"error", "nonfinite"})
    try:
        facts = await pause_of(launch)
    except IndexError:
        pytest.skip("no NumPy for this interpreter")
    if facts.function != function:
        pytest.skip("no NumPy for this interpreter")
    (tmp_path / "data").mkdir()
    call = await save(launch, facts, place_of(facts, function), tmp_path / "data")
    assert part.partition(" = ")[2] in {one.text for one in call.arguments}


async def test_a_finding_is_shown_by_a_small_script_too(script, tmp_path) -> None:
    """No pause comes of its own: an audit finds the same at the same term."""
    text = NP + (
        "def total(counts, unit='m'):\n    doubled = counts + counts\n    return doubled.sum()\n\n\n"
        "counts = np.ones(200, dtype=np.int16)\ncounts[150] = 30000\nprint(total(counts))\n"
    )
    path = script(text)
    audit = Launch(path, cwd=str(tmp_path), audit=[], pause_on=set(), go_on=True, capture=True)
    (finding,) = (await check(audit)).findings
    launch = Launch(path, cwd=str(tmp_path))
    async with running(path, breakpoints={path: [finding.line]}, cwd=str(tmp_path)) as run:
        facts = await run.pause()
    (tmp_path / "data").mkdir()
    call = await save(launch, facts, 1, tmp_path / "data", alone=True)
    small = await Smaller(call, facts, launch, text, finding=finding).script(tmp_path / "small.py")
    assert "counts = np.array([30000], dtype='int16')" in small
    assert "unit = " not in small
    (tmp_path / "small.py").write_text(small)
    audit = Launch(str(tmp_path / "small.py"), audit=[], pause_on=set(), go_on=True, capture=True)
    assert [(f.rule, f.term) for f in (await check(audit)).findings] == [("wrap", "counts + counts")]


async def test_where_nothing_is_returned_the_arguments_are_to_be_finite(script, tmp_path) -> None:
    text = (
        "class Tank:\n    def __init__(self):\n        self.volume = 1e308\n\n    def fill(self, flow):\n        self.volume += flow\n\n\n"
        "Tank().fill(1e308)\n"
    )
    facts, call = await kept(script(text), "Tank.fill", tmp_path / "data")
    proof = await proved(call, default_place(call), "finite", facts, [])
    assert proof.shows and "is_finite([self, flow])" in proof.text


async def test_a_test_finds_its_data_after_the_folder_was_moved(script, tmp_path) -> None:
    text = (
        "from pathlib import Path\n\nHERE = Path(__file__).parent\n\n\ndef share(path, k):\n"
        "    with open(HERE / path.name) as one:\n        return float(one.read()) / k\n\n\nprint(share(HERE / 'level.txt', 0))\n"
    )
    folder = tmp_path / "own"
    folder.mkdir()
    (folder / "run.py").write_text(text)
    (folder / "level.txt").write_text("2.5")
    facts, call = await kept(str(folder / "run.py"), "share", tmp_path / "data")
    place = default_place(call)
    proof = await proved(call, place, "finite", facts, [])
    assert proof.shows and proof.fault.kind == "ZeroDivisionError"
    assert "'HERE': pathlib.PosixPath(str(HERE))" in proof.text
    assert 'path = pathlib.PosixPath(str(HERE / "level.txt"))' in proof.text
    write(call, place, proof.text)
    moved = folder.rename(tmp_path / "moved")
    source = moved / "run.py"
    source.write_text(text.replace("/ k", "/ (k or 1)"))
    assert run_by_pytest(moved / place.name) == 0


@pytest.mark.parametrize(
    "call_it", ["list(map(root, [4.0, 1.0, -1.0, 2.0]))", "print(max([4.0, -1.0, 2.0], key=root))"]
)
async def test_of_calls_from_a_library_the_one_that_trips_is_kept(call_it: str, script, tmp_path) -> None:
    text = f"import math\n\n\ndef root(x):\n    return math.sqrt(x)\n\n\n{call_it}\n"
    _, call = await kept(script(text), "root", tmp_path / "data")
    assert [one.text for one in call.arguments] == ["-1.0"]


async def test_definitions_that_need_the_script_do_no_harm(script, tmp_path) -> None:
    text = "import math\n\n\ndef root(x):\n    return math.sqrt(x)\n\n\nlevels = [4.0]\nlevels += [-9.0]\ntwice = levels * 2\nlow = -(twice[1])\nroot(low - 18.0)\n"
    facts, call = await kept(script(text), "root", tmp_path / "data")
    proof = await proved(call, default_place(call), "finite", facts, [])
    assert proof.shows and proof.fault.kind == "ValueError"


async def test_a_copy_that_is_cancelled_leaves_nothing(script, tmp_path, monkeypatch) -> None:
    made = tmp_path / "scratch"  # within the folder that is copied
    made.mkdir()
    monkeypatch.setattr(tempfile, "tempdir", str(made))
    path = Path(script("x = 1\n"))
    for number in range(300):
        (path.parent / f"level_{number}.csv").write_text("0.5\n")

    async def run() -> None:
        async with in_copy(Launch(str(path), cwd=str(path.parent)), {}):
            await asyncio.sleep(60)

    for wait in (0.0, 0.005, 0.02, 0.3):
        task = asyncio.create_task(run())
        await asyncio.sleep(wait)
        task.cancel()
        await asyncio.gather(task, return_exceptions=True)
        assert list(made.iterdir()) == []


async def test_a_pause_that_is_no_trip_has_no_small_script(script, tmp_path) -> None:
    text = "def half(x):\n    return x / 2\n\n\nhalf(3.0)\n"
    path = script(text)
    async with running(path, breakpoints={path: [2]}) as run:
        facts = await run.pause()
    launch = Launch(path, cwd=str(tmp_path))
    (tmp_path / "data").mkdir()
    call = await save(launch, facts, 1, tmp_path / "data", alone=True)
    with pytest.raises(BadUse, match="is no trip"):
        await Smaller(call, facts, launch, text).script(tmp_path / "small.py")


async def test_a_required_argument_is_not_left_out_for_the_next(script, tmp_path) -> None:
    """Without the first, the second would take its place, and trip there too."""
    text = "import math\n\n\ndef root(x, y=1.0):\n    return math.sqrt(x) + y\n\n\nroot(-4.0, -9.0)\n"
    path = script(text)
    facts, call = await kept(path, "root", tmp_path / "data", alone=True)
    small = await Smaller(call, facts, Launch(path, cwd=str(tmp_path)), text).script(tmp_path / "small.py")
    assert "x = -4.0" in small and "y = " not in small


async def test_a_source_in_another_encoding(script, tmp_path) -> None:
    text = "# -*- coding: latin-1 -*-\ndef share(a):\n    unit = 'm\xb3'\n    return len(unit) / a\n\n\nshare(0)\n"
    path = tmp_path / "own" / "run.py"
    path.parent.mkdir()
    path.write_bytes(text.encode("latin-1"))
    facts, call = await kept(str(path), "share", tmp_path / "data", texts={str(path): text})
    assert len(call.arguments) == 1
    async for proof in prove(
        call, default_place(call), "2.0", facts, Files.of(Launch(""), {str(path): text}), repairs(facts, text)
    ):
        last = proof
    assert last.shows
    assert [name for name, _ in last.tried][0] == "count as zero"


@pytest.mark.parametrize("said", ['ends so: "x"', "a \\ in it", "ends in \\", 'three """ within', "plain."])
def test_any_words_stand_in_the_docstring(said: str) -> None:
    call = SavedCall("f", "/own/run.py", "f", [])
    text = script_text(call, Path("/own/small.py"), said, "def f():\n    return 1\n")
    words = ast.get_docstring(ast.parse(text), clean=False)
    assert words is not None and words.strip().endswith(said.replace('"""', "'''"))


def test_a_syntax_that_we_do_not_read_is_said() -> None:
    call = SavedCall("f", "/own/run.py", "f", [])
    with pytest.raises(BadUse, match=r"run.py, line 1, is in a syntax"):
        script_text(call, Path("/own/small.py"), "x.", "lazy import numpy as np\ndef f():\n    return 1\n")


def test_the_interpreter_is_the_one_of_the_run(tmp_path, monkeypatch) -> None:
    python = tmp_path / "bin" / "python"
    python.parent.mkdir()
    python.symlink_to(sys.executable)
    monkeypatch.setenv("VIRTUAL_ENV", str(tmp_path))
    assert Files.of(Launch("run.py"), {}).python == str(python)
    assert Files.of(Launch("run.py", python=sys.executable), {}).python == sys.executable
