"""The texts of files and the words of their places; pictures as half blocks; what is told with its cells."""

from __future__ import annotations

import io
from pathlib import Path

import pytest
from as_notebook import V4, code, write

from uneven_sum.charts import half_blocks
from uneven_sum.client import BadUse
from uneven_sum.client.before import of_order
from uneven_sum.client.edits import replace_lines
from uneven_sum.client.sources import (
    around,
    as_python,
    lines_of,
    place_words,
    read_place,
    short_place,
    text_of,
    with_cells,
    with_text,
)

PLACES = [
    ("44", ("", 0, 44)),
    ("rating.py:44", ("rating.py", 0, 44)),
    ("cell 7:2", ("", 7, 2)),
    ("cell 7, line 2", ("", 7, 2)),
    ("a b.ipynb:cell 7:2", ("a b.ipynb", 7, 2)),
    ("/x/c:d.py:3", ("/x/c:d.py", 0, 3)),
    ("head", None),
    ("cell 7", None),
    ("", None),
]


@pytest.mark.parametrize("text, found", PLACES)
def test_places_are_read(text: str, found) -> None:
    assert read_place(text) == found


@pytest.fixture
def notebook(tmp_path: Path) -> str:
    return write(
        tmp_path / "a.ipynb",
        V4.new_markdown_cell("# Words"),
        code("%time x = 1\ny = 2", 3, "first"),
        "if x:\n    z = 3",
    )


def test_words_and_texts_of_a_notebook(notebook: str) -> None:
    assert lines_of(notebook)[:3] == ["# %% [markdown]", "# # Words", ""]
    assert [place_words(notebook, n) for n in (2, 4, 5, 6, 7, 9)] == [
        "cell 1, line 1",
        "cell 2, line 1",
        "cell 2, line 1",
        "cell 2, line 2",
        "cell 2, line 3",
        "cell 3, line 1",
    ]
    assert short_place(notebook, 10) == "a.ipynb cell 3:2" and short_place("/x/m.py", 10) == "m.py:10"
    assert around(notebook, lines_of(notebook), 6, 6, 3) == [
        (4, "", "cell 2 · In [3] · first"),
        (5, "1", "%time x = 1"),
        (6, "2", "y = 2"),
    ]
    assert as_python(notebook, text_of(notebook)).split("\n")[4] == "if 1: x = 1"
    assert text_of(notebook + "x") == "" and place_words("gone.ipynb", 3) == "line 3"


def test_a_line_of_a_cell_is_replaced(notebook: str) -> None:
    assert "    z = 4" in replace_lines(notebook, 10, 10, "    z = 3", "z = 4")
    assert lines_of(notebook)[9] == "    z = 4"
    with pytest.raises(BadUse, match=r"Cell 3, line 2 of a\.ipynb has changed"):
        replace_lines(notebook, 10, 10, "    z = 3", "z = 5")
    with pytest.raises(BadUse, match="would be no Python"):
        replace_lines(notebook, 10, 10, "    z = 4", "z = = 5")
    changed = with_text(notebook, Path(notebook), text_of(notebook).replace("y = 2", "y = 7"))
    assert b"y = 7" in changed and b"y = 7" not in Path(notebook).read_bytes()


def test_cells_beside_lines(notebook: str, tmp_path: Path) -> None:
    told = with_cells({"file": notebook, "line": 6, "trail": [{"line": 9}], "other": {"file": "m.py", "line": 3}})
    assert told["cell"] == {"number": 2, "id": "c2", "line": 2}
    assert told["trail"][0]["cell"]["number"] == 3 and "cell" not in told["other"]
    assert with_cells({"file": notebook, "line": 6, "cell": [0, 1]})["in_cell"]["number"] == 2
    script = tmp_path / "s.py"
    script.write_text("# %%\nx = 1\n# %% two\ny = 2\n")
    assert with_cells({"file": str(script), "line": 4})["cell"] == {"number": 2, "id": "", "line": 1}


def test_counts_out_of_order_have_their_lines(tmp_path: Path) -> None:
    path = write(tmp_path / "b.ipynb", code("x = 1", 4), code("y = 2", 2))
    assert [(one.line, one.kind, one.error) for one in of_order(path)] == [(5, "cells", False)]


def test_a_picture_as_half_blocks() -> None:
    from PIL import Image

    made = Image.new("RGBA", (40, 20), (255, 0, 0, 255))
    made.paste((0, 0, 255, 255), (0, 10, 40, 20))
    made.putpixel((0, 0), (0, 0, 0, 0))
    out = io.BytesIO()
    made.save(out, "PNG")
    rows = half_blocks(out.getvalue(), 20, 20)
    assert (len(rows), len(rows[0])) == (5, 20), "its sides keep their proportion"
    assert rows[1][10][0][0] > 250 and rows[-1][10][1][2] > 250, "red above, blue below"
    assert half_blocks(out.getvalue(), 40, 10)[0][0][0] == (255, 255, 255), "what is transparent is white"
    with pytest.raises(ValueError, match="this is no picture"):
        half_blocks(b"text", 10, 10)
