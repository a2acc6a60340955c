"""What a script sends to other processes is what it would have sent plainly, on each CPython."""

from __future__ import annotations

import functools
import subprocess
import sys
from pathlib import Path

import pytest

SCRIPTS = sorted((Path(__file__).parent / "corpus_workers").glob("*.py"))


@functools.cache
def has(interpreter: str, package: str) -> bool:
    return subprocess.run([interpreter, "-c", f"import {package}"], capture_output=True, cwd="/").returncode == 0


@pytest.mark.parametrize("path", SCRIPTS, ids=lambda p: p.stem)
def test_workers_get_plain_functions(path: Path, interpreter: str, tmp_path) -> None:
    packages = path.read_text().partition("\n")[0].removeprefix("# packages:").split()
    missing = [p for p in packages if not has(interpreter, p)]
    if missing:
        pytest.skip(f"{' and '.join(missing)} missing in {interpreter}")
    plain = subprocess.run([interpreter, str(path)], capture_output=True, text=True, cwd=tmp_path, timeout=300)
    command = [sys.executable, "-m", "uneven_sum", "check", "--python", interpreter, str(path)]
    watched = subprocess.run(command, capture_output=True, text=True, cwd=tmp_path, timeout=300)
    assert (watched.stdout, watched.returncode) == (plain.stdout, plain.returncode), watched.stderr
    assert "uneven_sum" not in watched.stderr


def test_code_of_one_line_is_told_apart(script, interpreter: str) -> None:
    """Two lambdas of one line keep their own code, pickled or with a lookout set in their file."""
    path = script(
        "import marshal, types\n"
        "halves, thirds = (lambda a: a / 2), (lambda a: a / 3)\n"
        "for f in (halves, thirds):\n"
        "    print(types.FunctionType(marshal.loads(marshal.dumps(f.__code__)), {})(6), f(6))\n"
    )
    command = [sys.executable, "-m", "uneven_sum", "check", "--python", interpreter, path]
    done = subprocess.run(command, capture_output=True, text=True)
    assert done.stdout == "3.0 3.0\n2.0 2.0\n"
