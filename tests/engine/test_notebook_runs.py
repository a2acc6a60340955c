"""Notebooks that run: what cells may hold, their outputs, motion by cell, edits, bad input."""

from __future__ import annotations

import asyncio
import json
import subprocess
import sys
from pathlib import Path

import pytest
from as_notebook import V4, code, line_of, sources, value, write, written
from driving import PATIENCE, running

from uneven_sum.check import as_json, as_report, as_text
from uneven_sum.check import check as run_check
from uneven_sum.client import BadUse, CellEnded, Exited, Launch, LeftOut, Output, Stopped, Trouble
from uneven_sum.client.cell_motions import disorder
from uneven_sum.client.keeping import proof as keep
from uneven_sum.client.keeping.call import save as saved_call
from uneven_sum.client.keeping.smaller import Smaller
from uneven_sum.client.keeping.text import module_of_test
from uneven_sum.client.opened import open_file, save
from uneven_sum.client.sentences import parse, sentence
from uneven_sum.client.sources import as_python, line_in_cell, place_words
from uneven_sum.protocol import Lookout

MATPLOTLIB = "import matplotlib.pyplot as plt"


async def outputs_of(path: str, given: str = "") -> tuple[dict[int, list[tuple[str, str]]], str, list[str]]:
    """By cell what it has given; what was written; what was left out."""
    found, out, left = {}, "", []
    async with running(path, pause_on=set()) as run:
        if given:
            await run.client.write_input(given)
        await run.client.write_input(None)
        while not isinstance(event := await asyncio.wait_for(run.client.next_event(), PATIENCE), Exited):
            assert not isinstance(event, (Trouble, Stopped))
            if isinstance(event, CellEnded):
                found[event.number] = [(one["kind"], one["text"]) for one in event.outputs]
            elif isinstance(event, LeftOut):
                left.append(event.text)
            elif isinstance(event, Output) and event.category == "stdout":
                out += event.text
    return found, out, left


async def test_what_cells_give(tmp_path: Path) -> None:
    path = write(
        tmp_path / "a.ipynb",
        "import numpy as np\nx = np.arange(3.0)\nx",
        "x.sum();",
        "print('one')\ndisplay(x * 2)\nx.max()",
        "import asyncio\nawait asyncio.sleep(0)\n'done'",
        "None",
        "Out[1].sum(), _",
    )
    found, out, left = await outputs_of(path)
    assert found == {
        1: [("value", "array([0., 1., 2.])")],
        2: [],
        3: [("text", "one\n"), ("shown", "array([0., 2., 4.])"), ("value", "np.float64(2.0)")],
        4: [("value", "'done'")],
        5: [],
        6: [("value", "(np.float64(3.0), 'done')")],
    }
    assert out.startswith("array([0., 1., 2.])\none\narray([0., 2., 4.])\nnp.float64(2.0)\n'done'\n")
    assert left == []


async def test_magics_and_commands(tmp_path: Path) -> None:
    (tmp_path / "more.py").write_text("import sys\ngiven = sys.argv[1:]\nprint('more')\n")
    path = write(
        tmp_path / "a.ipynb",
        "%matplotlib inline\n%load_ext autoreload\n%autoreload 2\n%config InlineBackend.figure_format = 'svg'",
        "%env GAUGE=north\nimport os\nos.environ['GAUGE']",
        "name = 'sill'\n!echo {name} $name\nfound = !printf 'a\\nb\\n'\nfound",
        "%time total = sum(range(10))\ntotal",
        "%%time\nlater = 4\nlater",
        "%%capture kept\nprint('hidden')",
        "kept.stdout",
        "%run more.py 1 2\ngiven",
        "%timeit -n 3 -r 2 total",
        "%%writefile made.txt\nline",
        "%%bash\nexit 3",
        "get_ipython().run_line_magic('pip', 'install x')\nget_ipython().events.register('a', print)",
        "%who\n!pip install numpy",
    )
    found, _, left = await outputs_of(path)
    assert found[2][-1] == ("value", "'north'")
    assert found[3] == [("text", "sill sill\n"), ("value", "['a', 'b']")]
    assert found[4] == [("value", "45")]
    assert found[5][0] == ("value", "4") and found[5][1][1].startswith("Wall time: ")
    assert found[6] == [] and found[7] == [("value", "'hidden\\n'")]
    assert found[8] == [("text", "more\n"), ("value", "['1', '2']")]
    assert (tmp_path / "made.txt").read_text() == "line\n"
    assert left == [
        "Cell 11: not run, since it is written for %%bash.",
        "Cell 12: %pip install x is left out: packages are not changed in a run.",
        "Cell 12: get_ipython().events does nothing here.",
        "Cell 13: %who is left out.",
        "Cell 13: !pip install numpy is left out: packages are not changed in a run.",
    ]


async def test_figures_are_outputs_of_their_cell(tmp_path: Path) -> None:
    path = write(
        tmp_path / "a.ipynb",
        f"%matplotlib inline\n{MATPLOTLIB}\nplt.plot([1, 2])\nplt.show()\nplt.plot([2, 1])\nprint('two')",
        "plt.get_fignums()",
    )
    async with running(path, pause_at_end=True) as run:
        assert (await run.pause()).reason == "end"
        cells, _ = await run.client.cells()
        kinds = [(one.kind, one.data) for one in cells[0].outputs]
        assert kinds == [("figure", ["image/png"]), ("text", []), ("figure", ["image/png"])]
        assert [one.text for one in cells[1].outputs] == ["[]"], "a figure that was shown is closed"
        assert (await run.client.cell_output(1, 2, "image/png")).startswith("iVBOR")
        with pytest.raises(BadUse, match="Cell 2 has no such output"):
            await run.client.cell_output(2, 0, "image/png")
        await run.client.go_on()


async def test_a_pause_awaiting_and_the_terms_of_a_last_expression(tmp_path: Path) -> None:
    path = write(
        tmp_path / "a.ipynb",
        "import asyncio\nasync def flow(head):\n    await asyncio.sleep(0)\n    return 1e200 * head",
        "await flow(1e200)",
        "head = 1e300\nhead * head",
    )
    async with running(path, go_on=True) as run:
        assert await run.pause() is None
    told = [(place_words(f.file, f.line), f.culprit.text) for f in run.trips]
    assert told == [("cell 1, line 4", "1e200 * head"), ("cell 3, line 2", "head * head")]
    assert run.trips[0].headline.startswith("inf created at cell 1, line 4: flow would return inf.")
    assert [place_words(c.file, c.line) for c in run.trips[0].trail] == ["cell 2, line 1", "cell 1, line 4"]


# -- motion ------------------------------------------------------------------------------------------

COUNTING = ["runs = []\nx = 1", "runs.append('two')\nx += 1", "runs.append('three')\nx *= 10", "x"]


async def test_the_next_cell_and_cells_again(tmp_path: Path) -> None:
    path = write(tmp_path / "a.ipynb", *COUNTING)
    async with running(path, pause_on={"start"}, pause_at_end=True, rewind=True) as run:
        client = run.client
        facts = await run.pause()
        assert (facts.reason, place_words(path, facts.line)) == ("entry", "cell 1, line 1")
        for number in (2, 3):
            await client.to_next_cell()
            facts = await run.pause()
            assert (place_words(path, facts.line), facts.state) == (f"cell {number}, line 1", "next")
        assert await run.ask("x") == "2"
        await client.run_from_cell(2, True)
        assert (await run.pause()).line == facts.line
        assert (await run.ask("x"), await run.ask("runs")) == ("3", "['two', 'two']")
        await client.session.points_up_to_here()
        point = client.point_before_cell(2)
        assert point is not None
        await client.back_to(point)
        facts = await run.pause()
        assert facts.headline.startswith("Back at the beginning of cell 2, at cell 2, line 1")
        assert (await run.ask("x"), await run.ask("runs")) == ("2", "['two']"), "as it was before it ran last"
        await client.run_from_cell(3, False)
        facts = await run.pause()
        assert facts.reason == "end"
        assert await run.ask("runs") == "['two', 'three']"
        cells, here = await client.cells()
        assert [(one.number, one.at) for one in cells] == [(1, 1), (2, 2), (3, 3), (4, 4)] and here == 0
        await client.run_from_cell(3, True)
        facts = await run.pause()
        assert (place_words(path, facts.line), await run.ask("x")) == ("cell 4, line 1", "200")
        await client.run_from_cell(2, True)
        await run.pause()
        cells, _ = await client.cells()
        assert disorder(cells) == {2: "ran again after cell 4", 3: "ran again after cell 4"}
        with pytest.raises(BadUse, match="There is no code cell 9"):
            await client.run_from_cell(9, True)
        await client.run_out()
        assert await run.pause() is None
    assert run.exited.exit_status == 0


async def test_a_cell_runs_with_its_new_text(tmp_path: Path) -> None:
    path = write(
        tmp_path / "a.ipynb",
        "def flow(head):\n    return 2.0 * head",
        "def other(head):\n    return head / 0.0",
        "y = flow(3.0)\nz = other(y)",
        "y",
    )
    async with running(path, pause_at_end=True, rewind=True) as run:
        client = run.client
        facts = await run.pause()
        assert place_words(path, facts.line) == "cell 2, line 2"
        opened = open_file(path)
        save(opened, opened.text.replace("return head / 0.0", "# twice\n    return head / 4.0"))
        await client.take_up_cells(path)
        cells, here = await client.cells()
        assert here == 3
        assert disorder(cells) == {2: "changed after cell 3 ran"}
        await client.run_from_cell(2, False)
        facts = await run.pause()
        assert facts.reason == "end"
        assert await run.ask("z") == "1.5"
        await client.session.request(
            "unevenSum/setLookouts",
            {"lookouts": [{"id": 1, "where": "line", "file": path, "line": line_of(path, 1, 2)}]},
        )
        await client.run_from_cell(3, False)
        facts = await run.pause()
        assert (facts.reason, place_words(path, facts.line)) == ("breakpoint", "cell 1, line 2")
        assert facts.statement == "return 2.0 * head"
        broken = open_file(path)
        save(broken, broken.text.replace("y = flow(3.0)", "y = flow(3.0"))
        with pytest.raises(BadUse, match="cannot be compiled, cell 3, line 1"):
            await client.take_up_cells(path)


async def test_a_pause_before_each_cell(tmp_path: Path) -> None:
    path = write(tmp_path / "a.ipynb", *COUNTING)
    async with running(path, start={"lookouts": [Lookout(1, where="cell")]}) as run:
        seen = []
        while (facts := await run.pause()) is not None:
            seen.append(place_words(path, facts.line))
            await run.client.go_on()
    assert seen == ["cell 2, line 1", "cell 3, line 1", "cell 4, line 1"]


def test_places_of_cells_are_read_and_written(tmp_path: Path) -> None:
    path = write(tmp_path / "a.ipynb", V4.new_markdown_cell("# A"), "x = 1\ny = 2", "z = 3")
    line = line_of(path, 2, 2)
    lookout = parse("pause at cell 2, line 2 of a.ipynb when `y > 1`", path)
    assert (lookout.file, lookout.line) == (path, line)
    assert sentence(lookout) == "pause at cell 2, line 2 of a.ipynb when `y > 1`"
    assert parse("pause at cell 2:2", path).line == line
    assert sentence(parse("pause before each cell", path)) == "pause before each cell"
    with pytest.raises(ValueError, match="has no cell 7: it has 3"):
        parse("pause at cell 7:1", path)
    with pytest.raises(BadUse, match=r"Cell 3 of a\.ipynb has no line 5: it has 1"):
        line_in_cell(path, 3, 5)
    script = tmp_path / "s.py"
    script.write_text("import os\n# %% one\nx = 1\n")
    assert line_in_cell(str(script), 2, 1) == 3


# -- check -------------------------------------------------------------------------------------------


async def test_check_says_whether_a_notebook_gives_what_it_shows(tmp_path: Path) -> None:
    cells = [
        code("x = 2.0", 1),
        code("x * 3", 3, "", (value("6.0"),)),
        code("print('sum', x)", 2, "", (written("sum 9.0\n"),)),
    ]
    path = write(tmp_path / "a.ipynb", *cells)
    outcome = await run_check(Launch(path, capture=True))
    assert outcome.our_status == 1
    assert [(one.number, one.kind) for one in outcome.hidden] == [(3, "order"), (3, "output")]
    assert "Cell 3: the output differs. Stored: sum 9.0; now: sum 2.0.\n" in as_text(outcome)
    assert {"cell": 3, "kind": "output", "text": "stored: sum 9.0; now: sum 2.0"} in json.loads(as_json(outcome))[
        "notebook"
    ]
    cells[2].outputs[0]["text"] = "sum 2.0\n"
    outcome = await run_check(Launch(write(tmp_path / "a.ipynb", *cells), capture=True))
    assert outcome.our_status == 0, "an order alone is no fault of the results"


async def test_check_tells_names_that_only_a_later_cell_assigns(tmp_path: Path) -> None:
    path = write(tmp_path / "a.ipynb", "x = 1", "y = x + later", "later = 2", "vanished(y)")
    outcome = await run_check(Launch(path, capture=True))
    told = [(one.number, one.text) for one in outcome.hidden if one.kind == "name"]
    assert told == [
        (2, "`later` is assigned only in cell 3, which comes later"),
        (4, "`vanished` is not defined"),
    ]
    facts = json.loads(as_json(outcome))["pauses"][0]
    assert facts["cell"] == {"number": 2, "id": "c2", "line": 1}
    assert facts["trail"][0]["cell"]["number"] == 2
    report = as_report(Launch(path), outcome)
    assert "error at cell 2, line 1 of a.ipynb" in report
    assert "cell 2\n  in     1  y = x + later" in report


async def test_the_audit_of_a_notebook(tmp_path: Path) -> None:
    path = write(
        tmp_path / "a.ipynb", "import numpy as np", "a = np.array([30000, 30000], dtype=np.int16)\nb = a + a\nb"
    )
    outcome = await run_check(Launch(path, capture=True, audit=[], pause_on=set(), checks=False))
    assert [(place_words(f.file, f.line), f.rule) for f in outcome.findings] == [("cell 2, line 2", "wrap")]
    told = json.loads(as_json(outcome))["findings"][0]
    assert told["in_cell"] == {"number": 2, "id": "c2", "line": 2}


# -- files -------------------------------------------------------------------------------------------


def test_an_edit_keeps_what_another_program_has_written(tmp_path: Path) -> None:
    path = write(tmp_path / "a.ipynb", "x = 1", code("y = 2", 4, "", (value("2"),)))
    opened = open_file(path)
    save(opened, opened.text.replace("x = 1", "x = 5"))
    assert sources(path) == ["x = 5", "y = 2"]
    assert json.loads(Path(path).read_text())["cells"][1]["outputs"]
    other = Path(path).read_text().replace("y = 2", "y = 3")
    Path(path).write_text(other)
    with pytest.raises(BadUse, match="changed by another program"):
        save(opened, opened.text.replace("x = 5", "x = 6"))
    assert Path(path).read_text() == other


BAD = {
    "nothing": (json.dumps({"nbformat": 4, "nbformat_minor": 5, "metadata": {}, "cells": []}), "has no code cells"),
    "damaged": ('{"cells": [,]}', "is damaged at line 1, column 12"),
    "old": (json.dumps({"nbformat": 3, "worksheets": []}), "is of nbformat 3"),
    "syntax": (None, "cell 2, line 2"),
    "nul": (None, "cell 1: it holds a NUL character"),
}


@pytest.mark.parametrize("name", BAD)
def test_what_is_wrong_is_said_and_the_file_stays(name: str, tmp_path: Path) -> None:
    text, said = BAD[name]
    path = tmp_path / "a.ipynb"
    if text is None:
        write(path, *(["x = 1", "y = 2\nz = = 3"] if name == "syntax" else ["x = '\0'"]))
    else:
        path.write_text(text)
    before = path.read_bytes()
    ran = subprocess.run(
        [sys.executable, "-m", "uneven_sum", "check", str(path)], capture_output=True, text=True, cwd=tmp_path
    )
    assert ran.returncode == 2 and said in ran.stderr and "Traceback" not in ran.stderr
    assert ("z = = 3" in ran.stderr) is (name == "syntax")
    assert path.read_bytes() == before


async def test_odd_cells(tmp_path: Path) -> None:
    path = write(
        tmp_path / "a.ipynb",
        "x = 1\r\ny = 2\r\nx + y",
        "\fz = 3\nz",
        "  ",
        "# only a note",
        "name = input('who? ')\nname",
        "class A:\n    def _repr_html_(self):\n        raise ValueError\n    def __repr__(self):\n        return 'an A'\nA()",
        "import os\nos.path.basename(os.getcwd())",
        "'__file__' in globals()",
        "exit()",
        "print('never')",
    )
    found, out, _ = await outputs_of(path, "north\n")
    assert found[5][-1] == ("value", "'north'")
    assert found[1] == [("value", "3")] and found[2] == [("value", "3")]
    assert 3 not in found and 4 not in found
    assert found[6] == [("value", "an A")]
    assert found[7] == [("value", repr(tmp_path.name))], "a notebook runs in its own folder"
    assert found[8] == [("value", "False")]
    assert 10 not in found and "never" not in out


async def test_two_thousand_cells(tmp_path: Path) -> None:
    cells = [f"x_{n} = {n}" for n in range(1999)]
    path = write(tmp_path / "a.ipynb", *cells, "x_1998 / 0.0")
    outcome = await run_check(Launch(path, capture=True))
    assert [place_words(f.file, f.line) for f in outcome.pauses] == ["cell 2000, line 1"]


async def test_the_traceback_shows_the_cell_s_line(tmp_path: Path, interpreter: str) -> None:
    path = write(tmp_path / "a.ipynb", "def f(x):\n    raise KeyError(x)", "f('north')")
    async with running(path, python=interpreter, pause_on=set()) as run:
        assert await run.pause() is None
    assert "    raise KeyError(x)" in run.err and "KeyError: 'north'" in run.err
    assert run.exited.exit_status == 1


KEPT = (
    "import numpy as np\n%matplotlib inline",
    "SILL = 0.5",
    "def flow(level, width=3.0):\n    head = level - SILL\n    return 1.7 * width * head**1.5",
    "!echo started\nresult = [flow(level) for level in np.array([0.9, 0.2, 0.7])]",
)


async def test_a_call_of_a_cell_is_kept_as_a_test_and_as_a_small_script(tmp_path: Path) -> None:
    home = tmp_path / "home"
    home.mkdir()
    path = write(home / "levels.ipynb", *KEPT)
    launch = Launch(path, capture=True, keep_case=False)
    async with running(launch) as run:
        facts = await run.pause()
        assert place_words(path, facts.line) == "cell 3, line 3"
    folder = tmp_path / "data"
    folder.mkdir()
    call = await saved_call(launch, facts, 1, folder)
    alone_call = await saved_call(launch, facts, 1, folder, alone=True)
    text = module_of_test(call, home / "test_flow.py", "", facts.headline)
    keep.write(call, home / "test_flow.py", text)
    command = [sys.executable, "-m", "pytest", "-q", "-p", "no:cacheprovider", "test_flow.py"]
    ran = subprocess.run(command, cwd=home, capture_output=True, text=True)
    assert ran.returncode == 1 and "assert is_finite(result)" in ran.stdout, ran.stdout
    opened = open_file(path)
    save(opened, opened.text.replace("head**1.5", "max(head, 0.0) ** 1.5"))
    ran = subprocess.run(command, cwd=home, capture_output=True, text=True)
    assert ran.returncode == 0, ran.stdout
    source = as_python(path, opened.text.replace("max(head, 0.0) ** 1.5", "head**1.5"))
    small = await Smaller(alone_call, facts, launch, source).script(tmp_path / "small_flow.py")
    assert "SILL = 0.5" in small and "result = flow(level)" in small and "%" not in small
    alone = tmp_path / "alone"
    alone.mkdir()
    (alone / "small_flow.py").write_text(small)
    async with running(str(alone / "small_flow.py")) as run:
        again = await run.pause()
    assert (again.statement, again.culprit.text) == (facts.statement, facts.culprit.text)
