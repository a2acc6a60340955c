"""Two runs side by side: real scripts, through the command and through the client."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from uneven_sum.client import BadUse
from uneven_sum.client.differing import folders

MODEL = """\
import math

G = 9.81

def rate(head):
    if head <= 0.0:
        return 0.0
    return 0.6 * math.sqrt(2 * G * head)

level, total = 2.0, 0.0
for day in range(30):
    flow = rate(level - 1.0)
    level -= flow * 0.05
    level += 0.01
    total += flow
print("total", total)
"""


def differ(*words: str, cwd: Path) -> tuple[dict, int]:
    command = [sys.executable, "-m", "uneven_sum", "differ", "--json", *words]
    done = subprocess.run(command, capture_output=True, text=True, cwd=cwd, stdin=subprocess.DEVNULL)
    assert done.returncode in (0, 1), done.stderr
    return json.loads(done.stdout), done.returncode


def said(*words: str, cwd: Path) -> str:
    command = [sys.executable, "-m", "uneven_sum", "differ", *words]
    return subprocess.run(command, capture_output=True, text=True, cwd=cwd, stdin=subprocess.DEVNULL).stdout


def refused(*words: str, cwd: Path) -> str:
    command = [sys.executable, "-m", "uneven_sum", "differ", *words]
    done = subprocess.run(command, capture_output=True, text=True, cwd=cwd, stdin=subprocess.DEVNULL)
    assert done.returncode == 2 and "Traceback" not in done.stderr
    return done.stderr


def test_an_edited_copy_parts_at_the_edited_term_though_lines_moved(tmp_path: Path) -> None:
    (tmp_path / "old.py").write_text(MODEL)
    edited = (
        MODEL.replace("0.6 *", "0.61 *")
        .replace("level, total", "# start\nlevel, total")
        .replace("import math", "#\nimport math")
    )
    (tmp_path / "new.py").write_text(edited)
    found, status = differ("old.py", "new.py", cwd=tmp_path)
    assert status == 1 and not found["equal"]
    first = found["first"]
    assert (first["a"]["line"], first["b"]["line"], first["a"]["pass"], first["a"]["times"]) == (8, 9, None, 1)
    assert first["a"]["function"] == "rate" and first["a"]["term"] == "0.6 * math.sqrt(2 * G * head)"
    assert first["b"]["term"] == "0.61 * math.sqrt(2 * G * head)" and first["a"]["file"] == str(tmp_path / "old.py")
    assert abs(first["difference"] - 0.01 / 0.61) < 1e-12
    assert found["output"]["number"] == 1 and found["ended"] == {"a": "to its end", "b": "to its end"}
    found, status = differ("old.py", "new.py", "--relative", "0.5", cwd=tmp_path)
    assert status == 0 and found["equal"]


def test_a_deterministic_script_is_equal_to_itself_and_time_is_left_out(tmp_path: Path, interpreter: str) -> None:
    (tmp_path / "model.py").write_text(MODEL + "import time\nbegan = time.time()\ntook = time.time() - began\n")
    found, status = differ("model.py", "--python", interpreter, "--env", "A=1", "--env", "A=2", cwd=tmp_path)
    assert status == 0 and found["first"] is None and found["records"] == 181 and found["left_out"] == 2
    found, status = differ("model.py", "--twice", cwd=tmp_path)
    assert status == 1 and found["first"]["a"]["term"] == "time.time()" and "the time" in found["why"]


@pytest.mark.parametrize(
    ("text", "term", "why"),
    [
        (
            "import random\nx = 1.0\ny = x + random.random()\n",
            "x + random.random()",
            "random numbers (random.random())",
        ),
        ("import numpy as np\na = np.random.default_rng().normal(size=5)\n", "size=5)", "random numbers"),
        ("names = {'weir', 'mill', 'upper', 'heron', 'beck'}\norder = list(names)\n", "list(names)", "order of a set"),
        ("class Gauge:\n    pass\nat = id(Gauge())\n", "id(Gauge())", "an address"),
    ],
)
def test_what_is_not_deterministic_is_named(text: str, term: str, why: str, tmp_path: Path) -> None:
    (tmp_path / "s.py").write_text(text)
    for _ in range(4):  # a set of texts may come in the same order by chance
        found, status = differ("--twice", "s.py", cwd=tmp_path)
        if status:
            break
    assert status == 1 and found["first"]["a"]["term"].endswith(term) and why in found["why"]


def test_a_seeded_script_is_deterministic(tmp_path: Path) -> None:
    (tmp_path / "s.py").write_text(
        "import random\nimport numpy as np\nrandom.seed(3)\na = np.random.default_rng(5).normal(size=(40, 5))\n"
        "b = a.sum(axis=0) * random.random()\nnames = sorted({'weir', 'mill', 'beck'})\nprint(b, names)\n"
    )
    found, status = differ("--twice", "s.py", cwd=tmp_path)
    assert status == 0 and found["equal"] and found["records"] > 20


def test_arguments_and_runs_that_take_different_ways(tmp_path: Path) -> None:
    (tmp_path / "s.py").write_text(
        "import sys\nlimit = 3.0\nw = 0.0\nfor k in range(50):\n    w += 0.1\n"
        "    if w > float(sys.argv[1]):\n        w = w - 1.0\n    v = w * 2\nprint('done')\n"
    )
    found, status = differ("s.py", "--args", "2", "--args", "4", cwd=tmp_path)
    assert status == 1 and found["first"]["a"]["term"] == "w > float(sys.argv[1])"
    assert (found["first"]["a"]["value"], found["first"]["b"]["value"], found["first"]["a"]["pass"]) == (
        "True",
        "False",
        20,
    )
    assert found["path"]["path"] and found["path"]["a"]["line"] == 7 and found["path"]["b"]["line"] == 8


def test_a_run_that_ends_in_an_error_is_compared_to_there(tmp_path: Path) -> None:
    (tmp_path / "s.py").write_text("import sys\nx = 1.0\ny = x / float(sys.argv[1])\nprint(y)\n")
    found, status = differ("s.py", "--args", "0", "--args", "2", cwd=tmp_path)
    assert status == 1 and found["ended"]["a"] == "with status 1: ZeroDivisionError: float division by zero"
    assert found["path"]["b"]["line"] == 3 and found["ended"]["b"] == "to its end"


def test_what_vanishes_while_a_folder_is_copied_was_no_part_of_it(tmp_path: Path, monkeypatch) -> None:
    home, copy = tmp_path / "home", tmp_path / "copy"
    for name in ("a.csv", "deep/b.csv", "deep/gone.csv", "lost/c.csv"):
        (home / name).parent.mkdir(parents=True, exist_ok=True)
        (home / name).write_text(name)
    plain = folders._left_out

    def left_out(folder: str, names: list[str]) -> set[str]:
        """It is asked when the names are known, and nothing of them is copied yet."""
        (home / "deep/gone.csv").unlink(missing_ok=True)
        shutil.rmtree(home / "lost", ignore_errors=True)
        return plain(folder, names)

    monkeypatch.setattr(folders, "_left_out", left_out)
    folders.copy_of(str(home), copy)
    assert {str(p.relative_to(copy)) for p in copy.rglob("*.csv")} == {"a.csv", "deep/b.csv"}
    monkeypatch.setattr(folders, "_left_out", lambda folder, names: set())
    os.mkfifo(home / "pipe")
    with pytest.raises(BadUse, match=r"cannot be copied: .*pipe"):
        folders.copy_of(str(home), tmp_path / "other")


def test_each_run_has_a_copy_of_the_folder_unless_told_otherwise(tmp_path: Path) -> None:
    (tmp_path / "s.py").write_text(
        "import os\nfound = os.path.exists('made.txt')\nwith open('made.txt', 'a') as f:\n    f.write('x')\nx = 2.0\n"
    )
    _found, status = differ("--twice", "s.py", cwd=tmp_path)
    assert status == 0 and not (tmp_path / "made.txt").exists()
    differ("--twice", "--in-place", "s.py", cwd=tmp_path)
    assert (tmp_path / "made.txt").read_text() == "xx"


def test_a_revision_of_git_against_the_file_and_what_both_read(tmp_path: Path) -> None:
    git = ["git", "-c", "user.name=a", "-c", "user.email=a@example.org"]
    (tmp_path / "model.py").write_text("scale = float(input())\nfrom part import half\nx = half(scale)\n")
    (tmp_path / "part.py").write_text("def half(v):\n    return v / 2\n")
    (tmp_path / "in.txt").write_text("8.0\n")
    for words in (["init", "-q"], ["add", "."], ["commit", "-qm", "first"]):
        subprocess.run([*git, *words], cwd=tmp_path, check=True)
    found, status = differ("HEAD:model.py", "model.py", "--stdin", "in.txt", cwd=tmp_path)
    assert status == 0 and found["records"] >= 3
    (tmp_path / "model.py").write_text("scale = float(input())\nfrom part import half\nx = half(scale + 1)\n")
    found, status = differ("HEAD:model.py", "model.py", "--stdin", "in.txt", cwd=tmp_path)
    assert status == 1 and os.path.basename(found["first"]["a"]["file"]) == "part.py"
    assert (found["first"]["a"]["value"], found["first"]["b"]["value"]) == ("4.0", "4.5")
    assert "git does not give OTHER:model.py" in refused("OTHER:model.py", "model.py", cwd=tmp_path)


def test_a_report_says_what_was_run_and_what_has_shown(tmp_path: Path) -> None:
    (tmp_path / "s.py").write_text("import sys\nx = float(sys.argv[1]) * 2\n")
    differ("s.py", "--args", "1", "--args", "3", "--report", "out.md", cwd=tmp_path)
    text = (tmp_path / "out.md").read_text()
    assert (
        "| arguments | 1 | 3 |" in text
        and "The values first differ at s.py:2" in text
        and str(tmp_path / "s.py") in text
    )
    assert "There is no folder" in refused("s.py", "--twice", "--report", "none/out.md", cwd=tmp_path)


def test_bad_use_is_a_sentence(tmp_path: Path) -> None:
    (tmp_path / "s.py").write_text("x = 1\n")
    (tmp_path / "bad.py").write_text("x = (\n")
    assert "There is no file nothing.py." in refused("nothing.py", "s.py", cwd=tmp_path)
    said = refused("bad.py", "s.py", cwd=tmp_path)
    assert "bad.py, line 1" in said and "/a/" not in said
    assert "What is to be compared?" in refused("s.py", cwd=tmp_path)
    assert "--twice is for one script" in refused("--twice", "s.py", "s.py", cwd=tmp_path)
    assert "twice" in refused("s.py", *["--args", "1"] * 3, cwd=tmp_path)


def test_arrays_frames_and_texts_are_told(tmp_path: Path) -> None:
    text = (
        "import numpy as np\nimport pandas as pd\na = np.arange(1000) * {0}\nf = pd.DataFrame({{'q': a, 'n': ['x'] * 1000}})\n"
        "s = 'weir {0}'\nc = complex(1, {0})\n"
    )
    (tmp_path / "a.py").write_text(text.format(2.0))
    (tmp_path / "b.py").write_text(text.format(2.5))
    found, _ = differ("a.py", "b.py", cwd=tmp_path)
    assert found["first"]["a"]["value"] == "999000.0 (sum of the cells)" and found["differing"] > 10
    (tmp_path / "b.py").write_text(text.format("2.0").replace("'weir 2.0'", "'mill 2.0'"))
    found, _ = differ("a.py", "b.py", cwd=tmp_path)
    assert (found["first"]["a"]["value"], found["first"]["b"]["value"]) == ("'weir 2.0'", "'mill 2.0'")


def stored(script: str, cwd: Path) -> None:
    command = [sys.executable, "-m", "uneven_sum", "differ", "--keep", "monday.parquet", script]
    done = subprocess.run(command, capture_output=True, text=True, cwd=cwd, stdin=subprocess.DEVNULL)
    assert done.returncode == 0 and "its values are in monday.parquet" in done.stdout, done.stderr


def test_a_stored_run_is_compared_with_later(tmp_path: Path) -> None:
    (tmp_path / "model.py").write_text(MODEL)
    (tmp_path / "pipe").mkdir()
    os.mkfifo(tmp_path / "pipe" / "gauge")  # what is no file is not copied
    stored("model.py", tmp_path)
    same, status = differ("monday.parquet", "model.py", cwd=tmp_path)
    assert same["equal"] and status == 0 and same["records"] > 100 and same["ended"]["a"] == "to its end"
    (tmp_path / "model.py").write_text("# moved\n" + MODEL.replace("0.6 *", "0.61 *"))
    told, status = differ("monday.parquet", "model.py", cwd=tmp_path)
    first = told["first"]
    assert (first["a"]["line"], first["b"]["line"], status) == (8, 9, 1)
    assert first["a"]["file"] == str(tmp_path / "model.py") and first["a"]["term"].startswith("0.6 *")
    back, _ = differ("model.py", "monday.parquet", cwd=tmp_path)
    assert back["first"]["b"] == first["a"] and back["first"]["a"] == first["b"]


def test_a_stored_run_is_an_open_file(tmp_path: Path) -> None:
    import pyarrow.parquet as pq

    (tmp_path / "model.py").write_text("x = 0.5\ny = x * 3\nif y > 1:\n    name = 'spring'\n")
    stored("model.py", tmp_path)
    table = pq.read_table(tmp_path / "monday.parquet").to_pandas()
    about = json.loads(pq.read_metadata(tmp_path / "monday.parquet").metadata[b"uneven_sum"])
    lines = {p["place"]: p["line"] for p in about["places"]}
    told = [(lines[r.place], r.part, r.more, r.value) for r in table.itertuples()]
    assert told[:3] == [(1, 0, False, 0.5), (2, 0, False, 1.5), (3, 2, False, 1.0)]
    assert about["texts"] == [[told[3][3], "spring"]] and about["format"] == 2
    assert about["sources"] == {str(tmp_path / "model.py"): (tmp_path / "model.py").read_text().rstrip("\n")}


def test_a_file_that_is_no_stored_run_of_ours_is_refused(tmp_path: Path) -> None:
    import pyarrow as pa
    import pyarrow.parquet as pq

    (tmp_path / "model.py").write_text(MODEL)
    table = pa.table({"level": [1.0]})
    pq.write_table(table, tmp_path / "gauge.parquet")
    assert "no stored run" in refused("gauge.parquet", "model.py", cwd=tmp_path)
    pq.write_table(table.replace_schema_metadata({"uneven_sum": '{"format": 9}'}), tmp_path / "new.parquet")
    assert "another version of Uneven Sum (format 9; this one reads 2)" in refused(
        "new.parquet", "model.py", cwd=tmp_path
    )
    (tmp_path / "cut.parquet").write_bytes((tmp_path / "gauge.parquet").read_bytes()[:60])
    assert "cannot be read as a stored run" in refused("cut.parquet", "model.py", cwd=tmp_path)
    assert "There is no folder" in refused("--keep", "none/at.parquet", "model.py", cwd=tmp_path)
    stored("model.py", tmp_path)
    assert "is a stored run already" in refused("--keep", "x.parquet", "monday.parquet", cwd=tmp_path)
    assert not list(tmp_path.glob("*.part"))


def test_terms_and_what_differs_within_the_tolerance(tmp_path: Path) -> None:
    (tmp_path / "old.py").write_text("a = 1.0\nb = a * 3.0 + 2.0 / 3.0 - a * 1.0000001\nc = b * 1000.0\n")
    (tmp_path / "new.py").write_text("a = 1.0\nb = a * 3.0 + 2.0 / 3.0 - a * 1.0000002\nc = b * 1001.0\n")
    stored_only, _ = differ("old.py", "new.py", cwd=tmp_path)
    assert stored_only["first"]["a"]["term"].startswith("a * 3.0 + ")
    terms, _ = differ("--terms", "old.py", "new.py", cwd=tmp_path)
    assert terms["first"]["a"]["term"] == "a * 1.0000001" and terms["first"]["b"]["term"] == "a * 1.0000002"
    near, _ = differ("--relative", "1e-6", "old.py", "new.py", cwd=tmp_path)
    assert near["first"]["a"]["line"] == 3 and near["near"]["count"] == 1 and 0 < near["near"]["largest"] < 1e-6
    line, _ = differ("--at", "old.py:2=1e-6", "old.py", "new.py", cwd=tmp_path)
    assert line["first"]["a"]["line"] == 3 and line["near"]["count"] == 1
    assert "--at takes FILE:LINE=X" in refused("--at", "old.py=1e-6", "old.py", "new.py", cwd=tmp_path)
    equal, status = differ("--relative", "0.1", "old.py", "new.py", cwd=tmp_path)
    assert equal["equal"] and status == 0 and equal["near"]["count"] == 2


NESTED = """\
level = 2.0
def part(h):
    s = 0.0
    for k in range(5):
        if k > 2:
            s = s + h * k
    return s
out = []
for day in range(4):
    hour = 0
    while hour < 3:
        hour += 1
        if day == 2:
            level = level - 0.2
        out.append(part(level))
print(sum(part(h) for h in out))
"""


def test_a_pass_is_the_loops(tmp_path: Path) -> None:
    """And not how often the place came; a function that is called in a loop has its own loops."""
    (tmp_path / "old.py").write_text(NESTED)
    (tmp_path / "new.py").write_text(NESTED.replace("0.2", "0.3"))
    changed, _ = differ("old.py", "new.py", cwd=tmp_path)
    first = changed["first"]["a"]
    assert (first["line"], first["loop"], first["pass"], first["times"]) == (14, 11, 1, 1)
    largest = changed["largest"]["a"]
    assert (largest["line"], largest["loop"], largest["pass"]) == (6, 4, 5) and largest["times"] > 5
    (tmp_path / "new.py").write_text(NESTED.replace("h * k", "h * k * (1.1, 1.0)[h > 1.9]"))
    called, _ = differ("old.py", "new.py", cwd=tmp_path)
    first = called["first"]["a"]
    assert (first["line"], first["loop"], first["pass"], first["times"]) == (6, 4, 4, 13)
    stored("old.py", tmp_path)
    again, _ = differ("monday.parquet", "new.py", cwd=tmp_path)
    assert again["first"]["a"] == first
    (tmp_path / "new.py").write_text(NESTED.replace("day == 2", "day >= 2"))
    path, _ = differ("old.py", "new.py", cwd=tmp_path)
    assert path["first"]["a"]["line"] == 13 and path["first"]["a"]["pass"] == 1 and path["first"]["a"]["times"] == 10
    text = said("old.py", "new.py", cwd=tmp_path)
    assert "old.py:13, pass 1 of the loop at line 11, the 10th time" in text


UNSET = """\
import numpy as np

def smooth(p):
    out = np.empty_like(p)
    out[0] = p[0]
    for i in range(1, len(p)):
        out[i] = 0.5 * (p[i] + p[i - 1])
    return out

waves = np.empty((4, 3), dtype=complex)
same = waves
same[:] = 1j
flags = np.empty(100, bool)
flags[:] = True
single = np.empty(5, np.float32)
for i in range(FILLED):
    single[i] = i
print(smooth(np.arange(50.0)).sum(), same.sum(), flags.sum())
total = single.sum()
"""


OWN = """\
import numpy as np
from numpy import empty_like

class Grid:
    def empty(self, n):
        return np.zeros(n)

def empty(n):
    return np.ones(n)

def of(np):
    return np.empty(2)

print(Grid().empty(3), empty(2), of(Grid()), empty_like(np.zeros(2)).shape)
"""


def test_functions_of_the_script_that_are_called_empty_keep_their_results(tmp_path: Path) -> None:
    (tmp_path / "s.py").write_text(OWN)
    found, status = differ("--twice", "s.py", cwd=tmp_path)
    assert status == 0 and found["equal"] and found["ended"] == {"a": "to its end", "b": "to its end"}


def test_unset_memory_is_no_difference_until_it_is_used(tmp_path: Path, interpreter: str) -> None:
    (tmp_path / "s.py").write_text(UNSET.replace("FILLED", "5"))
    found, status = differ("--twice", "s.py", "--python", interpreter, cwd=tmp_path)
    assert status == 0 and found["equal"] and found["records"] > 100
    (tmp_path / "s.py").write_text(UNSET.replace("FILLED", "4"))
    found, status = differ("--twice", "s.py", "--python", interpreter, cwd=tmp_path)
    assert status == 1 and found["first"]["a"]["term"] == "single.sum()"


def test_the_term_of_an_augmented_assignment_is_the_whole(tmp_path: Path) -> None:
    text = "power = [1.0, 2.0]\nfor k in range(2):\n    power[k] *= 2.0\nprint(power)\n"
    (tmp_path / "old.py").write_text(text)
    (tmp_path / "new.py").write_text(text.replace("2.0\nprint", "2.5\nprint"))
    found, _ = differ("old.py", "new.py", cwd=tmp_path)
    first = found["first"]
    assert (first["a"]["term"], first["b"]["term"]) == ("power[k] *= 2.0", "power[k] *= 2.5")
