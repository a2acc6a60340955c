"""A rewritten script behaves as the plain one: same output, same errors, same status, on each CPython."""

from __future__ import annotations

import contextlib
import difflib
import functools
import re
import socket
import subprocess
import sys
import tempfile
import threading
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from driving import running
from interpreters import version_of

from uneven_sum.protocol import Lookout
from uneven_sum.protocol.trips import RULE_WORDS

CORPUS = sorted((Path(__file__).parent / "corpus").glob("*.py"))


def needs(path: Path, interpreter: str) -> None:
    """Skip a script that is written for a later version."""
    first = path.read_text().partition("\n")[0]
    if first.startswith("# needs "):
        wanted = tuple(map(int, first.removeprefix("# needs ").split(".")))
        if version_of(interpreter) < wanted:
            pytest.skip(f"{path.name} is for CPython {'.'.join(map(str, wanted))}")


def comparable(text: str) -> list[str]:
    return re.sub(r"0x[0-9a-f]+", "0x", text).splitlines()


RECORDED = {"always": {"branches": True, "times": True}, "counts": True}


AUDITED = {"audit": [], "pause_on": set(), "checks": False}
# A line is written at each finding; the tripwires are on beside.
RULES = {"lookouts": [Lookout(n, where="finding", name=rule, text="x") for n, rule in enumerate(RULE_WORDS, 1)]}


@pytest.mark.parametrize("how", ["watched", "recorded", "audited"])
@pytest.mark.parametrize("path", CORPUS, ids=lambda p: p.stem)
async def test_same_as_plain(path: Path, interpreter: str, how: str) -> None:
    await compared(path, interpreter, how)


@pytest.mark.parametrize("how", ["with rules", "streamed", "terms told"])
@pytest.mark.parametrize("path", CORPUS, ids=lambda p: p.stem)
async def test_same_as_plain_in_our_interpreter(path: Path, how: str) -> None:
    await compared(path, sys.executable, how)


@functools.cache
def run_plainly(interpreter: str, path: Path) -> subprocess.CompletedProcess[str]:
    """The script as it is, once for all that is compared with it."""
    return subprocess.run([interpreter, str(path), "a", "b"], capture_output=True, text=True, stdin=subprocess.DEVNULL)


async def compared(path: Path, interpreter: str, how: str) -> None:
    start = {"recorded": RECORDED, "with rules": RULES}.get(how, {})
    more = AUDITED if how == "audited" else {}
    needs(path, interpreter)
    plain = run_plainly(interpreter, path)
    told = {"streamed": None, "terms told": 0}  # as in the plain one of shaken runs, in which nothing is moved
    with drained(how in told) as stream:
        streamed: dict[str, Any] = {}
        if how in told:
            streamed = {"stream": stream, "shake": told[how], "pause_on": set(), "checks": False}
        async with running(str(path), "a", "b", python=interpreter, go_on=True, start=start, **more, **streamed) as run:
            await run.client.write_input(None)
            assert await run.pause() is None
    assert not run.trouble
    if (
        how != "watched" and path.stem == "introspect"
    ):  # a script that traces itself sees the recorder's calls: docs/passes.md
        printed, run.out = (text.rpartition("['call'")[0] for text in (plain.stdout, run.out))
    else:
        printed = plain.stdout
    findings = ("x\n",) if how == "with rules" else ()
    err = "".join(line for line in run.err.splitlines(keepends=True) if line not in findings)
    for mine, theirs in ((printed, run.out), (plain.stderr, err)):
        assert not list(difflib.unified_diff(comparable(mine), comparable(theirs), "plain", "rewritten", lineterm=""))
    assert run.exited is not None
    assert run.exited.exit_status == plain.returncode


@contextlib.contextmanager
def drained(wanted: bool) -> Iterator[str]:
    """The path of a socket whose stream is read and dropped; empty where none is wanted."""
    if not wanted:
        yield ""
        return
    with tempfile.TemporaryDirectory() as folder, socket.socket(socket.AF_UNIX) as ours:
        path = f"{folder}/stream"
        ours.bind(path)
        ours.listen()

        def read() -> None:
            there, _ = ours.accept()
            with there:
                while there.recv(1 << 20):
                    pass

        threading.Thread(target=read, daemon=True).start()
        yield path


async def test_module_runs_as_with_dash_m(tmp_path, interpreter: str) -> None:
    package = tmp_path / "basin"
    package.mkdir()
    (package / "__init__.py").write_text("")
    (package / "part.py").write_text("def half(x):\n    return x / 2\n")
    (package / "__main__.py").write_text(
        "import sys\nfrom .part import half\nprint(__name__, __package__, __spec__.name, sys.argv[1:], half(3.0))\n"
    )
    plain = subprocess.run([interpreter, "-m", "basin", "x"], capture_output=True, text=True, cwd=tmp_path)
    async with running("basin", "x", as_module=True, python=interpreter, cwd=str(tmp_path)) as run:
        assert await run.pause() is None
    assert run.out == plain.stdout
    assert "basin.__main__" in run.out


async def test_reads_standard_input(script) -> None:
    path = script("total = 0.0\nfor line in open(0):\n    total += float(line)\nprint(total)\n")
    async with running(path) as run:
        await run.client.write_input("1.5\n2.5\n")
        await run.client.write_input(None)
        assert await run.pause() is None
    assert run.out == "4.0\n"


async def test_script_that_closes_its_output_and_deletes_itself(script) -> None:
    path = script(
        "import os, sys\nos.remove(__file__)\nsys.stdout.close()\nx = 1.0 / 2\nos.closerange(3, 50)\ny = x * 2\n"
    )
    async with running(path) as run:
        assert await run.pause() is None
    assert run.exited is not None and run.exited.exit_status == 0


IN_CHILD = (
    "import multiprocessing\nimport runpy\nimport sys\n\nif __name__ == '__main__':\n"
    "    method, path, *sys.argv[1:] = sys.argv[1:]\n"
    "    one = multiprocessing.get_context(method).Process(target=runpy.run_path, args=(path, None, '__main__'))\n"
    "    one.start()\n    one.join()\n    print('ended with', one.exitcode)\n"
)


@pytest.mark.parametrize("method", ["fork", "spawn", "forkserver"])
@pytest.mark.parametrize("path", CORPUS, ids=lambda p: p.stem)
async def test_same_as_plain_in_a_child(path: Path, method: str, script) -> None:
    """A process that the script starts, in which the probes are: by each start method."""
    needs(path, sys.executable)
    program = script(IN_CHILD)
    command = [sys.executable, program, method, str(path), "a", "b"]
    plain = subprocess.run(command, capture_output=True, text=True, stdin=subprocess.DEVNULL)
    async with running(program, *command[2:], go_on=True, user_code=[str(path.parent)]) as run:
        await run.client.write_input(None)
        assert await run.pause() is None
    assert not run.trouble and "ended with" in plain.stdout
    for mine, theirs in ((plain.stdout, run.out), (plain.stderr, run.err)):
        assert not list(difflib.unified_diff(comparable(mine), comparable(theirs), "plain", "rewritten", lineterm=""))


@pytest.mark.parametrize("safe", ["", "1"])
@pytest.mark.parametrize("as_module", [False, True])
def test_the_path_is_the_same(as_module: bool, safe: str, script, interpreter: str) -> None:
    """Every entry; the folder of the script is not among them where the interpreter leaves it out."""
    path = Path(script("import sys\nprint(sys.path)\n"))
    if as_module and safe:
        pytest.skip("a module that is not on the path cannot be run")
    what = ["-m", path.stem] if as_module else [str(path)]
    options = {"capture_output": True, "text": True, "cwd": path.parent, "env": {"PATH": "/usr/bin:/bin"}}
    options["env"] |= {"PYTHONSAFEPATH": safe} if safe else {}
    plain = subprocess.run([interpreter, *what], **options)
    watch = [sys.executable, "-P", "-m", "uneven_sum", "check", "--python", interpreter]
    watched = subprocess.run([*watch, *(["--module", path.stem] if as_module else what)], **options)
    assert plain.stdout.startswith("[") and watched.stdout == plain.stdout, watched.stderr
