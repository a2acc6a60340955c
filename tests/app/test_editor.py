"""Editing a file: what is kept of it, what keeps it from being saved, and how the script goes on after it."""

from __future__ import annotations

import asyncio
import contextlib
import os
from pathlib import Path

import pytest
from driving_app import rest, settled, until
from hypothesis import given, settings
from hypothesis import strategies as st
from textual.events import Key
from textual.widgets import TextArea

from uneven_sum.app.app import UnevenSum
from uneven_sum.app.bench.screen import Bench
from uneven_sum.app.editor.screen import Editor
from uneven_sum.app.widgets.dialogs import Choose, Prompt
from uneven_sum.app.widgets.sheet import Sheet
from uneven_sum.client import BadUse, Launch
from uneven_sum.client.before import nearest
from uneven_sum.client.opened import ChangedOutside, open_file, save
from uneven_sum.protocol import Lookout

FILES = {
    "latin-1": b"# -*- coding: latin-1 -*-\nname = '\xe9tang'\n",
    "a byte order mark": b"\xef\xbb\xbfx = 1\r\ny = 2\r\n",
    "old line ends": b"x = 1\ry = 2\r",
    "mixed line ends": b"x = 1\r\ny = 2\nz = 3\r\n\n",
    "no end": b"x = 1\ny = 2",
    "empty": b"",
}


@pytest.mark.parametrize("name", FILES)
def test_a_file_is_saved_as_it_was(tmp_path, name: str) -> None:
    path = tmp_path / "gauge.py"
    path.write_bytes(FILES[name])
    os.chmod(path, 0o750)
    opened = open_file(str(path))
    save(opened, opened.text)
    assert path.read_bytes() == FILES[name] and path.stat().st_mode & 0o777 == 0o750
    changed = opened.text.replace("x = 1", "x = 11", 1)
    save(opened, changed)
    assert path.read_bytes() == FILES[name].replace(b"x = 1", b"x = 11", 1)
    assert open_file(str(path)).text == changed


@settings(max_examples=80, deadline=None)
@given(
    st.lists(
        st.tuples(st.sampled_from(["a", "b", "c = 1", ""]), st.sampled_from(["\n", "\r\n"])), min_size=2, max_size=12
    ),
    st.data(),
)
def test_unchanged_lines_keep_their_ends(tmp_path_factory, lines: list, data) -> None:
    path = tmp_path_factory.mktemp("ends") / "f.py"
    lines = [(f"{text}{n}", end) for n, (text, end) in enumerate(lines)]  # each its own
    path.write_bytes("".join(t + e for t, e in lines).encode())
    opened = open_file(str(path))
    at = data.draw(st.integers(0, len(lines) - 1))
    new = opened.text.split("\n")
    new.insert(at, "new")
    save(opened, "\n".join(new))
    written = path.read_bytes().decode()
    for text, end in lines:
        assert f"{text}{end}" in written
    assert written.count("new") == 1


@pytest.mark.parametrize(
    ("data", "why"),
    [
        ("x = 1\n".encode("utf-16"), "is in UTF-16, which Python does not run. Save it as UTF-8."),
        (b"x = 1\0\n", "holds NUL bytes"),
        (b"x = '\xff'\n", "cannot be read as text"),
        (b"# coding: nonsense\n", "cannot be read as text"),
        (b"x = '" + b"y" * 300_000 + b"'\n", "has a line of more than 200000 characters"),
        (b"x = 1\n" * 2_000_000, "has more than 8 MB"),
    ],
)
def test_what_cannot_be_opened(tmp_path, data: bytes, why: str) -> None:
    (tmp_path / "gauge.py").write_bytes(data)
    with pytest.raises(BadUse, match=why):
        open_file(str(tmp_path / "gauge.py"))


def test_a_hundred_thousand_lines_are_opened(tmp_path) -> None:
    (tmp_path / "long.py").write_text("".join(f"x{n} = {n}\n" for n in range(100_000)))
    opened = open_file(str(tmp_path / "long.py"))
    save(opened, opened.text.replace("x7 = 7", "x7 = 8"))
    assert "x7 = 8\nx8 = 8" in (tmp_path / "long.py").read_text()


def test_what_keeps_a_file_from_being_saved(tmp_path) -> None:
    path = tmp_path / "gauge.py"
    path.write_bytes(FILES["latin-1"])
    opened = open_file(str(path))
    with pytest.raises(BadUse, match="is in iso-8859-1, which has no '€'"):
        save(opened, opened.text + "# €\n")
    path.write_text("x = 2\n")
    with pytest.raises(ChangedOutside, match="was changed by another program"):
        save(opened, "x = 3\n")
    assert path.read_text() == "x = 2\n"
    save(opened, "x = 3\n", force=True)
    assert path.read_text() == "x = 3\n"
    path.unlink()
    with pytest.raises(ChangedOutside, match="moved or deleted"):
        save(opened, "x = 4\n")
    with pytest.raises(BadUse, match="cannot be read: No such file"):
        open_file(str(path))


def test_the_files_own_indentation(tmp_path) -> None:
    path = tmp_path / "gauge.py"
    for text, tabs, width in (
        ("if 1:\n\tx = 1\n", True, 4),
        ("if 1:\n  x = 1\n  if 2:\n    y = 2\n", False, 2),
        ("x = 1\n", False, 4),
        ("if 1:\n   x = 1\n", False, 3),
    ):
        path.write_text(text)
        opened = open_file(str(path))
        assert (opened.tabs, opened.width) == (tabs, width)


def test_the_nearest_name() -> None:
    assert nearest("sill", {"SILL", "stage", "print"}) == "SILL" and nearest("xq", {"SILL"}) == ""


FAULTY = """def rate(stage):
    total = 0.0
    for day in range(len(stage)):
        head = stage[day] - 4.0
        total += 1.0 / head
    return total


print(rate([4.5, 5.0, 4.0, 6.0]))
"""


async def test_edited_on_the_bench_and_run_again_to_the_same_place(script) -> None:
    path = script(FAULTY)
    app = UnevenSum(Launch(path, keep_case=False))
    async with app.run_test(size=(140, 42)) as pilot:
        bench = await settled(pilot, "paused", 5)
        bench.book.add(Lookout(file=path, line=6))
        await bench.breakpoints.send_lookouts()
        await pilot.press("e")
        await until(pilot, lambda: isinstance(app.screen, Editor))
        editor = app.screen
        area = editor.query_one(TextArea)
        assert area.cursor_location == (4, 0) and area.text == FAULTY
        # Find, go to a line, what is wrong while typing.
        await pilot.press("ctrl+f")
        await until(pilot, lambda: isinstance(app.screen, Prompt))
        await pilot.press(*"head", "enter")
        await until(pilot, lambda: isinstance(app.screen, Editor))
        await rest(pilot, 0.2)
        assert area.selected_text == "head"
        area.replace("        total += 1.0 / heat\n", (4, 0), (5, 0))
        area.replace("import os\n", (0, 0), (0, 0))
        await until(pilot, lambda: [f.kind for f in editor.found] == ["undefined", "unused", "unused"])
        assert "is `head` meant?" in str(editor.query_one("#wrong").render())
        await pilot.press("ctrl+r")
        await until(pilot, lambda: isinstance(app.screen, Prompt))
        await pilot.press("ctrl+a", "ctrl+k", *"heat", "enter")
        await rest(pilot, 0.3)
        await until(pilot, lambda: isinstance(app.screen, Prompt))
        await pilot.press("h", "e", "a", "d", "enter")
        await until(pilot, lambda: isinstance(app.screen, Editor) and "1.0 / head" in area.text)
        # Another program changes the file: asked, nothing lost.
        Path(path).write_text(FAULTY + "# theirs\n")
        await pilot.press("ctrl+s")
        await until(pilot, lambda: isinstance(app.screen, Choose))
        assert "was changed by another program" in app.screen.question
        await pilot.press("down", "enter")
        await until(pilot, lambda: isinstance(app.screen, Editor) and not editor.modified)
        assert Path(path).read_text().startswith("import os\ndef rate") and "# theirs" not in Path(path).read_text()
        await pilot.press("escape")
        await until(pilot, lambda: isinstance(app.screen, Choose))
        labels = [c.label for c in app.screen.choices]
        assert "run again to the same place: line 5, pass 3" in labels
        for _ in range(labels.index("run again to the same place: line 5, pass 3")):
            await pilot.press("down")
        await pilot.press("enter")
        await until(pilot, lambda: bench.runs == 2, 60)
        await settled(pilot, "paused", 6)
        assert bench.facts.loops[0].number == 3 and bench.facts.reason == "breakpoint"
        assert [k.lookout.line for k in bench.book.kept.values()] == [7], "the breakpoint has moved with its line"


@contextlib.asynccontextmanager
async def edited(path: str):
    """A script in the editor, at its error."""
    app = UnevenSum(Launch(path, keep_case=False))
    async with app.run_test(size=(96, 30)) as pilot:
        await settled(pilot, "paused", 5)
        await pilot.press("e")
        await until(pilot, lambda: isinstance(app.screen, Editor) and app.screen.loaded)
        yield app, pilot


async def test_keys_before_save_and_leave_are_not_overtaken(script) -> None:
    path = script(FAULTY)
    async with edited(path) as (app, pilot):
        area = app.screen.query_one(TextArea)
        area.call_later(asyncio.sleep, 0.5)  # busy, so that the keys wait
        for key in (*(Key("x", "x") for _ in range(40)), Key("ctrl+s", None)):
            app.post_message(key)
        await until(pilot, lambda: "x" in Path(path).read_text())
        assert "x" * 40 in Path(path).read_text()
        area.call_later(asyncio.sleep, 0.5)
        for key in (*(Key("y", "y") for _ in range(40)), Key("escape", None)):
            app.post_message(key)
        await until(pilot, lambda: isinstance(app.screen, Choose))
        assert app.screen.question == "The text was changed."


async def test_leaving_with_changes_is_asked(script) -> None:
    path = script(FAULTY)
    async with edited(path) as (app, pilot):
        await pilot.press("x", "escape")
        await until(pilot, lambda: isinstance(app.screen, Choose))
        await pilot.press("down", "enter")
        await until(pilot, lambda: isinstance(app.screen, Editor))
        assert app.screen.modified
        await pilot.press("ctrl+z", "escape")
        await until(pilot, lambda: isinstance(app.screen, Bench))
        assert Path(path).read_text() == FAULTY
        os.chmod(path, 0o444)
        await pilot.press("e")
        await until(pilot, lambda: isinstance(app.screen, Editor))
        editor = app.screen
        await pilot.press("ctrl+e")
        await rest(pilot, 0.3)
        told = str(editor.query_one("#said").render())
        assert "No editor is set" in told or os.environ.get("EDITOR") or os.environ.get("VISUAL")
        await pilot.press("escape")
        await until(pilot, lambda: isinstance(app.screen, Bench))


async def test_breakpoints_are_set_in_the_editor_and_move_with_their_lines(script) -> None:
    path = script("x = 1\ny = 2\nz = 3\n")
    app = UnevenSum(Launch(path, keep_case=False, pause_on=set()))
    async with app.run_test(size=(120, 30)) as pilot:
        bench = await settled(pilot, "paused")
        bench.book.add(Lookout(file=path, line=2))
        await pilot.press("e")
        await until(pilot, lambda: isinstance(app.screen, Editor) and app.screen.loaded)
        editor = app.screen
        await until(pilot, lambda: editor.area.marks.get(2, ("",))[0].startswith("‖"))
        editor.area.move_cursor((0, 0))
        await pilot.press("w", "space", "equals_sign", "space", "0", "enter")  # a line before all
        await until(pilot, lambda: editor.area.marks.get(3, ("",))[0].startswith("‖"))
        editor.area.move_cursor((3, 0))
        await pilot.press("ctrl+b")
        assert sorted(editor.stops) == [3, 4]
        await pilot.press("ctrl+s")
        await until(pilot, lambda: editor.saved)
        await pilot.press("escape")
        await until(pilot, lambda: app.screen is bench)
        await until(pilot, lambda: sorted(k.lookout.line for k in bench.book.kept.values()) == [3, 4])
        assert sorted(bench.query_one(Sheet).marks) == [3, 4]
        await pilot.press("R")
        await settled(pilot, "paused", 3)
        await pilot.press("enter")
        await settled(pilot, "paused", 4)
