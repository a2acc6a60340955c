"""What a front end hears from a run."""

from __future__ import annotations

import os
from dataclasses import dataclass, field
from typing import Union

from ..protocol import Facts, Finding, Loop
from .sources import place_words


@dataclass
class Stopped:
    facts: Facts
    met: dict[int, int] = field(default_factory=dict)  # how often each lookout was met
    point: int = 0  # its return point
    no_point: str = ""  # why there is none
    ran: float = 0.0  # seconds that the script has run; pauses do not count


@dataclass
class CallEnded:
    """A call run within a pause has ended: its value's summary, or why it failed.  `point`: the return point of the
    pause around it."""

    call: str
    told: dict[str, object]
    failed: str
    seconds: float
    point: int


@dataclass
class Tripped:
    """Something tripped, and the script continued."""

    facts: Facts


@dataclass
class Found:
    """The findings of an audit in one process, the weightiest first.  `process`: empty for the script's own; `part`:
    more to what has come from it, else all of it."""

    findings: list[Finding]
    process: str = ""
    part: bool = False


@dataclass
class Output:
    category: str  # stdout, stderr, or console: written by a lookout
    text: str


@dataclass
class Where:
    """Where the running script is just now."""

    file: str
    line: int
    function: str
    loops: list[Loop]
    waits: bool = False  # for its standard input


@dataclass
class Busy:
    """The script does not answer; the message says why."""

    message: str


@dataclass
class Unwatched:
    """A file, or a function of one (`line` to `end_line`), runs without probes: nothing pauses there."""

    file: str
    why: str
    function: str = ""
    line: int = 0
    end_line: int = 0

    @property
    def sentence(self) -> str:
        name = os.path.basename(self.file)
        place = f"{place_words(self.file, self.line).capitalize()} of {name}" if self.line else name
        return f"{place} is not watched: {self.why}."


@dataclass
class CellEnded:
    """A cell of a notebook has run; `outputs`: `kind`, `text`, `data` by media type."""

    number: int
    id: str
    outputs: list[dict[str, object]]


@dataclass
class LeftOut:
    """Something in a notebook's cell that does not run; the text is a sentence that names the cell."""

    number: int
    text: str


@dataclass
class ProcessesWait:
    """`count` processes of the script are paused besides the one that is shown; `same`: those at the same place, which
    include it; `held`: how many wait meanwhile."""

    count: int
    same: list[str]
    held: int


@dataclass
class ProcessEnded:
    """A child of the script has ended.  `message`: how, where a signal has ended it; `shown`: it was the one shown."""

    name: str
    message: str
    shown: bool


@dataclass
class Trouble:
    """An internal error of the agent; the script is not affected."""

    message: str
    detail: str


@dataclass
class Ended:
    """The last line has run (or an uncaught error, or sys.exit); the process is still there."""

    exit_status: int
    seconds: float
    said: str = ""  # what `sys.exit` was given, and where, if that was a text
    file: str = ""  # where that is
    line: int = 0


@dataclass
class Exited:
    """The process is gone.  `died`: by a signal or at once; `sentence` says it and the last known place."""

    exit_status: int | None
    signal: str | None
    died: bool
    by_us: bool
    sentence: str


Event = Union[
    Found,
    Stopped,
    CallEnded,
    CellEnded,
    Tripped,
    Output,
    LeftOut,
    Where,
    Busy,
    Unwatched,
    Trouble,
    Ended,
    Exited,
    ProcessesWait,
    ProcessEnded,
]
