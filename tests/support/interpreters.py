"""The interpreters to test on."""

from __future__ import annotations

import functools
import glob
import os
import subprocess
import sys

HERE = os.path.dirname(os.path.abspath(__file__))
# Those that tools/other_interpreters has given the numerical packages come first.
ELSEWHERE = (
    os.path.join(HERE, "..", "..", ".venv", "others", "3.*", "bin", "python"),
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
