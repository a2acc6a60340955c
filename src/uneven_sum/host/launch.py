"""What is to be run and how; and what can be said against it before anything runs."""

from __future__ import annotations

import os
from dataclasses import dataclass, field, replace
from pathlib import Path

from ..notebooks import files
from ..protocol import TRIPS

OLDEST = (3, 11)


class BadUse(Exception):
    """What was asked for cannot be done; the text says why and what to do, in one or two sentences.

    `facts`: more that the agent reports.
    """

    facts: dict[str, object]

    def __init__(self, message: str, facts: dict[str, object] | None = None) -> None:
        super().__init__(message)
        self.facts = facts or {}


class SyntaxFault(BadUse):
    """The script has a syntax error: file, line, the line's text, the caret's column (from 1)."""

    def __init__(self, message: str, line: int, column: int, text: str) -> None:
        super().__init__(message)
        self.line, self.column, self.text = line, column, text

    def picture(self) -> str:
        """The sentence, the line and a caret under the place."""
        if not self.text:
            return str(self)
        caret = " " * max(0, self.column - 1) + "^"
        return f"{self}\n    {self.text.expandtabs(1)}\n    {caret}"


@dataclass(frozen=True)
class Limits:
    """`trial`: time limit of an evaluation in a copy, in seconds.  `points`: return points at pauses that are kept.
    `memory`: the share of the machine's memory that all return points together may have of their own."""

    trial: float = 5.0
    points: int = 40
    memory: float = 0.25


@dataclass
class Launch:
    """One script (or module) with everything that its run depends on."""

    program: str
    args: list[str] = field(default_factory=list)
    as_module: bool = False
    python: str | None = None
    cwd: str | None = None
    env: dict[str, str] = field(default_factory=dict)
    user_code: list[str] = field(default_factory=list)
    pause_on: set[str] = field(default_factory=lambda: set(TRIPS))
    go_on: bool = False
    pause_at_end: bool = False
    capture: bool = False  # standard input, output and error are pipes to the host
    output_to_stderr: bool = False  # the script's standard output goes to our standard error
    pause_on_given: bool = False  # chosen for this run, whatever the case file says
    keep_case: bool = True
    entries_given: bool = False  # how it is run was chosen for this run: the case file takes it up
    stdin_file: str | None = None  # what the script reads, instead of what is typed
    rewind: bool = False  # return points at the pauses
    return_points: bool = True  # the user wants them on the Bench
    passes: int = 0  # of each recorded loop that a pause shows
    checks: bool = True
    meters: bool = True
    guards: bool = True
    blocks: bool = True  # runs of arithmetic are checked once: see `agent/rewrite/blocks.py`
    children_pause: bool = False  # what trips in a process that the script starts pauses it
    hold_others: bool = False  # while a process is paused, all others wait
    attach: str = ""  # the socket of a process that holds the script: `host/held.py`
    limits: Limits = Limits()
    stream: str = ""  # path of a socket that gets each value; empty: none
    # Of a shaken run, the seed of its ups and downs; 0: none is moved, terms are sent; -1: and draws stay free.
    shake: int | None = None
    audit: list[str] | None = None  # names of rules; empty: all that are not weak; None: no audit

    def filters(self) -> list[str]:
        """The exception filters that `pause_on` stands for."""
        found: list[str] = [f for f in TRIPS if f in self.pause_on]
        if "nonfinite" in self.pause_on:
            found.append("arrived")
        return [*found, *(["start"] if "start" in self.pause_on else [])]

    def arguments(self) -> dict[str, object]:
        """The arguments of the protocol's `launch` request."""
        told = self._notebook()
        return {
            "program": os.path.join(os.path.abspath(self.cwd or "."), self.program) if told else self.program,
            "notebook": told,
            "args": self.args,
            "asModule": self.as_module,
            "userCode": self.user_code,
            "goOn": self.go_on,
            "pauseAtEnd": self.pause_at_end,
            "lineBuffered": self.capture,
            "checks": self.checks and "nonfinite" in self.pause_on,
            "meters": self.meters,
            "passes": self.passes,
            "guards": self.guards,
            "blocks": self.blocks,
            "childrenPause": self.children_pause,
            "audit": self.audit,
            "stream": self.stream,
            "shake": self.shake,
            "trialSeconds": self.limits.trial,
            "stdin": os.path.abspath(self.stdin_file) if self.stdin_file is not None else None,
        }

    @property
    def hears_children(self) -> bool:
        """Whether processes that the script starts report what trips, or what an audit finds there."""
        if self.stream or self.shake is not None:
            return False
        return self.audit is not None or any(name in self.pause_on for name in TRIPS)

    @property
    def is_notebook(self) -> bool:
        return not self.as_module and files.is_notebook(self.program)

    @property
    def folder(self) -> str | None:
        """The working directory of the script, None for the present one; a notebook runs in its own folder."""
        if self.cwd is None and self.is_notebook:
            return os.path.dirname(os.path.abspath(self.program))
        return self.cwd

    def _notebook(self) -> dict[str, object] | None:
        """The text and the cells of a notebook, for the agent."""
        if not self.is_notebook:
            return None
        with open(os.path.join(self.cwd or ".", self.program), "rb") as f:
            return files.as_run(f.read())

    def to_its_end(self, audit: list[str] | None = None, stream: str = "", shake: int | None = None) -> Launch:
        """The same, run without pauses, checks and snapshots, its output read by us."""
        return replace(
            self,
            audit=audit,
            stream=stream,
            shake=shake,
            pause_on=set(),
            pause_on_given=True,
            checks=False,
            children_pause=False,
            pause_at_end=False,
            capture=True,
            rewind=False,
            return_points=False,
        )

    @property
    def name(self) -> str:
        return self.program if self.as_module else os.path.basename(self.program)


def inspect_script(launch: Launch) -> None:
    """Raises BadUse when the script plainly cannot be run: it is missing, a folder, or no text."""
    for text in (launch.program, *launch.args, launch.cwd or ""):
        try:
            text.encode()
        except UnicodeEncodeError:
            raise BadUse(f"{text!r} is not in UTF-8. Rename it, or use a link with another name.") from None
    if launch.cwd is not None and not os.path.isdir(launch.cwd):
        raise BadUse(f"The working directory {launch.cwd} is not a folder. Give one that exists with --cwd.")
    for folder in launch.user_code:
        if not os.path.exists(folder):
            raise BadUse(f"{folder}, given with --user-code, does not exist.")
    if launch.as_module:
        return
    path = Path(launch.cwd or ".") / launch.program
    if not path.exists():
        raise BadUse(f"There is no file {launch.program}. Look at its spelling and at the working directory.")
    if path.is_dir():
        raise BadUse(f"{launch.program} is a folder. Give the script in it, or use --module for a package.")
    if not path.is_file():
        raise BadUse(f"{launch.program} is not a regular file. Give a Python script.")
    try:
        with open(path, "rb") as f:
            begin = f.read(65536)
    except OSError as e:
        raise BadUse(f"{launch.program} cannot be read: {e.strerror}. Check its permissions.") from None
    if files.is_notebook(launch.program):
        _inspect_notebook(str(path))
        return
    if begin.startswith((b"\xff\xfe", b"\xfe\xff")):
        raise BadUse(f"{launch.program} is in UTF-16, which Python does not run. Save it as UTF-8.")
    if b"\0" in begin:
        raise BadUse(f"{launch.program} is not a text file (it holds NUL bytes). Give a Python script.")


def _inspect_notebook(path: str) -> None:
    try:
        notebook = files.read(path)
    except files.BadNotebook as e:
        raise BadUse(str(e)) from None
    name = os.path.basename(path)
    if not any(cell.kind == "code" and cell.source.strip() for cell in files.cells_in(notebook)):
        raise BadUse(f"{name} has no code cells: there is nothing to run.")
    for number, cell in enumerate(files.cells_in(notebook), 1):
        if cell.kind == "code" and "\0" in cell.source:
            raise BadUse(f"{name}, cell {number}: it holds a NUL character, which Python does not run. Remove it.")
