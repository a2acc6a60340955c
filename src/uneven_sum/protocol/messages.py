"""Typed messages: what a pause says (`Facts`), and the bodies that front ends read.

Fields carry the names that travel; `docs/protocol.md` explains each.
"""

from __future__ import annotations

from typing import Any

import msgspec

Message = dict[str, Any]


class Operand(msgspec.Struct):
    text: str
    value: str


class Culprit(msgspec.Struct):
    """The term at fault; `cell` is the place of its first bad cell, None for scalars.

    `reason` is for a person; `reason_kind` is for code, empty where no rule knows.  `near`: the nearest keys or names,
    as they are written in Python; `shapes`: the two that do not fit.
    """

    text: str
    value: str
    type: str
    operands: list[Operand]
    cell: list[int] | None = None
    reason: str = ""
    reason_kind: str = ""
    near: list[str] = []
    shapes: list[list[int]] = []
    element: str = ""
    part: str = ""  # which of several arrays that a function gives
    sender: str = ""


class Term(msgspec.Struct):
    depth: int
    text: str
    value: str
    type: str
    nonfinite: int
    culprit: bool
    how: str = ""  # what it did to shapes and dtypes; which element of a comprehension it is
    shape: list[int] | None = None
    dtype: str | None = None


class Loop(msgspec.Struct):
    """A loop around the pause; `number` (on the wire: `pass`) counts from 1."""

    line: int
    target: str
    number: int = msgspec.field(name="pass")
    of: int | None = None
    value: str | None = None
    function: str = ""
    file: str = ""
    kind: str = "for"


class TrailCall(msgspec.Struct):
    file: str
    line: int
    function: str
    arguments: str = ""
    old: bool = False  # it runs an earlier text of its file
    text: int = 0  # CRC-32 of the text that it runs


class ExceptionFacts(msgspec.Struct):
    type: str
    message: str


class Expected(msgspec.Struct):
    """An expectation beside what is; `kept`: the lookout that it is, 0 for one of this pause only."""

    text: str
    holds: bool
    actual: str = ""
    problem: str = ""
    kept: int = 0


class FindingLoop(msgspec.Struct):
    """A loop around a finding, and its pass."""

    file: str
    line: int
    at_pass: int = msgspec.field(name="pass")


class PictureLine(msgspec.Struct):
    """The lowest and the highest value of each column; None where there is no finite one."""

    name: str
    lows: list[float | None]
    highs: list[float | None]


class Picture(msgspec.Struct):
    """Of a finding: a map of cells (`shares`: of the marked ones in each block of an array of `shape`), or curves
    over `size` cells or passes (from `first` on)."""

    title: str
    shares: list[list[float]] = []
    shape: list[int] = []
    lines: list[PictureLine] = []
    size: int = 0
    first: int = 0


class Finding(msgspec.Struct):
    """What a rule of an audit has found at a place.  `question`: values alone cannot decide; `right`: what a right
    calculation gives; `operands`: texts and values; `loops`: innermost first; `fix`: a changed
    statement to try; `follows`: findings whose values come from this one; `accepted`: in the script's case;
    `processes`: those in which it was found, empty where it was in the script's own alone."""

    rule: str
    weight: float
    question: bool
    headline: str
    file: str
    line: int
    function: str
    term: str
    statement: str
    times: int
    at_pass: int | None = msgspec.field(name="pass", default=None)
    cell: list[int] | None = None
    evidence: dict[str, object] = {}
    right: str | None = None
    operands: list[tuple[str, str]] = []
    loops: list[FindingLoop] = []
    fix: str | None = None
    pictures: list[Picture] = []
    follows: list[Finding] = []
    accepted: bool = False
    processes: list[str] = []

    @property
    def word(self) -> str:
        """How sure it is: `wrong`, `doubtful`, `question`; `digits` for a row that shows a result of shaken runs."""
        if self.rule == DIGITS:
            return "digits"
        return "question" if self.question else "wrong" if self.weight >= SURE else "doubtful"


class RunningTest(msgspec.Struct):
    """The test around a pause: its runner (pytest, unittest), its name, the runner's arguments to run it alone."""

    runner: str
    name: str
    arguments: list[str] = []


class Facts(msgspec.Struct):
    """Everything about one pause."""

    reason: str
    headline: str
    file: str
    line: int
    function: str
    statement: str = ""
    state: str = "in"
    kind: str | None = None
    exception: ExceptionFacts | None = None
    warnings: list[str] = []
    end_line: int = 0
    trail: list[TrailCall] = []
    loops: list[Loop] = []
    culprit: Culprit | None = None
    terms: list[Term] = []
    differs: str = ""
    trial: str = ""
    retry: bool = False
    replace: bool = False
    lookout: int = 0
    finding: Finding | None = None  # what a rule has found in the statement
    returned: str | None = None
    expectations: list[Expected] = []
    hand: list[str] = []  # what the user has set by hand, in the calls of now
    chain: list[tuple[str, str, int, list[int]]] = []  # calls, innermost first: function, file, line, passes
    test: RunningTest | None = None
    old: bool = False  # the paused call runs an earlier text of its file
    text: int = 0  # CRC-32 of the text that it runs
    accepts: list[str] = []  # what else than the line can be accepted: `calls of f`, `values of x`
    source_text: str = ""  # of a place that is in no file
    nested: str = ""  # the call that is run within another pause, in a copy
    passes: list[dict[str, object]] = []  # the last ones of the recorded loop around: `pass`, `values`
    processes: list[str] = []  # children of the script in which it tripped; empty: in the script itself
    process: str = ""  # the child that is paused; empty: the script itself
    task: str = ""  # the thread that is paused, with the task that it runs; empty: the main thread
    waiting: int = 0  # how many more processes are paused
    held: int = 0  # how many processes wait meanwhile


class Card(msgspec.Struct):
    """A value of a call: its summary, and how it relates to the line and to the last pause."""

    name: str
    text: str
    type: str
    kind: str
    nonfinite: int = 0
    shape: list[int] | None = None
    dtype: str | None = None
    changed: bool = False
    old: str = ""  # its text at the last pause, if it changed
    new: bool = False
    hand: bool = False  # set by hand
    used: bool = False
    assigned: bool = True
    picture: str = ""
    marks: str = ""
    spark: str = ""  # of a scalar, its values at the last pauses in a loop; as `picture`
    spark_marks: str = ""
    pending: bool = False  # large: its summary is asked for after the rest


class Note(msgspec.Struct):
    """What is at the end of a line; `count`: how often it ran, when that is counted."""

    line: int
    text: str
    nonfinite: int = 0
    spark: str = ""  # of the recorded loop around, by pass
    spark_marks: str = ""
    count: int | None = None


class StackFrame(msgspec.Struct):
    id: int
    name: str
    line: int
    source: dict[str, object]
    unevenSum: dict[str, object] = {}


class Variable(msgspec.Struct):
    name: str
    value: str
    type: str = ""
    variablesReference: int = 0
    unevenSum: dict[str, object] = {}


class LedgerColumn(msgspec.Struct):
    """A value over the kept passes of a loop.  `data`: base64 of float64, nan where a value is no number; `texts`:
    exact, where `data` does not tell them; `marks`, a sign a row: `.` a number, `!` not finite, `m` not assigned, `t` a
    text.  The passes of its extremes and of its first non-finite value are over all passes, 0 for none."""

    name: str
    data: str
    marks: str
    type: str
    texts: list[str | None] | None = None
    of: str = ""  # the array whose figure it is
    bad: int = 0
    first_bad: int = msgspec.field(name="firstBad", default=0)
    low: int = msgspec.field(name="min", default=0)
    high: int = msgspec.field(name="max", default=0)
    least: float | None = msgspec.field(name="minValue", default=None)
    most: float | None = msgspec.field(name="maxValue", default=None)


class LedgerRun(msgspec.Struct):
    """`around`: the loops around that run, innermost first, with the pass that they were in."""

    passes: int
    around: list[dict[str, object]] = []


class LedgerFilter(msgspec.Struct):
    of: int
    failed: int = 0
    why: str = ""


class LedgerOf(msgspec.Struct):
    """What is recorded: `kind` is `loop`, `elements` (of a comprehension) or `calls` (of a function)."""

    file: str
    line: int
    column: int
    kind: str
    head: str
    names: list[str]
    begun: int = 0
    passes: int = 0
    message: str = ""


class LedgerPasses(msgspec.Struct):
    """One run, pass by pass."""

    file: str
    line: int
    kind: str
    head: str
    names: list[str]
    begun: int
    runs: list[LedgerRun]
    run: int
    kept: str
    passes: int
    numbers: str
    columns: list[LedgerColumn]
    branches: list[tuple[int, str]] = []
    base: int = 0  # passes that were over when the recording began
    filter: LedgerFilter | None = None
    unread: list[str] = []  # expressions that could be read in no pass


class RecentValue(msgspec.Struct):
    name: str
    texts: list[str]
    now: str = ""
    picture: str = ""
    marks: str = ""


class Recent(msgspec.Struct):
    """The last passes of the recorded loop around a pause; `line` 0: there is none."""

    line: int = 0
    numbers: list[int] = []
    values: list[RecentValue] = []


SURE = 0.75  # weight from which on a finding is called wrong
DIGITS = "digits"  # the rule of a row that shows a result of shaken runs
