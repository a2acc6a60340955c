"""Runs a test or a script in a copy of the folder: with the file as it is, and with a line mended."""

from __future__ import annotations

import asyncio
import json
import os
import shutil
import subprocess
import sys
import tempfile
from dataclasses import dataclass
from pathlib import Path

from ...host.launch import BadUse
from ..differing.folders import copy_of
from .call import SavedCall
from .text import data_folder

SECONDS = 120.0
# Runs the tests of a module without pytest, which the script's interpreter need not have.
RUNNER = """
import json, os, sys, traceback
path = sys.argv[1]
sys.path.insert(0, os.path.dirname(path))
told = {"passed": False, "kind": "", "said": "", "line": 0, "file": ""}
try:
    names = {"__name__": "kept", "__file__": path}
    exec(compile(open(path, "rb").read(), path, "exec"), names)
    told["defined"] = True
    for name, test in list(names.items()):
        if name.startswith("test_"):
            test()
    told["passed"] = True
except BaseException as e:
    last = traceback.extract_tb(e.__traceback__)[-1]
    told.update(kind=type(e).__name__, said=str(e)[:300] or last.line, line=last.lineno or 0, file=last.filename)
print("\\0" + json.dumps(told))
"""


@dataclass
class Outcome:
    """What one run of a test gave.  `kind`: the class of the error; `line`, `file`: where it was raised."""

    passed: bool
    kind: str = ""
    said: str = ""
    line: int = 0
    file: str = ""
    defined: bool = False

    @property
    def sentence(self) -> str:
        if self.passed:
            return "passes"
        place = f" (line {self.line} of {os.path.basename(self.file)})" if self.line else ""
        return f"fails: {self.kind}{': ' + self.said if self.said else ''}{place}"


@dataclass
class Mended:
    """A file with other lines: `first` to `last` are replaced by `text`, which has no indentation of its own."""

    file: str
    first: int
    last: int
    text: str

    def applied(self, source: str) -> str:
        lines = source.split("\n")
        old = lines[self.first - 1]
        indent = old[: len(old) - len(old.lstrip())]
        new = [indent + line if line.strip() else line for line in self.text.split("\n")]
        return "\n".join([*lines[: self.first - 1], *new, *lines[self.last :]])


def shows_fault(outcome: Outcome, call: SavedCall, place: Path) -> bool:
    """Whether a test fails for the reason of its pause: by its own assertion, or by the same error."""
    if outcome.passed or not outcome.defined:
        return False
    by_assertion = outcome.kind == "AssertionError" and os.path.basename(outcome.file) == place.name
    return by_assertion or outcome.kind == call.failed


async def run(call: SavedCall, place: Path, text: str, python: str, mended: Mended | None = None) -> Outcome:
    """Run a test in a copy of the folder of its source.  BadUse where it cannot be run."""
    return await asyncio.to_thread(_run, call, place, text, python, mended)


def _run(call: SavedCall, place: Path, text: str, python: str, mended: Mended | None) -> Outcome:
    top = common_folder(call, place)
    with tempfile.TemporaryDirectory(prefix="uneven-sum-") as scratch:
        copy = Path(scratch) / "copy"
        copy_of(top, copy)
        there = copy / os.path.relpath(place, top)
        write(call, there, text)
        if mended is not None:
            source = copy / os.path.relpath(mended.file, top)
            source.write_text(mended.applied(source.read_text(encoding="utf-8")), encoding="utf-8")
        return _told(python, there, str(copy), top)


def _told(python: str, there: Path, copy: str, top: str) -> Outcome:
    environment = {**os.environ, "PYTHONDONTWRITEBYTECODE": "1"}
    command = [python or sys.executable, "-c", RUNNER, str(there)]
    try:
        ran = subprocess.run(
            command,
            cwd=copy,
            capture_output=True,
            text=True,
            timeout=SECONDS,
            env=environment,
            stdin=subprocess.DEVNULL,
        )
    except subprocess.TimeoutExpired:
        raise BadUse(f"The test takes more than {SECONDS:.0f} s.") from None
    _, found, last = ran.stdout.rpartition("\0")
    if not found:
        raise BadUse(f"The test ends its interpreter, with status {ran.returncode}.")
    told = Outcome(**json.loads(last))
    told.file, told.said = told.file.replace(copy, top), told.said.replace(copy, top)
    return told


def common_folder(call: SavedCall, place: Path) -> str:
    """The folder that holds the source, and the place of the test."""
    home = call.root or os.path.dirname(call.file)
    return os.path.commonpath([home, str(place.parent)])


def write(call: SavedCall, place: Path, text: str) -> None:
    """Write a test or a script, and the files of the arguments in the folder beside it."""
    place.parent.mkdir(parents=True, exist_ok=True)
    place.write_text(text, encoding="utf-8")
    if call.files:
        folder = place.parent / data_folder(place)
        folder.mkdir(exist_ok=True)
        for name in call.files:
            shutil.copyfile(Path(call.folder) / name, folder / name)
