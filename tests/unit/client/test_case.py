"""Case files: what is kept of a case, read again, and never lost."""

from __future__ import annotations

import os
import subprocess
import sys

import pytest
import tomlkit

from uneven_sum.client import case
from uneven_sum.client.book import Book
from uneven_sum.client.setup import Setup
from uneven_sum.protocol import Lookout, Switches
from uneven_sum.state_files import write_private

SOURCE = "import math\nlevel = 4.0\nhead = level - 4.5\nflow = abs(head) ** 1.5\n"


def full(path: str) -> Book:
    book = Book()
    book.add(Lookout(file=path, line=3, condition="level > 2", start=3))
    book.add(Lookout(where="return", name="rate", text="gives {returned}", once=True))
    book.switches.handled = True
    book.switches.warning.on = False
    book.accepted.append((path, 4))
    book.over = ["io.py", "Gauge"]
    book.formats = {"": "fixed 3", "flow[day]": "scientific 9 thousands"}
    return book


def test_kept_and_taken_up_again(script) -> None:
    path = script(SOURCE)
    assert case.save(path, Book(), []) is None, "nothing to keep makes no file"
    first = full(path)
    target = case.save(path, first, ["level * 2"])
    assert target is not None and target.name == "script.case.toml"
    assert "pause at line 3 of script.py when `level > 2`, from the 3rd time" in target.read_text()
    again = Book()
    watches, told = case.load(path, again)
    assert (watches, told) == (["level * 2"], [])
    assert again.wanted() == first.wanted()
    assert (again.switches, again.accepted, again.over) == (first.switches, first.accepted, first.over)
    assert again.formats == first.formats


def test_lines_are_followed_and_lost_ones_told(script) -> None:
    path = script(SOURCE)
    case.save(path, full(path), [])
    script("# words\n\n" + SOURCE.replace("flow = abs(head) ** 1.5\n", "flow = 0\n"))
    book = Book()
    _, told = case.load(path, book)
    assert book.kept[1].lookout.line == 5
    assert told == ["script.case.toml, line 15: the accepted line 4 is not in script.py now. It is kept as it stands."]
    script("x = 1\n")
    book = Book()
    _, told = case.load(path, book)
    assert not book.kept[1].verified and "is kept" in told[0] and not book.kept[1].lookout.on


def test_unknown_keys_are_kept(script) -> None:
    path = script(SOURCE)
    target = case.save(path, full(path), [])
    target.write_text("# mine\nother = 3\n" + target.read_text())
    case.save(path, Book(), ["x"])
    text = target.read_text()
    assert text.startswith("# mine\nother = 3\n") and tomlkit.parse(text)["watches"] == ["x"]


@pytest.mark.parametrize("text", ["schema = [", "schema = 99\n", "\x00"])
def test_a_damaged_file_is_told_and_left(text: str, script) -> None:
    path = script(SOURCE)
    case.place(path).write_text(text)
    for work in (lambda: case.load(path, Book()), lambda: case.save(path, full(path), [])):
        with pytest.raises(case.Damaged, match="t is unchanged"):
            work()
    assert case.place(path).read_text() == text


def test_what_is_not_understood_is_told_and_the_rest_taken(script) -> None:
    path = script(SOURCE)
    case.place(path).write_text(
        'schema = 1\nwatches = ["a"]\n[[lookouts]]\nsentence = "stop somewhere"\n[[lookouts]]\n'
        'sentence = "pause at line 2"\n[tripwires]\nerror = "pause sometimes"\n'
    )
    book = Book()
    watches, told = case.load(path, book)
    assert watches == ["a"] and len(book.kept) == 1 and len(told) == 2
    assert book.switches == Switches()


def test_where_the_folder_cannot_be_written(script, monkeypatch, tmp_path) -> None:
    path = script(SOURCE)
    monkeypatch.setattr(case.os, "access", lambda *args: False)
    monkeypatch.setattr(case, "user_state_path", lambda name: tmp_path / "state")
    target = case.save(path, full(path), [])
    assert target is not None and (tmp_path / "state") in target.parents
    assert case.load(path, Book())[0] == []


def test_two_copies_on_one_case(script) -> None:
    path = script("x = 1\n")
    one, other_case = case.Claim(path), case.Claim(script("y = 1\n", "other.py"))
    assert (one.other, other_case.other) == (0, 0)
    ask = "import sys; from uneven_sum.client import case; print(case.Claim(sys.argv[1]).other)"
    asked = [sys.executable, "-c", ask, path]
    assert subprocess.run(asked, capture_output=True, text=True).stdout == f"{os.getpid()}\n"
    one.release()
    assert subprocess.run(asked, capture_output=True, text=True).stdout == "0\n"


def test_how_it_is_run_is_kept_with_the_case(script, tmp_path) -> None:
    path = script(SOURCE)
    (tmp_path / "data").mkdir()
    setup = Setup(path, "--year 2031 'upper gauge'", cwd=str(tmp_path / "data"), env="SEED=3")
    setup.stdin, setup.python, setup.pause_on = str(tmp_path / "in.txt"), "/usr/bin/python3", "error"
    target = case.save(path, Book(), [], setup)
    assert target is not None
    run = tomlkit.parse(target.read_text())["run"]
    assert run == {
        "arguments": "--year 2031 'upper gauge'",
        "interpreter": "/usr/bin/python3",
        "folder": "./data",
        "environment": "SEED=3",
        "pause_on": "error",
        "input": "./in.txt",
    }
    assert case.setup_of(path) == setup
    case.save(path, full(path), [])  # what is not told of stays
    assert case.setup_of(path) == setup
    setup.cwd, setup.python = str(tmp_path), "python3"
    case.save(path, Book(), [], setup)
    assert case.setup_of(path) == setup
    case.save(path, Book(), [], Setup(path))
    assert case.setup_of(path) is None and "run" not in target.read_text()


def test_entries_that_are_no_texts_are_left_out(script, tmp_path) -> None:
    path = script(SOURCE)
    (tmp_path / "script.case.toml").write_text('schema = 1\n[run]\narguments = 3\nfolder = "."\nlater = "x"\n')
    found = case.setup_of(path)
    assert found is not None and (found.args, found.cwd) == ("", str(tmp_path))
    case.save(path, full(path), [], found)
    (tmp_path / "script.case.toml").write_text("run = 4\n")
    assert case.setup_of(path) is None


ODD = """schema = 1
watches = ["x", "y"]
results = ["x within nothing that is known ,,,"]
accepted_as = ["calls of depth", "everything"]
stepped_over = "one.py"

[[lookouts]]
sentence = "pause at line 1 of script.py whne `x > 1`"
line = "x = 1"

[[lookouts]]
sentence = 7

[[accepted]]
file = "script.py"
number = "one"
"""


def test_what_is_not_understood_stays_as_it_is(script) -> None:
    """Odd entries are sentences with their line; saving keeps them, beside what is new."""
    path = script("x = 1\ny = 2\n")
    place = case.place(path)
    place.write_text(ODD)
    book = Book()
    watches, told = case.load(path, book)
    assert watches == ["x", "y"] and book.accepted_as == ["calls of depth"]
    assert all(t.startswith("script.case.toml") and t.endswith("It is kept as it stands.") for t in told)
    assert [t for t in told if "line 8: the lookout" in t] and len(told) == 6
    book.toggle(path, 2)
    case.save(path, book, watches)
    after = tomlkit.parse(place.read_text())
    sentences = [entry["sentence"] for entry in after["lookouts"]]
    assert sentences[0].startswith("pause at line 2") and sentences[1:] == [
        "pause at line 1 of script.py whne `x > 1`",
        7,
    ]
    assert after["results"] == ["x within nothing that is known ,,,"]
    assert after["accepted_as"] == ["calls of depth", "everything"]
    assert after["stepped_over"] == "one.py"
    assert after["accepted"][0]["number"] == "one"
    again = Book()
    assert len(case.load(path, again)[1]) == 6 and len(again.kept) == 1


def test_state_files_are_private(tmp_path) -> None:
    path = tmp_path / "deep" / "state.json"
    write_private(path, b"one")
    write_private(path, b"two")
    assert path.read_bytes() == b"two" and path.stat().st_mode & 0o777 == 0o600
    assert [p.name for p in path.parent.iterdir()] == ["state.json"]
