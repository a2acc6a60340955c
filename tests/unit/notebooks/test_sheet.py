"""A notebook as one text, and an edited text put back into its file."""

from __future__ import annotations

import ast
import json

import nbformat
import pytest
from as_notebook import V4, code, value
from hypothesis import given, settings
from hypothesis import strategies as st

from uneven_sum.notebooks.cells import Cell
from uneven_sum.notebooks.files import sheet
from uneven_sum.notebooks.magics import python_of
from uneven_sum.notebooks.patch import patched
from uneven_sum.notebooks.sheet import cells_in_sheet, place_of, places_in_script, sheet_of

LINES = st.sampled_from(
    [
        "x = 1",
        "",
        "    y = 2",
        "# %% title",
        "#%%",
        "# In[3]:",
        "%time f()",
        "# text: a",
        "# a",
        "'''",
        "# magic: %x",
        "\f",
    ]
)
SOURCES = st.lists(LINES, max_size=5).map("\n".join)
CELLS = st.lists(st.builds(Cell, st.sampled_from(["code", "markdown", "raw"]), SOURCES), max_size=5)


def plain(cells) -> list[tuple[str, str, str]]:
    return [(one.kind, one.source, one.title) for one in cells]


@given(CELLS)
@settings(max_examples=300, deadline=None)
def test_the_text_of_cells_gives_the_same_cells(cells: list[Cell]) -> None:
    text, places = sheet_of(cells)
    assert plain(cells_in_sheet(text)) == plain(cells)
    assert [one.number for one in places] == list(range(1, len(cells) + 1))
    lines = text.split("\n")
    for cell, place in zip(cells, places):
        assert place.last - place.first + 1 == (len(cell.source.split("\n")) if cell.source else 0)
        assert place_of(places, place.mark) is place
        if cell.kind == "code" and cell.source and "#" not in cell.source:
            assert "\n".join(lines[place.first - 1 : place.last]) == cell.source


def test_the_cells_of_a_script() -> None:
    text = "import numpy\n\n# %% stages\nx = 1\n\n\n#%%\n# In[3]:\ny = 2\n"
    found = [(p.number, p.first, p.last, p.title) for p in places_in_script(text)]
    assert found == [(1, 1, 1, ""), (2, 4, 4, "stages"), (3, 8, 7, ""), (4, 9, 9, "")]
    assert places_in_script("x = 1\ny = 2\n") == []


# -- edits -------------------------------------------------------------------------------------------


def a_file(cells, indent: int | str = 1, ascii_only: bool = False, **metadata) -> bytes:
    notebook = V4.new_notebook(cells=cells, metadata=metadata)
    for number, one in enumerate(notebook.cells):
        one["id"] = f"c{number}"
    split = nbformat.v4.rwbase.split_lines(notebook)
    return (json.dumps(split, indent=indent, ensure_ascii=ascii_only) + "\n").encode()


NAMES = st.lists(st.sampled_from(["a = 1", "b = 'ü'", "", "c = [1,", "     2]", "# note"]), min_size=1, max_size=4)


@given(st.lists(NAMES.map("\n".join), min_size=1, max_size=4), st.sampled_from([1, 2, 4, "\t", None]), st.booleans())
@settings(max_examples=150, deadline=None)
def test_an_edit_of_one_cell_changes_its_source_and_nothing_else(sources, indent, ascii_only) -> None:
    cells = [code(s, n, "", (value(f"out {n}"),)) for n, s in enumerate(sources, 1)]
    data = a_file(cells, indent, ascii_only, zone="Zürich")
    text, places = sheet(data)
    assert patched(data, text) == data
    lines = text.split("\n")
    lines.insert(places[-1].first - 1, "added = 1")
    new = patched(data, "\n".join(lines))
    before, after = json.loads(data), json.loads(new)
    source = "".join(after["cells"][-1].pop("source"))
    assert source == ("added = 1\n" + sources[-1] if sources[-1] else "added = 1")
    before["cells"][-1].pop("source")
    assert json.dumps(before) == json.dumps(after), "the order of keys, too"
    at = data.decode().rindex('"source"')
    assert new.decode()[:at] == data.decode()[:at]
    nbformat.validate(nbformat.from_dict(json.loads(new)))


def test_cells_that_are_new_split_merged_and_removed() -> None:
    first, second = "a = 1\nb = 2\nc = 3\nd = 4", "total = a + b\nprint(total)"
    data = a_file([code(first, 1, "", (value("1"),)), V4.new_markdown_cell("text"), code(second, 2)])
    ids = lambda found: [one.get("id") for one in json.loads(found)["cells"]]  # noqa: E731  # short
    sources = lambda found: ["".join(one["source"]) for one in json.loads(found)["cells"]]  # noqa: E731
    text, _ = sheet(data)
    halves = patched(data, text.replace("c = 3", "\n# %% rest\nc = 3"))
    assert sources(halves) == ["a = 1\nb = 2", "c = 3\nd = 4", "text", second]
    assert ids(halves)[0] == "c0" and ids(halves)[2:] == ["c1", "c2"] and len(ids(halves)[1]) == 8
    assert json.loads(halves)["cells"][0]["outputs"] == json.loads(data)["cells"][0]["outputs"]
    assert json.loads(halves)["cells"][1]["metadata"] == {"title": "rest"}
    merged = patched(halves, sheet(halves)[0].replace("\n\n# %% rest\n", "\n"))
    assert sources(merged) == sources(data) and ids(merged) == ids(data)
    assert merged == data
    without = patched(data, text.replace("# %% [markdown]\n# text\n\n", ""))
    assert ids(without) == ["c0", "c2"]
    more = patched(data, text + "\n# %%\nnew = 1\n")
    assert sources(more)[-1] == "new = 1" and ids(more)[:3] == ["c0", "c1", "c2"]
    for one in (halves, merged, without, more):
        nbformat.validate(nbformat.from_dict(json.loads(one)))
    nothing = patched(data, "")
    assert json.loads(nothing)["cells"] == []
    assert sources(patched(nothing, "# %%\nx = 1\n")) == ["x = 1"]


def test_lines_that_end_in_another_way_stay_so() -> None:
    data = a_file([code("a = 1\r\nb = 2\r\n")])
    text, _ = sheet(data)
    new = patched(data, text.replace("b = 2", "b = 3"))
    assert json.loads(new)["cells"][0]["source"] == ["a = 1\r\n", "b = 3\n"]


# -- what is no Python -------------------------------------------------------------------------------

MAGICS = [
    ("%matplotlib inline\nx = 1", "get_ipython().run_line_magic('matplotlib', 'inline')\nx = 1"),
    ("%time y = f(2)", "if 1: y = f(2)"),
    ("%timeit -n 10 -r 3 f(2)", "if True:           f(2)"),
    ("%%time\ny = 1", "get_ipython().begin_time('')\ny = 1"),
    ("%%capture out\nprint(1)", "get_ipython().begin_capture('out')\nprint(1)"),
    ("!ls -l {folder}", "get_ipython().system('ls -l {folder}')"),
    ("names = !ls", "names = get_ipython().getoutput('ls')"),
    ("here = %pwd", "here = get_ipython().run_line_magic('pwd', '')"),
    ("for x in y:\n    !echo {x}", "for x in y:\n    get_ipython().system('echo {x}')"),
    ("!echo a \\\n   b\nx = 1", "get_ipython().system('echo a b')\n\nx = 1"),
    ("cd data", "get_ipython().run_line_magic('cd', 'data')"),
    ("pip install numpy", "get_ipython().run_line_magic('pip', 'install numpy')"),
    ("f?", "pass"),
    ("?f", "pass"),
    ("%%bash\nls", "\n"),
    ("text = '''\n%time x\n!ls\n'''", "text = '''\n%time x\n!ls\n'''"),
    ("a = 5\nb = (a\n%3)", "a = 5\nb = (a\n%3)"),
    ("%%writefile a.txt\none\ntwo", "get_ipython().run_cell_magic('writefile', 'a.txt', 'one\\ntwo\\n')\n\n"),
]


@pytest.mark.parametrize("source, python", MAGICS)
def test_what_is_no_python_becomes_a_call_at_its_line(source: str, python: str) -> None:
    text, places = sheet_of([Cell("code", source)])
    made, _ = python_of(text, places)
    assert made == f"# %%\n{python}\n"
    ast.parse(made)
    assert made.count("\n") == text.count("\n")


def test_what_does_not_run_is_told_by_cell() -> None:
    text, places = sheet_of([Cell("code", "x = 1"), Cell("code", "%%html\n<b>x</b>"), Cell("code", "x?")])
    _, left_out = python_of(text, places)
    assert left_out == [(2, "it is written for %%html"), (3, "`x?` asks for help")]


def test_a_future_import_of_a_later_cell_is_the_first_line() -> None:
    text, places = sheet_of([Cell("code", "x = 1"), Cell("code", "from __future__ import annotations\ny: z = 2")])
    made, _ = python_of(text, places)
    assert made.split("\n")[0] == "from __future__ import annotations"
    compile(made, "cells", "exec")
