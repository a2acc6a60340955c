"""Notebooks as scripts with cells, and back."""

from __future__ import annotations

import ast
import json
import subprocess
import sys
from pathlib import Path

import nbformat
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from uneven_sum.client import BadUse
from uneven_sum.client.convert_cells import convert
from uneven_sum.notebooks.cells import Cell, cells_of, script_of
from uneven_sum.notebooks.files import cells_in, made_of, read

CELLS = [
    Cell("markdown", "# Inflow\n\nof the *north* gauge"),
    Cell("code", "%matplotlib inline\nimport numpy as np\n!ls -l"),
    Cell("code", "x = np.array([1.0, 2.0])\n\nx.sum()", "the sum"),
    Cell("code", "%%bash\necho $HOME"),
    Cell("raw", "as it is"),
    Cell("code", "text = '''\n# %% of the flow\n'''"),
    Cell("code", "await fetch()"),
    Cell("code", "np.mean?"),
    Cell("code", ""),
]


def plain(cells: list[Cell]) -> list[tuple[str, str, str]]:
    return [(one.kind, one.source, one.title) for one in cells]


def test_a_notebook_is_the_same_after_the_way_there_and_back() -> None:
    text = script_of(CELLS)
    assert plain(cells_of(text)) == plain(CELLS)
    assert "# %% the sum\nx = np.array" in text
    assert "# magic: %matplotlib inline\nimport numpy as np\n# magic: !ls -l" in text
    assert "# %% [markdown]\n# # Inflow\n#\n# of the *north* gauge" in text
    assert "# text: # %% of the flow" in text


def test_a_script_of_a_notebook_is_python() -> None:
    ast.parse(script_of([one for one in CELLS if "await" not in one.source]))


LINES = st.sampled_from(
    [
        "x = 1",
        "",
        "    y = x",
        "# %% z",
        "#%%",
        "# In[3]:",
        "%time x",
        "!ls",
        "# magic: %a",
        "# text: b",
        "x?",
        "#",
        "# c",
        "%%sh",
    ]
)


@settings(deadline=None, max_examples=300)
@given(st.lists(st.tuples(st.sampled_from(["code", "markdown", "raw"]), st.lists(LINES, max_size=6)), max_size=5))
def test_any_cells_come_back(told) -> None:
    cells = [Cell(kind, "\n".join(lines).strip("\n")) for kind, lines in told]
    assert plain(cells_of(script_of(cells))) == plain(cells)


def test_marks_of_scripts() -> None:
    text = "import numpy\n\n#%%\na = 1\n\n# %% second\n\nb = 2\n# In[3]:\nc = 3\n# %%%% no mark\n"
    found = cells_of(text)
    assert [(one.source, one.title, one.line) for one in found] == [
        ("import numpy", "", 1),
        ("a = 1", "", 4),
        ("b = 2", "second", 8),
        ("c = 3\n# %%%% no mark", "", 10),
    ]
    assert cells_of("") == [] and cells_of("\n\n") == []


def test_the_files(tmp_path) -> None:
    notebook = tmp_path / "flow.ipynb"
    nbformat.write(made_of(CELLS), notebook)
    assert convert(str(notebook), str(tmp_path / "flow.py")) == f"Written: {tmp_path}/flow.py, 9 cells."
    assert convert(str(tmp_path / "flow.py"), str(tmp_path / "back.ipynb")).endswith("9 cells.")
    assert plain(cells_in(read(str(tmp_path / "back.ipynb")))) == plain(CELLS)
    assert json.loads((tmp_path / "back.ipynb").read_text()) == json.loads(notebook.read_text())
    with pytest.raises(BadUse, match="is there already"):
        convert(str(notebook), str(tmp_path / "flow.py"))
    with pytest.raises(BadUse, match="One of the two files"):
        convert(str(notebook), str(tmp_path / "other.ipynb"))


def a_notebook(**changes) -> str:
    told = {"nbformat": 4, "nbformat_minor": 5, "metadata": {}, "cells": []}
    return json.dumps({**told, **changes})


CELL = {"cell_type": "code", "id": "a", "metadata": {}, "source": "x = 1", "outputs": [], "execution_count": None}
BAD = {
    '{"nbformat": 4,\n "cells": [}': "is damaged at line 2, column 12",
    "[1, 2]": "does not say which nbformat",
    a_notebook(nbformat=3): "is of nbformat 3; only nbformat 4 is read",
    a_notebook(cells=[{"cell_type": "code"}]): "does not fit nbformat 4, at cells",
    a_notebook(
        metadata={"kernelspec": {"name": "ir", "display_name": "R", "language": "R"}}, cells=[CELL]
    ): "for r, not",
    a_notebook(): "has no cells",
}


@pytest.mark.parametrize("text", BAD)
def test_what_is_wrong_with_a_notebook_is_said(text: str, tmp_path) -> None:
    (tmp_path / "flow.ipynb").write_text(text)
    with pytest.raises(BadUse, match=BAD[text]):
        convert(str(tmp_path / "flow.ipynb"), str(tmp_path / "flow.py"))
    assert not (tmp_path / "flow.py").exists()


def test_files_that_cannot_be_read(tmp_path) -> None:
    (tmp_path / "bytes.ipynb").write_bytes(b"\xff\xfe{}")
    (tmp_path / "empty.py").write_text("")
    for name, said in (("none.ipynb", "cannot be read"), ("bytes.ipynb", "byte 0 is no UTF-8")):
        with pytest.raises(BadUse, match=said):
            convert(str(tmp_path / name), str(tmp_path / "out.py"))
    with pytest.raises(BadUse, match="it is empty"):
        convert(str(tmp_path / "empty.py"), str(tmp_path / "out.ipynb"))


def test_a_notebook_for_python_by_any_of_its_names(tmp_path) -> None:
    for name in ("python", "ipython", "Python3"):
        text = a_notebook(metadata={"language_info": {"name": name}}, cells=[CELL])
        (tmp_path / "flow.ipynb").write_text(text)
        assert len(read(str(tmp_path / "flow.ipynb")).cells) == 1


@pytest.mark.terminal
def test_the_command(tmp_path: Path) -> None:
    (tmp_path / "flow.py").write_text("# %% first\nx = 1\n\n# %% [markdown]\n# words\n")
    command = [sys.executable, "-m", "uneven_sum", "cells"]
    ran = subprocess.run([*command, "flow.py", "--to", "flow.ipynb"], cwd=tmp_path, capture_output=True, text=True)
    assert (ran.returncode, ran.stdout) == (0, "Written: flow.ipynb, 2 cells.\n")
    ran = subprocess.run([*command, "none.py", "--to", "other.ipynb"], cwd=tmp_path, capture_output=True, text=True)
    assert ran.returncode == 2
    assert ran.stderr == "uneven-sum: none.py cannot be read: No such file or directory.\n"
