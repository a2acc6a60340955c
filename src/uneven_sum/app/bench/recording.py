"""Ledgers on the Bench: what is recorded, going to a pass of it, the pass strip."""

from __future__ import annotations

import ast
import asyncio
import os
from collections.abc import Awaitable, Callable
from typing import TYPE_CHECKING

from ...client import BadUse, Client, Goal
from ...client.all_findings import SCRIPT
from ...client.fault import Repair
from ...client.finding_repairs import finding_repairs
from ...client.placing import follow
from ...client.repairs import repairs
from ...client.sources import as_python, place_words, text_of
from ...protocol import Facts, Finding, LedgerOf, Lookout, Loop, Recent
from ...protocol.messages import Message
from ..ledger.screen import LedgerScreen
from ..widgets.sheet import Sheet
from .controller import Controller
from .pass_strip import PassStrip
from .try_edit import TryChange
from .values import names_in

if TYPE_CHECKING:
    from .screen import Bench

PASSING = 1_000_000  # the number of that breakpoint, beyond all of the user's
SHORT = 5.0  # seconds of the script that are run once more to record a loop from its start
Step = Callable[[Client, Facts], Awaitable[None]]


class Recording(Controller):
    """A controller of the Bench."""

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        self.awaited: Finding | None = None  # to which the script runs
        self.then = ""  # what comes there: its changed line is tried (`try`), an origin asked for (`origin`), …
        self.keeps = False  # a call is kept at the next pause
        self.reached: tuple[Facts, Finding] | None = None  # the pause at it
        self.opens: Facts | None = None  # the pause to which the Ledger comes back, recorded from the start
        self.passing = False  # a breakpoint is set that ends with the next pause
        self.steps: list[Step] = []  # what the next pauses are for, on the way to another one

    async def action_ledger(self) -> None:
        """The Ledger of the loops around the cursor line, which are recorded from now on; of one that is under way from
        its first pass on, where the way back to it is short."""
        await self._open_ledger(True)

    async def _open_ledger(self, whole: bool) -> None:
        bench, client, sheet = self.bench, self.bench.client, self.bench.query_one(Sheet)
        if client is None or self.bench.state != "paused":
            bench.notify("Passes are shown at a pause.")
            return
        try:
            known, _ = await client.ledgers()
            found = self._near(known, sheet) or await client.record(
                [{"file": sheet.path, "line": sheet.cursor, "around": True}]
            )
            known, _ = await client.ledgers()
        except BadUse as e:
            bench.notify(str(e), severity="warning")
            return
        for one in found:
            self._remember(one)
        if whole and (late := self._late(found, known)) is not None:
            self.opens = bench.facts
            await self.record_from_start(late)
            return
        here = [(o.file, o.line, o.column) for o in found]
        others = [o for o in known if (o.file, o.line, o.column) not in here]
        ledgers = [*reversed(found), *others]
        first = asyncio.ensure_future(client.passes(ledgers[0].file, ledgers[0].line))
        bench.app.push_screen(LedgerScreen(bench, bench.palette, ledgers, first))

    def _late(self, found: list[LedgerOf], known: list[LedgerOf]) -> LedgerOf | None:
        """The innermost of these loops that the script is in, where its first passes are missing and a snapshot and a
        few seconds lead back to here."""
        bench, facts, client = self.bench, self.bench.facts, self.bench.client
        if facts is None or client is None or bench.ran > SHORT or client.start_point() is None or facts.hand:
            return None
        passes = {(o.file, o.line): o.passes for o in known}
        for one in reversed(found):
            for loop in facts.loops:
                if (os.path.realpath(loop.file), loop.line) == (one.file, one.line) and loop.number > 1:
                    return one if not passes.get((one.file, one.line)) else None
        return None

    @staticmethod
    def _near(known: list[LedgerOf], sheet: Sheet) -> list[LedgerOf]:
        """Where the cursor line is in no loop: the recorded ones of the same function, the nearest before it last."""
        lines = loops_around(as_python(sheet.path, "\n".join(sheet.lines)), sheet.cursor)
        if lines is None or lines[0]:
            return []
        first, last = lines[1]
        here = [o for o in known if o.file == os.path.realpath(sheet.path) and first <= o.line <= last and o.passes]
        return sorted(here, key=lambda o: (o.line < sheet.cursor, o.line))

    def _remember(self, one: LedgerOf) -> None:
        place = (one.file, one.line)
        if place not in self.bench.book.recorded:
            self.bench.book.record(*place)

    async def record_off(self, one: LedgerOf) -> None:
        self.bench.book.recorded = [p for p in self.bench.book.recorded if p != (one.file, one.line)]
        if self.bench.client is not None:
            await self.bench.client.record([], off=[{"file": one.file, "line": one.line}])
        self.bench.notify(f"Recording of {place_words(one.file, one.line)} stopped.")

    async def switch_always(self) -> None:
        """Whether every loop of the user's code is recorded."""
        bench, client = self.bench, self.bench.client
        self.bench.book.always = not self.bench.book.always
        told = "Every loop of your code is recorded" if self.bench.book.always else "Only the chosen loops are recorded"
        if client is not None and self.bench.state == "paused":
            try:
                await client.record([], always={} if self.bench.book.always else None)
            except BadUse as e:
                bench.notify(str(e), severity="warning")
                return
            told += ": functions from the next call, top-level code from the next run"
        bench.notify(f"{told}.")

    async def switch_counts(self) -> None:
        """How often each line ran, at its end."""
        bench, client = self.bench, self.bench.client
        if client is None or self.bench.state != "paused":
            bench.notify("Lines are counted from a pause on.")
            return
        on, _ = await client.counts()
        await client.counts(not on)
        self.bench.book.counting = not on
        told = (
            "Lines are counted from the next call of their functions on"
            if not on
            else "Lines are not counted any longer"
        )
        bench.notify(f"{told}; top-level code from the next run." if not on else f"{told}.")
        await bench.read_call(client)

    # -- to a pass -----------------------------------------------------------------------------------

    async def go_to_pass(self, of: LedgerOf, number: int, around: list[dict[str, object]], keep: bool = False) -> None:
        """To where a pass of a recorded loop begins: back by a return point or by running again, or forward.  `keep`:
        there a call is kept."""
        bench, client, facts = self.bench, self.bench.client, self.bench.facts
        if client is None or facts is None or self.bench.state != "paused":
            return
        self.keeps = keep
        goal: list[Message] = [{"file": of.file, "line": of.line, "pass": number}]
        goal += [{k: a[k] for k in ("file", "line", "pass")} for a in around]
        here = [(k.file, k.line, k.number) for k in facts.loops]
        outer = [(a["file"], a["line"], a["pass"]) for a in around]
        at = next((n for n, k in enumerate(here) if k[:2] == (of.file, of.line) and here[n + 1 :] == outer), None)
        if at is not None and here[at][2] < number:
            await bench.stepping.run(lambda: client.to_pass(goal))
            return
        if at == 0 and here[0][2] == number and facts.state == "next" and facts.line == of.line:
            bench.notify(f"The script is at the beginning of pass {number} already.")
            self.at_finding(facts)
            return
        loops = [Loop(k["line"], "", k["pass"], file=k["file"]) for k in goal]
        point = client.point_before_pass(loops, number) if at is not None else client.start_point()
        if point is not None:
            self.steps = [_goes_to(goal)]
            await bench.stepping.run(lambda: client.back_to(point))
        else:
            bench.notify(f"No snapshot before pass {number}: the script reruns up to it.")
            self._again([_goes_to(goal)])

    async def record_from_start(self, of: LedgerOf) -> None:
        """Back to the start, recorded from there, and on to where the script is paused now."""
        bench, client, facts = self.bench, self.bench.client, self.bench.facts
        if client is None or facts is None or self.bench.state != "paused":
            return
        self._remember(of)
        goal = [{"file": k.file, "line": k.line, "pass": k.number} for k in facts.loops if k.number]
        there = facts

        async def on(client: Client, facts: Facts) -> None:
            self.steps.append(until)
            reached = there.reason == "breakpoint" and there.lookout not in bench.book.kept  # by `run to`
            if there.reason in ("step", "pause", "entry") or reached:
                await client.run_to(there.file, there.line)
            else:
                await client.go_on()

        async def until(client: Client, facts: Facts) -> None:
            if is_same_place(facts, there):
                raise Arrived
            await on(client, facts)

        async def record(client: Client, facts: Facts) -> None:
            await client.record(self.recorded(), **self.always())
            if goal:
                await client.to_pass(goal)
            else:
                await on(client, facts)

        steps: list[Step] = [record, *([until] if goal else [])]
        point = client.start_point()
        if point is None:
            bench.notify("No snapshot at the start: the script reruns.")
            self._again(steps)
        else:
            self.steps = steps
            await bench.stepping.run(lambda: client.back_to(point))

    def rerun_to_same(self, facts: Facts) -> None:
        """A new run with the text of now, to the same line in the same pass; what the edit has moved is followed."""
        bench = self.bench
        old = bench.sources.text_of(facts.file).split("\n")
        new = text_of(facts.file).split("\n")

        def line_now(line: int) -> int:
            return follow(old, new, line) or line

        goal = [
            {"file": k.file, "line": line_now(k.line) if k.file == facts.file else k.line, "pass": k.number}
            for k in facts.loops
            if k.number
        ]
        place = (facts.file, line_now(facts.line))

        async def to_pass(client: Client, facts: Facts) -> None:
            await client.to_pass(goal)

        async def to_line(client: Client, facts: Facts) -> None:
            await client.run_to(*place)

        self._again([to_pass, to_line] if goal else [to_line])

    def to_finding(self, finding: Finding | Goal) -> list[Step]:
        """The steps from the first line to the place of a finding, in the pass in which it was found first, or to a
        line for the how many-th time."""
        if isinstance(finding, Goal):
            return [self._to_goal(finding)]
        if finding.processes and finding.processes[0] != SCRIPT:
            return [self._to_worker(finding)]
        own = (finding.file, finding.line)  # of a comprehension there: its statement is where to pause
        goal = [{"file": k.file, "line": k.line, "pass": k.at_pass} for k in finding.loops if (k.file, k.line) != own]

        async def to_pass(client: Client, facts: Facts) -> None:
            await client.to_pass(goal)

        async def to_line(client: Client, facts: Facts) -> None:
            if (facts.file, facts.line) == (finding.file, finding.line):
                raise Arrived
            await client.run_to(finding.file, finding.line)

        return [to_pass, to_line] if goal else [to_line]

    def _to_worker(self, finding: Finding) -> Step:
        async def to_worker(client: Client, facts: Facts) -> None:
            """To the place in whichever process comes there: a breakpoint holds for those that come, too."""
            self.passing = True
            there = Lookout(PASSING, file=finding.file, line=finding.line, once=True)
            await client.set_lookouts([*self.bench.book.wanted(), there])
            await client.go_on()

        return to_worker

    @staticmethod
    def _to_goal(goal: Goal) -> Step:
        async def to_goal(client: Client, facts: Facts) -> None:
            here = (facts.file, facts.line) == (goal.file, goal.line)
            if here and goal.times == 1:
                raise Arrived
            await client.run_to(goal.file, goal.line, goal.times - here)

        return to_goal

    def rerun_to_finding(self, finding: Finding | Goal, then: str = "") -> None:
        self.awaited, self.then = (finding if isinstance(finding, Finding) else None), then
        self._again(self.to_finding(finding))

    def present_finding(self) -> Finding | None:
        """What an audit has found at the place of this pause."""
        facts = self.bench.facts
        if facts is None or facts.finding is not None:
            return facts.finding if facts is not None else None
        return self.reached[1] if self.reached is not None and self.reached[0] is facts else None

    def known_repairs(self) -> list[Repair]:
        """Versions of the paused line for the reason of the pause, or for the finding that it is at."""
        facts = self.bench.facts
        if facts is None or facts.reason == "end":
            return []
        source = self.bench.sources.text_of(facts.file)
        finding = self.present_finding()
        return finding_repairs(finding, source) if finding is not None else repairs(facts, source)

    def at_finding(self, facts: Facts) -> None:
        """At the place of a finding, once: what was to come there, if anything."""
        finding, then = self.awaited, self.then
        if self.opens is not None and not self.steps:
            there, self.opens = self.opens, None
            if is_same_place(facts, there):
                self.bench.run_worker(self._open_ledger(False), group="dialog")
                return
        if self.keeps and not self.steps and facts.reason != "end":
            self.keeps = False
            self.bench.keeping.action_keep_call()
            return
        if finding is None or self.steps:
            return
        self.awaited, self.then = None, ""
        bench = self.bench
        if (facts.file, facts.line) != (finding.file, finding.line) or facts.reason == "end":
            return
        self.reached = (facts, finding)
        if then == "origin":
            bench.origins.action_origin()
        elif then == "keep":
            bench.keeping.action_keep_call()
        elif then == "repairs":
            bench.stepping.action_repairs()
        elif then == "try":
            bench.app.push_screen(TryChange(bench, bench.palette, bench.frame_number(), None, finding.fix or ""))

    def _again(self, steps: list[Step]) -> None:
        """A new run, paused at its first line for the first of the steps."""
        self.bench.action_again(steps)

    async def take_step(self, client: Client, facts: Facts) -> bool:
        """At a pause: whether it was only one on the way."""
        if self.passing:
            self.passing = False
            await self.bench.breakpoints.send_lookouts()
        if not self.steps or facts.reason == "end":
            self.steps = []
            return False
        step = self.steps.pop(0)
        try:
            await step(client, facts)
        except Arrived:
            self.steps = []
            return False
        except BadUse as e:
            self.steps = []
            self.bench.notify(str(e), severity="warning")
            return False
        return True

    def recorded(self) -> list[dict[str, object]]:
        return [{"file": file, "line": line} for file, line in self.bench.book.recorded if os.path.exists(file)]

    def always(self) -> Message:
        return {"always": {}} if self.bench.book.always or self.bench.record_all else {}

    # -- the strip -----------------------------------------------------------------------------------

    async def recent(self, client: Client) -> Recent:
        """The last passes of the recorded loop around, if there is one."""
        if not (self.bench.book.recorded or self.bench.book.always or self.bench.record_all):
            return Recent()
        try:
            return await client.recent(self.bench.frame_number())
        except BadUse:
            return Recent()

    def show_strip(self, recent: Recent) -> None:
        facts, sheet = self.bench.facts, self.bench.query_one(Sheet)
        present = 0
        if facts is not None:
            present = next((k.number for k in facts.loops if k.line == recent.line), 0)
        text = sheet.lines[sheet.at_line - 1] if 0 < sheet.at_line <= len(sheet.lines) else ""
        self.bench.query_one(PassStrip).show(recent, present, names_in(text))


class Arrived(Exception):
    """The script is paused where the steps lead."""


def is_same_place(a: Facts, b: Facts) -> bool:
    """True for two pauses at one line for one reason, by the same calls, in the same passes of all loops."""
    steps = ("step", "pause", "entry", "breakpoint")
    if a.reason != b.reason and not (a.reason in steps and b.reason in ("step", "pause", "entry")):
        return False
    calls = [[(call.file, call.line, call.function) for call in one.trail] for one in (a, b)]
    passes = [[(loop.file, loop.line, loop.number) for loop in one.loops] for one in (a, b)]
    return (a.file, a.line) == (b.file, b.line) and calls[0] == calls[1] and passes[0] == passes[1]


def loops_around(text: str, line: int) -> tuple[bool, tuple[int, int]] | None:
    """Whether a line is in a loop of its function (or comprehension), and the lines of that function (or module);
    None where the text cannot be parsed."""
    try:
        tree = ast.parse(text)
    except (SyntaxError, ValueError, RecursionError):
        return None
    loops = (ast.For, ast.AsyncFor, ast.While, ast.ListComp, ast.SetComp, ast.DictComp, ast.GeneratorExp)
    around = [n for n in ast.walk(tree) if getattr(n, "lineno", 1 << 30) <= line <= (getattr(n, "end_lineno", 0) or 0)]
    functions = [n for n in around if isinstance(n, (ast.FunctionDef, ast.AsyncFunctionDef))]
    inner = max(functions, key=lambda n: n.lineno, default=None)
    first, last = (inner.lineno, inner.end_lineno or 0) if inner is not None else (1, text.count("\n") + 1)
    found = any(isinstance(n, loops) and n.lineno >= first for n in around)
    return found, (first, last)


def _goes_to(goal: list[Message]) -> Step:
    async def go(client: Client, facts: Facts) -> None:
        await client.to_pass(goal)

    return go
