"""Interpreters to test on, and helpers that run a script plainly."""

from __future__ import annotations

import shutil
import sys

import hypothesis
import pytest
from driving_app import Terminal
from interpreters import INTERPRETERS
from starting import start_from_ready

from uneven_sum.host.launch import Limits

# A busy machine makes no test fail.
hypothesis.settings.register_profile("no deadline", deadline=None)
hypothesis.settings.load_profile("no deadline")
Limits.__init__.__defaults__ = (60.0, *Limits.__init__.__defaults__[1:])  # nor does it end an evaluation in a copy
collect_ignore = ["support/tested"]  # tests that are run by tests


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
def own_folder(tmp_path_factory, monkeypatch) -> None:
    """The working folder is an empty one: runs in copies copy it."""
    monkeypatch.chdir(tmp_path_factory.mktemp("work"))


@pytest.fixture(autouse=True)
def quick_starts(request: pytest.FixtureRequest, monkeypatch) -> None:
    """Scripts start in forks of an interpreter that is held ready; as users start them where that itself is tested."""
    if request.path.parent.name not in ("transparency", "terminal"):
        start_from_ready(monkeypatch)


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


SLOW = {  # files whose tests take seconds each: they start applications, workers or long loops
    *("test_any_keys", "test_app", "test_bad_input", "test_bench_more", "test_desk", "test_docs", "test_editor"),
    *("test_guide", "test_keys", "test_ledger", "test_ledgers", "test_notes", "test_passes_back", "test_story"),
    *("test_recording", "test_rewind", "test_settings", "test_verify", "test_workers", "test_values_more"),
    *("test_audit", "test_origin", "test_deserved", "test_quick_keys", "test_values_live", "test_transparency"),
}


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Markers by what a test uses: `make test-quick` leaves out the slow ones and the other interpreters."""
    for item in items:
        fixtures = getattr(item, "fixturenames", ())
        if "interpreter" in fixtures:
            item.add_marker("interpreters")
            if getattr(item, "callspec", None) and item.callspec.params.get("interpreter") != sys.executable:
                item.add_marker("slow")
        if "terminal" in fixtures or item.path.parent.name == "terminal":
            item.add_marker("terminal")
        if item.path.stem in SLOW:
            item.add_marker("slow")
