"""What the docs tell to type is typed: every command, every benchmark, and the walk-through of each shipped case."""

from __future__ import annotations

import os
import re
import shlex
import shutil
import subprocess
import sys
from pathlib import Path

import pytest
from driving import running

from uneven_sum.demo import CASES, find

TOP = Path(__file__).parents[2]
TEXTS = [TOP / "README.md", *sorted((TOP / "docs").glob("*.md"))]
MODEL = "x = 1.0\n" * 31 + "for day in range(3):\n    head = day * 0.5\n    total = head + 1.0\n"
MODEL += "    print(total)\nflow = [0.5] * 365\n" + "x = flow[211]\n" * 10 + "y = total * 1e308 * 10.0\n"


def commands() -> list[str]:
    found = []
    for text in TEXTS:
        for line in text.read_text().splitlines():
            block = re.match(r"    (uneven-sum .*)", line)
            found += [block[1].partition("#")[0].strip()] if block else []
            found += re.findall(r"`(uneven-sum [^`]*)`", line)
    return sorted({c for c in found if not re.search(r"[A-Z]{3}|…", c.partition(" ")[2])})


def test_commands_were_found() -> None:
    assert len(commands()) >= 12


@pytest.mark.parametrize("command", commands())
def test_command_of_the_docs(command: str, tmp_path, terminal) -> None:
    words = shlex.split(command)[1:]
    name = words[0] if words else "desk"
    for text in ("model.py", "old.py", "new.py"):
        (tmp_path / text).write_text(MODEL)
    for path in Path(find("rating")).parent.iterdir():
        if path.is_file():
            shutil.copy(path, tmp_path)
    (tmp_path / "runs.csv").write_text("start,gauge\n1,north\n")
    (tmp_path / "data").mkdir()
    (tmp_path / "data" / "one.csv").write_text("1\n")
    words = [str(Path(sys.executable)) if w.startswith("~/") else w for w in words]
    ours = {"old/bin/python": sys.executable, "new/bin/python": os.path.realpath(sys.executable)}
    words = [ours.get(w, w) for w in words]
    if "--hold" in words:  # until somebody has had the time to attach
        words[words.index("--hold") + 1] = "1"
    if (
        name in ("check", "passes", "settings", "differ", "digits", "origin", "cells", "sweep")
        or words == ["demo"]
        or "--help" in words
    ):
        if words == ["check"]:
            words = ["check", "model.py"]
        elif words == ["differ"]:
            words = ["differ", "--twice", "model.py"]
        elif words == ["origin"]:
            words = ["origin", "--of", "total", "model.py"]
        elif words == ["sweep"]:
            words = ["sweep", "--vary", "width=1", "model.py"]
        elif words == ["digits"]:
            words = ["digits", "model.py"]
        if words[:2] == ["differ", "monday.parquet"]:
            keep = [sys.executable, "-m", "uneven_sum", "differ", "--keep", "monday.parquet", "model.py"]
            subprocess.run(keep, capture_output=True, check=True, cwd=tmp_path)
        elif words[:2] == ["check", "--json"] and len(words) == 2:
            words.append("model.py")
        done = subprocess.run(
            [sys.executable, "-m", "uneven_sum", *words], capture_output=True, text=True, cwd=tmp_path
        )
        assert done.returncode in (0, 1), done.stderr
    elif name == "serve":
        words = words if len(words) > 1 else ["serve", "--stdio"]
        command = [sys.executable, "-m", "uneven_sum", *words]
        done = subprocess.run(command, input=b"", capture_output=True, timeout=60)
        assert done.returncode == 0 and not done.stderr
    else:
        words = [str(tmp_path / w) if w.endswith(".py") else w for w in words]
        if words == ["run", "--no-return-points"]:
            words.append(str(tmp_path / "model.py"))
        t = terminal(*words)
        t.expect("? help")


@pytest.mark.timeout(900)  # half as long as all else together
@pytest.mark.timeout(1800)  # all of them, one after another
def test_every_benchmark_runs() -> None:
    environment = {**os.environ, "UNEVEN_SUM_QUICK": "1"}
    done = subprocess.run(
        [sys.executable, str(TOP / "benchmarks" / "run.py")], capture_output=True, text=True, env=environment
    )
    assert done.returncode == 0, done.stderr[-2000:]
    assert "limit" in done.stdout.splitlines()[-1]


# Of each shipped case: what the walk-through in docs/cases.md says of its pause, and what it lets one ask.
WALKS = {
    "rating": (35, "a negative number to a fractional power", {"int((stage < SILL).sum())": "53"}),
    "routing": (22, "float overflow", {}),
    "lagged": (28, "IndexError", {"day + LAG": "366"}),
    "join": (
        23,
        "",
        {"int(both['rain_mm'].isna().sum()) if 'both' in locals() else len(inflow.join(rain).dropna())": "0"},
    ),
    "fit": (None, "", {}),
    "share": (21, "zero divided by zero", {"int((flows == 0).all(axis=1).sum())": "6"}),
    "logger": (0, "", {}),
    "total": (0, "", {}),
    "clock": (0, "", {}),
    "rain": (0, "", {}),
    "twins": (0, "", {}),
    "wet": (26, "zero divided by zero", {"WET": "25.0", "int(of.max() > 22)": "1"}),
}


def test_every_case_has_its_walk() -> None:
    text = (TOP / "docs" / "cases.md").read_text()
    assert set(WALKS) == set(CASES)
    for name in CASES:
        assert f"## {name}: " in text


@pytest.mark.parametrize("name", WALKS)
async def test_walk_through(name: str) -> None:
    line, said, questions = WALKS[name]
    path = str(find(name))
    async with running(path, cwd=os.path.dirname(path)) as run:
        facts = await run.pause()
        if line == 0:
            assert facts is None and run.exited is not None and run.exited.exit_status == 0
            return
        assert facts is not None and (line is None or facts.line == line)
        assert said in facts.headline
        for question, answer in questions.items():
            assert await run.ask(question) == answer


def test_keys_and_words_of_the_docs_are_those_of_the_program() -> None:
    done = subprocess.run([sys.executable, str(TOP / "tools" / "make_docs"), "--check"], capture_output=True, text=True)
    assert done.returncode == 0, done.stdout + done.stderr
