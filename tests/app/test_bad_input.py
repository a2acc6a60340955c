"""Files as they should not be: one clear sentence each, at every entrance, and nothing lost."""

from __future__ import annotations

import contextlib
import os
import resource
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

import pytest
from driving_app import rest, settled, until
from textual.widgets import Static

from uneven_sum.app.app import UnevenSum
from uneven_sum.app.bench.screen import Bench
from uneven_sum.app.editor.screen import Editor
from uneven_sum.app.widgets.sheet import Sheet
from uneven_sum.client import BadUse, Launch, case, notes, settings
from uneven_sum.client.book import Book
from uneven_sum.client.opened import open_file, save
from uneven_sum.client.setup import Setup
from uneven_sum.client.sources import lines_of
from uneven_sum.host.launch import inspect_script

FAULT = b"x = 1.0\ny = x / (x - 1.0)\n"
# What is run all the same: the text, the line of the fault, and a line as it is to be shown.
RUN = {
    "a byte order mark": (b"\xef\xbb\xbf" + FAULT, 2, "x = 1.0"),
    "a cookie": ("# coding: latin-1\nname = 'Höhe'\n".encode("latin-1") + FAULT, 4, "name = 'Höhe'"),
    "mixed line ends": (b"a = 1\r\nb = 2\rc = 3\n" + FAULT, 5, "c = 3"),
    "carriage returns": (FAULT.replace(b"\n", b"\r"), 2, "x = 1.0"),
    "a form feed": (b"a = 1\n\x0cb = 2\n" + FAULT, 4, "x = 1.0"),
    "tabs": (b"if True:\n\tx = 1.0\n\ty = x / (x - 1.0)\n", 3, "\tx = 1.0"),
    "a separator in a text": ("a = 'one\u2028two'\n".encode() + FAULT, 3, "x = 1.0"),
    "no line end at its end": (FAULT.rstrip(), 2, "x = 1.0"),
    "100,000 lines": (b"level = 1.5\n" * 100_000 + FAULT, 100_002, "x = 1.0"),
    "a line of 1 MB": (b"levels = [" + b"1.5, " * 200_000 + b"]\n" + FAULT, 3, "x = 1.0"),
}
# What cannot be run, and why.
REFUSED = {
    "UTF-16": ("x = 1\n".encode("utf-16"), "is in UTF-16, which Python does not run. Save it as UTF-8."),
    "a NUL byte": (b"x = 1\0\n", "is not a text file (it holds NUL bytes). Give a Python script."),
    "a NUL byte far down": (b"x = 1.0\n" * 20_000 + b"\0\n", "gauge.py: source code string cannot contain null bytes."),
    "an unknown cookie": (b"# coding: nonsense\n", "gauge.py: unknown encoding: nonsense."),
    "no UTF-8": (b"x = '\xff'\n", "line 1: (unicode error) 'utf-8' codec can't decode byte 0xff"),
    "tabs and blanks": (b"if 1:\n\tx = 1\n        y = 2\n", "line 3: inconsistent use of tabs and spaces"),
}


def check(path: Path, **options) -> subprocess.CompletedProcess[str]:
    command = [sys.executable, "-m", "uneven_sum", "check", path.name]
    return subprocess.run(command, capture_output=True, text=True, cwd=path.parent, timeout=240, **options)


@pytest.mark.parametrize("name", RUN)
def test_run_without_a_screen(name: str, tmp_path) -> None:
    data, line, shown = RUN[name]
    path = tmp_path / "gauge.py"
    path.write_bytes(data)
    done = check(path)
    assert done.returncode == 1 and f"ZeroDivisionError at line {line}: float division by zero." in done.stderr
    assert any(row.endswith(shown) and "\ufffd" not in row for row in done.stderr.split("\n"))
    assert max(map(len, done.stderr.split("\n"))) < 400
    assert path.read_bytes() == data


@pytest.mark.parametrize("name", REFUSED)
def test_refused_with_a_sentence(name: str, tmp_path) -> None:
    data, why = REFUSED[name]
    path = tmp_path / "gauge.py"
    path.write_bytes(data)
    done = check(path)
    assert done.returncode == 2 and why in done.stderr and "Traceback" not in done.stderr and "None" not in done.stderr


@contextlib.asynccontextmanager
async def on_the_desk(path: Path, data: bytes):
    """A file, chosen on the Desk."""
    path.write_bytes(data)
    app = UnevenSum(None)
    async with app.run_test(size=(120, 36)) as pilot:
        await until(pilot, lambda: app.desk is not None and app.desk.setup is not None)
        app.desk.show_case(Setup(str(path)))
        yield app, pilot


@pytest.mark.timeout(900)
@pytest.mark.parametrize("name", ["100,000 lines", "a line of 1 MB", "a cookie", "mixed line ends"])
async def test_on_the_desk_the_bench_and_in_the_editor(name: str, tmp_path) -> None:
    data, line, _ = RUN[name]
    path = tmp_path / "gauge.py"
    async with on_the_desk(path, data) as (app, pilot):
        await rest(pilot, 0.3)
        here = lines_of(str(path))
        assert app.desk.query_one(Sheet).lines[: len(here)] == here
        await until(pilot, lambda: "looked at …" not in str(app.desk.query_one("#wrong", Static).render()), 90)
        assert not [f for f in app.desk.checks.found if f.error]
        await pilot.press("e")
        if name == "a line of 1 MB":
            await until(pilot, lambda: "a line of more than" in str(app.desk.query_one("#said", Static).render()))
        else:
            await until(pilot, lambda: isinstance(app.screen, Editor) and app.screen.loaded, 60)
            app.screen.area.insert("# mine\n", (0, 0))
            await pilot.press("ctrl+s")
            await until(pilot, lambda: app.screen.saved, 60)
            assert path.read_bytes().endswith(data) and path.read_bytes().startswith(b"# mine")
            path.write_bytes(data)
            await pilot.press("escape")
            await until(pilot, lambda: app.screen is app.desk, 60)
        await pilot.press("enter")
        await until(pilot, lambda: isinstance(app.screen, Bench) and app.screen.state == "paused", 200)
        await rest(pilot, 0.5)
        assert app.screen.facts.line == line
        assert not [m for m in app.messages if "Internal error" in m]


@pytest.mark.parametrize("name", REFUSED)
async def test_refused_on_the_desk(name: str, tmp_path) -> None:
    async with on_the_desk(tmp_path / "gauge.py", REFUSED[name][0]) as (app, pilot):
        await until(pilot, lambda: "error" in str(app.desk.query_one("#wrong", Static).render()), 60)
        await pilot.press("enter")
        await until(pilot, lambda: "gauge.py" in str(app.desk.query_one("#said", Static).render()), 60)
        assert app.screen is app.desk


async def test_moved_and_deleted_under_us(script, tmp_path) -> None:
    path = Path(script("level = 4.0\nfor day in range(3):\n    level += day\n1 / 0\n", "gauge.py"))
    app = UnevenSum(Launch(str(path)))
    async with app.run_test(size=(120, 36)) as pilot:
        bench = await settled(pilot, "paused", 4)
        await pilot.press("e")
        await until(pilot, lambda: isinstance(app.screen, Editor) and app.screen.loaded)
        editor = app.screen
        editor.area.insert("# mine\n", (0, 0))
        path.unlink()
        await pilot.press("ctrl+s")
        await until(pilot, lambda: app.screen is not editor)
        await rest(pilot, 0.3)
        await pilot.press("down", "enter")  # write it all the same
        await until(pilot, lambda: path.exists())
        assert path.read_text().startswith("# mine\nlevel")
        await pilot.press("escape")
        await rest(pilot, 0.3)
        await pilot.press("escape")
        await until(pilot, lambda: app.screen is bench)
        path.rename(tmp_path / "other.py")
        await pilot.press("R")
        await until(pilot, lambda: bench.state == "ended", 60)
        said = str(bench.query_one("Headline").render())
        assert "There is no file" in said and "Traceback" not in said
        (tmp_path / "other.py").rename(path)
        await pilot.press("R")
        await settled(pilot, "paused", 5)


@pytest.fixture
def small_disk() -> Iterator[Path]:
    """A disk that is full with 24 kB."""
    folder = Path(tempfile.mkdtemp(prefix="small"))
    done = subprocess.run(["mount", "-t", "tmpfs", "-o", "size=24k", "none", str(folder)], capture_output=True)
    if done.returncode:
        shutil.rmtree(folder)
        pytest.skip("no disk can be mounted here")
    yield folder
    subprocess.run(["umount", "-l", str(folder)], check=True)
    folder.rmdir()


def fill(path: Path) -> None:
    """Takes what is left of the disk."""
    handle = os.open(path, os.O_WRONLY | os.O_CREAT)
    with contextlib.suppress(OSError):
        while True:
            os.write(handle, b"x" * 512)
    os.close(handle)


def test_on_a_full_disk_the_old_files_stay(small_disk: Path) -> None:
    path = small_disk / "gauge.py"
    path.write_bytes(FAULT)
    book = Book()
    book.over = ["gauges.py"]
    case.save(str(path), book, ["x"])
    kept = case.place(str(path)).read_bytes()
    notes.add(str(path), notes.own_text("one"))
    noted = notes.place(str(path)).read_bytes()
    (small_disk / "flood").write_bytes(b"x" * 8000)
    opened = open_file(str(path))
    with pytest.raises(BadUse, match=r"gauge.py cannot be written: No space left on device. Nothing was changed."):
        save(opened, opened.text + "# long\n" * 2000)
    assert path.read_bytes() == FAULT and opened.text == FAULT.decode()
    book.over = ["flood" * 20] * 200
    with pytest.raises(OSError, match="No space left"):
        case.save(str(path), book, ["x"])
    assert case.place(str(path)).read_bytes() == kept
    with pytest.raises(BadUse, match="No space left"):
        notes.add(str(path), notes.own_text("long " * 4000))
    assert notes.place(str(path)).read_bytes() == noted
    assert not [p for p in small_disk.iterdir() if p.name.endswith(".new") or p.name.startswith(".gauge")]
    for name in ("out.md", "out.pdf"):
        fill(small_disk / "rest")
        command = [sys.executable, "-m", "uneven_sum", "check", "--report", str(small_disk / name), str(path)]
        done = subprocess.run(command, capture_output=True, text=True)
        assert done.returncode == 2 and f"{name} cannot be written: No space left on device." in done.stderr
        assert "Traceback" not in done.stderr


def test_where_files_may_not_grow(tmp_path) -> None:
    """The same by a limit of the system, which needs no disk."""
    path = tmp_path / "gauge.py"
    path.write_bytes(FAULT)
    opened = open_file(str(path))
    before = resource.getrlimit(resource.RLIMIT_FSIZE)
    resource.setrlimit(resource.RLIMIT_FSIZE, (100, before[1]))
    try:
        with pytest.raises(BadUse, match=r"gauge.py cannot be written: File too large. Nothing was changed."):
            save(opened, "y = 2.0\n" * 100)
        found = settings.Settings(not_looked_for=["nan"] * 50)
        with pytest.raises(BadUse, match="cannot be written: File too large"):
            settings.save(found)
    finally:
        resource.setrlimit(resource.RLIMIT_FSIZE, before)
    assert path.read_bytes() == FAULT and not settings.place().exists()


def test_what_may_not_be_read_or_written() -> None:
    """Root may do everything: somebody else tries."""
    folder = Path(tempfile.mkdtemp(prefix="apart"))
    folder.chmod(0o755)
    path = folder / "gauge.py"
    path.write_bytes(FAULT)
    opened = open_file(str(path))
    root = os.geteuid() == 0
    path.chmod(0)
    try:
        os.seteuid(65534) if root else None
        with pytest.raises(BadUse, match=r"gauge.py cannot be read: Permission denied. Check its permissions."):
            inspect_script(Launch(str(path)))
        with pytest.raises(BadUse, match=r"cannot be read: Permission denied. Look at its permissions"):
            open_file(str(path))
        os.seteuid(0) if root else None
        path.chmod(0o444)
        os.seteuid(65534) if root else None
        with pytest.raises(BadUse, match=r"gauge.py .* be written: .* Nothing was changed."):
            save(opened, "y = 1\n")
    finally:
        os.seteuid(0) if root else None
    assert path.read_bytes() == FAULT
    shutil.rmtree(folder)
