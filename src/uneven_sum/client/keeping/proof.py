"""Runs a test or a script in a copy of the folder: with the file as it is, and with a line mended."""

from __future__ import annotations

import asyncio
import json
import os
import shutil
import subprocess
import tempfile
from collections.abc import AsyncIterator
from dataclasses import dataclass
from pathlib import Path

from ...host.interpreter import candidate
from ...host.launch import BadUse, Launch
from ...protocol.messages import Facts
from ..differing.folders import copy_of
from ..edits import indented_like
from ..fault import Repair
from ..sources import text_of, with_text
from .call import SavedCall
from .text import data_folder, module_of_test, stem

SECONDS = 120.0
FURTHEST = 4  # folders between the source and the common one
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
    """Other lines: `first` to `last` are replaced by `text`, which has no indentation of its own."""

    first: int
    last: int
    text: str

    def applied(self, source: str) -> str:
        lines = source.split("\n")
        old = "\n".join(lines[self.first - 1 : self.last])
        new = indented_like(self.text, old).split("\n")
        return "\n".join([*lines[: self.first - 1], *new, *lines[self.last :]])


@dataclass
class Files:
    """`texts`: of files that ran with another text than they have now; `python`: the script's interpreter."""

    python: str
    texts: dict[str, str]

    @classmethod
    def of(cls, launch: Launch, texts: dict[str, str]) -> Files:
        """With the interpreter that a launch uses.  BadUse where there is none."""
        return cls(candidate(launch.python), texts)

    def source(self, file: str) -> str:
        return self.texts[file] if file in self.texts else text_of(file)

    def changed(self) -> bool:
        return any(text_of(file) != text for file, text in self.texts.items())


@dataclass
class Proof:
    """A test, with what it gives for the file as it is, and for each version of the line that was tried."""

    place: Path
    text: str
    fault: Outcome
    shows: bool  # it fails with the fault, and for that reason
    tried: list[tuple[str, Outcome]]

    @property
    def passes(self) -> list[str]:
        return [name for name, outcome in self.tried if outcome.passed]


async def prove(
    call: SavedCall, place: Path, expected: str, facts: Facts, files: Files, repairs: list[Repair]
) -> AsyncIterator[Proof]:
    """A test run with the fault, then with the file as it is now where that differs, and with each repair of the paused
    line; after each run what is known so far.  BadUse where it cannot be run."""
    text = module_of_test(call, place, expected, facts.headline)
    fault = await run(call, place, text, files)
    proof = Proof(place, text, fault, shows_fault(fault, call, place), [])
    yield proof
    if not proof.shows:
        return
    if files.changed():
        proof.tried.append(("the file as it is now", await run(call, place, text, Files(files.python, {}))))
        yield proof
    for repair in repairs:
        mended = Mended(facts.line, facts.end_line or facts.line, repair.text).applied(files.source(facts.file))
        other = Files(files.python, {**files.texts, facts.file: mended})
        proof.tried.append((repair.name, await run(call, place, text, other)))
        yield proof


def default_place(call: SavedCall) -> Path:
    """A new file beside the source, or in its folder of tests."""
    home = Path(call.file).parent
    folder = next((f for f in (home / "tests", home.parent / "tests", home) if f.is_dir()), home)
    return free(folder / f"test_{stem(call)}.py")


def free(place: Path) -> Path:
    """The place, or with a number where a file is there already."""
    found, number = place, 1
    while found.exists():
        number += 1
        found = place.with_stem(f"{place.stem}_{number}")
    return found


def shows_fault(outcome: Outcome, call: SavedCall, place: Path) -> bool:
    """Whether a test fails for the reason of its pause: by its own assertion, or by the same error."""
    if outcome.passed or not outcome.defined:
        return False
    by_assertion = outcome.kind == "AssertionError" and os.path.basename(outcome.file) == place.name
    return by_assertion or outcome.kind == call.failed


async def run(call: SavedCall, place: Path, text: str, files: Files) -> Outcome:
    """Run a test in a copy of the folder of its source.  BadUse where it cannot be run."""
    return await asyncio.to_thread(_run, call, place, text, files)


def _run(call: SavedCall, place: Path, text: str, files: Files) -> Outcome:
    top = common_folder(call, place, files)
    with tempfile.TemporaryDirectory(prefix="uneven-sum-") as scratch:
        copy = Path(scratch) / "copy"
        copy_of(top, copy)
        there = copy / os.path.relpath(place, top)
        write(call, there, text)
        for file, source in files.texts.items():
            place_of_file = copy / os.path.relpath(file, top)
            place_of_file.write_bytes(with_text(file, place_of_file, source))
        return _told(files.python, there, str(copy), top)


def _told(python: str, there: Path, copy: str, top: str) -> Outcome:
    environment = {**os.environ, "PYTHONDONTWRITEBYTECODE": "1"}
    command = [python, "-c", RUNNER, str(there)]
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


def common_folder(call: SavedCall, place: Path, files: Files) -> str:
    """The folder that holds the source, the files to mend, and the place of the test.  BadUse where they are far from
    each other: it is copied."""
    home = os.path.dirname(call.file)
    found = os.path.commonpath([call.root or home, *map(os.path.dirname, files.texts), str(place.parent)])
    if len(Path(home).relative_to(found).parts) > FURTHEST or found == os.sep:
        raise BadUse(f"{place} is far from {call.file}: choose a place in the same project.")
    return found


def write(call: SavedCall, place: Path, text: str) -> None:
    """Write a test or a script, and the files of the arguments in the folder beside it."""
    place.parent.mkdir(parents=True, exist_ok=True)
    place.write_text(text, encoding="utf-8")
    if call.files:
        folder = place.parent / data_folder(place)
        folder.mkdir(exist_ok=True)
        for name in call.files:
            shutil.copyfile(Path(call.folder) / name, folder / name)
