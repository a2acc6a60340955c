"""Interpreters to test on, and helpers that run a script plainly."""

from __future__ import annotations

import functools
import glob
import os
import shutil
import subprocess
import sys

import pytest
from driving_app import Terminal

HERE = os.path.dirname(os.path.abspath(__file__))
# Those that tools/other_interpreters has given the numerical packages come first.
ELSEWHERE = (
    os.path.join(HERE, "..", ".venv", "others", "3.*", "bin", "python"),
    os.path.expanduser("~/.pyenv/versions/3.*/bin/python"),
    "/usr/bin/python3",
)


@functools.cache
def version_of(path: str) -> tuple[int, int]:
    """Of an interpreter; (0, 0) for one that does not run."""
    ask = subprocess.run([path, "-c", "import sys; print(*sys.version_info[:2])"], capture_output=True, text=True)
    words = ask.stdout.split()
    return (int(words[0]), int(words[1])) if ask.returncode == 0 and len(words) == 2 else (0, 0)


def interpreters() -> list[str]:
    """Our own interpreter and every other CPython from 3.11 up that is installed."""
    found = {sys.version_info[:2]: sys.executable}
    for path in [os.path.normpath(p) for pattern in ELSEWHERE for p in sorted(glob.glob(pattern))]:
        version = version_of(path)
        if version >= (3, 11):
            found.setdefault(version, path)
    return [found[v] for v in sorted(found)]


INTERPRETERS = interpreters()


@pytest.fixture(params=INTERPRETERS, ids=lambda p: "own" if p == sys.executable else p.split("/")[-3])
def interpreter(request: pytest.FixtureRequest) -> str:
    return str(request.param)


@pytest.fixture
def script(tmp_path):
    """Writes a script and gives its path."""

    def write(text: str, name: str = "script.py") -> str:
        path = tmp_path / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text)
        return str(path)

    return write


@pytest.fixture(autouse=True)
def own_state(tmp_path_factory, monkeypatch) -> None:
    """What the application keeps for its user is kept elsewhere while it is tested."""
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path_factory.mktemp("state")))
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path_factory.mktemp("config")))


@pytest.fixture
def terminal():
    """Starts the program in tmux."""
    if shutil.which("tmux") is None:
        pytest.fail("tmux is missing: make test installs it")
    opened: list[Terminal] = []

    def start(*args: str, columns: int = 140, rows: int = 42, env: str = "") -> Terminal:
        command = " ".join(["env -u COLUMNS -u LINES", env, sys.executable, "-m", "uneven_sum", *args])
        # tmux itself sometimes misses the end of a pane: the shell tells it, and stays.
        opened.append(Terminal(f"sh -c '{command}; echo left with status $?; sleep 600'", columns, rows))
        return opened[-1]

    yield start
    for one in opened:
        one.close()
