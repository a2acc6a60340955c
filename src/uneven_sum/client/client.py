"""The calls of a front end: one object for one run of a script."""

from __future__ import annotations

import asyncio
import logging
import os
from typing import Any

import msgspec

from ..host.launch import BadUse, Launch
from ..host.session import Session, died_sentence
from ..protocol import (
    Card,
    Facts,
    LedgerOf,
    LedgerPasses,
    Lookout,
    Loop,
    Message,
    Note,
    Placed,
    Recent,
    StackFrame,
    Switches,
    Term,
    Variable,
    to_wire,
)
from .events import Busy, CallEnded, Ended, Event, Exited, Output, Stopped, Tripped, Trouble, Where
from .ledger import Ledger

LOG = logging.getLogger("uneven_sum.client")


class Client:
    """Runs a script and talks with it.  Events come in `events`, in their order."""

    def __init__(self, launch: Launch) -> None:
        self.launch = launch
        self.events: asyncio.Queue[Event] = asyncio.Queue()
        self.session = Session(launch, self._on_event)
        self.seconds = 0.0
        self.not_recorded: list[str] = []  # why a loop of before is not recorded

    # -- the run -------------------------------------------------------------------------------------

    async def start(
        self,
        breakpoints: dict[str, list[int]] | None = None,
        lookouts: list[Lookout] | None = None,
        switches: Switches | None = None,
        over: list[str] | None = None,
        record: list[dict[str, Any]] | None = None,
        always: dict[str, Any] | None = None,
        counts: bool = False,
    ) -> list[Placed]:
        """Starts the script, its lookouts and tripwires set; what became of each lookout.

        BadUse when it cannot be run.
        """
        await self.session.start()
        await self.session.request("setExceptionBreakpoints", {"filters": self.launch.filters()})
        if switches is not None:
            await self.set_switches(switches)
        if over:
            await self.set_stepping(over)
        if always is not None:
            await self.record([], always=always)
        if counts:
            await self.counts(True)
        for one in record or []:
            try:
                await self.record([one])
            except BadUse as e:
                if len(record or []) == 1 and always is None and lookouts is None:
                    raise
                self.not_recorded.append(str(e))  # the text has changed since
        placed = await self.set_lookouts(lookouts) if lookouts else []
        for path, lines in (breakpoints or {}).items():
            await self.set_breakpoints(path, lines)
        await self.session.configured()
        return placed

    async def end(self) -> None:
        """Ends the script, if it has not ended, and closes the connection."""
        await self.session.end()

    @property
    def running(self) -> bool:
        return self.session.running

    @property
    def alive(self) -> bool:
        return self.session.process is not None and not self.session.exited.is_set()

    async def next_event(self) -> Event:
        return await self.events.get()

    async def go_on(self) -> None:
        await self.session.request("continue", {"threadId": 0})

    async def step_line(self) -> None:
        await self.session.request("next", {"threadId": 0})

    async def step_into(self, target: int = 0, libraries: bool = False) -> None:
        """Into the next call, or the one with this number (`into_targets`); `libraries`: also foreign code."""
        arguments = {"threadId": 0, "targetId": target, "unevenSum": {"libraries": libraries}}
        await self.session.request("stepIn", arguments)

    async def into_targets(self) -> list[tuple[int, str]]:
        """The calls of the paused statement in the order of evaluation: number and text."""
        body = await self.session.request("stepInTargets", {"frameId": 0})
        return [(t["id"], t["label"]) for t in body["targets"]]

    async def next_pass(self, number: int | None = None) -> None:
        """The same place in the next pass, or in this one."""
        await self.session.request("unevenSum/nextPass", {"number": number})

    async def end_loop(self) -> None:
        await self.session.request("unevenSum/endLoop")

    async def run_to(self, file: str, line: int) -> None:
        await self.session.request("unevenSum/runTo", {"file": file, "line": line})

    async def make_next(self, file: str, line: int) -> None:
        """Makes another line of the paused call the next one.  BadUse with the language's refusal."""
        body = await self.session.request("gotoTargets", {"source": {"path": file}, "line": line})
        target = body["targets"][0]["id"] if body["targets"] else line
        await self.session.request("goto", {"threadId": 0, "targetId": target})

    async def leave_call(self, value: str = "None") -> None:
        """Leaves the paused call at once; it returns the value of this expression."""
        await self.session.request("unevenSum/leaveCall", {"value": value})

    async def step_out(self) -> None:
        await self.session.request("stepOut", {"threadId": 0})

    async def retry(self) -> None:
        await self.session.request("unevenSum/retry")

    async def skip(self) -> None:
        await self.session.request("unevenSum/skip")

    async def run_out(self) -> None:
        """Runs to the end without any pause."""
        await self.session.request("unevenSum/runOut")

    async def step_back(self, number: int | None = None) -> None:
        """Back to the pause before this one, or to a return point.  BadUse when there is none."""
        await self.session.step_back(number)

    def has_point_before(self) -> bool:
        """True when there is a pause before this one to go back to."""
        here = self.session.point or 1 << 60
        return any(n < here and p.at_pause for n, p in self.session.points.all.items())

    def start_point(self) -> int | None:
        """The return point before the first line, if there is one."""
        points = self.session.points.all.values()
        return next((p.number for p in points if p.facts.get("reason") == "start"), None)

    def point_before_pass(self, loops: list[Loop], number: int) -> int | None:
        """The best return point from which to run to pass `number` of the innermost of these loops: the latest that
        lies before it.  None when there is none."""
        place = (loops[0].file, loops[0].line)
        outer = [(k.file, k.line, k.number) for k in loops[1:] if k.number]
        best: int | None = None
        for point in self.session.points.all.values():
            told = [(k["file"], k["line"], k["pass"]) for k in point.facts.get("loops") or []]
            at = next((n for n, k in enumerate(told) if k[:2] == place and told[n + 1 :] == outer), None)
            if at is not None:
                if told[at][2] >= number:
                    break
                best = point.number
            elif point.number < (self.session.point or 1 << 60):
                best = point.number
        return best

    async def back_to_pass(self, loops: list[Loop], number: int) -> None:
        """Back to the nearest return point before pass `number` of the innermost loop, and forward to where that
        pass begins.  BadUse when there is none."""
        point = self.point_before_pass(loops, number)
        if point is None:
            raise BadUse(f"There is no return point before pass {number}: run the script again.")
        wanted = [{"file": k.file, "line": k.line, "pass": k.number} for k in loops if k.number]
        wanted[0]["pass"] = number
        await self.back_to(point)
        await self.to_pass(wanted)

    async def back_to(self, point: int) -> None:
        """Back to a return point; the script is paused there when this returns."""
        await self.session.step_back(point)
        await self.session.stopped()

    async def to_pass(self, loops: list[dict[str, Any]]) -> None:
        """Forward to where a pass begins: `loops` with `file`, `line` and `pass`, innermost first."""
        await self.session.request("unevenSum/toPass", {"loops": loops})

    async def switch_points(self, on: bool) -> None:
        """Return points from now on, or none any more: those that there are end."""
        await self.session.request("unevenSum/returnPoints", {"on": on})
        self.session.points.off = not on
        if not on:
            self.session.points.end_all()

    def cannot_undo(self, number: int | None = None) -> list[str]:
        """What going back to a return point (default: the pause before this one) does not undo."""
        here = self.session.point or 1 << 60
        points = self.session.points.all
        if number is None:
            number = max((n for n, p in points.items() if n < here and p.at_pause), default=0)
        if number not in points:
            return []
        point = points[number]
        since = [os.path.basename(path) for path, when in self.session.written.items() if when > point.made]
        found = list(point.facts.get("cannot") or [])
        if since:
            more = f" and {len(since) - 3} more" if len(since) > 3 else ""
            names = ", ".join(since[:3]) + more
            found.append(f"what became of {names} since, which the script has opened or changed anew")
        return found

    def return_points(self) -> list[dict[str, Any]]:
        """What one can go back to: `number`, `line`, `function`, `pass`, `reason`, `statement`, `memory`."""
        points = self.session.points.all.values()
        return [{"number": p.number, **p.facts, "memory": p.memory} for p in points]

    # -- recorded loops ------------------------------------------------------------------------------

    async def record(self, loops: list[dict[str, Any]], **more: Any) -> list[LedgerOf]:
        """Records loops from now on, each by `file`, `line` and, if not all, `names`; `around`: those around the line;
        `branches`, `times`.  Besides `always`, `off`: see docs/protocol.md.  What is recorded, with what is to be said
        of it.  BadUse when there is no such loop, or it does not assign a name."""
        body = await self.session.request("unevenSum/record", {"loops": loops, **more})
        return msgspec.convert(body["loops"], list[LedgerOf])

    async def ledgers(self) -> tuple[list[LedgerOf], bool]:
        """What is recorded, and whether every loop of the user's code is."""
        body = await self.session.request("unevenSum/ledgers")
        return msgspec.convert(body["ledgers"], list[LedgerOf], strict=False), bool(body["always"])

    async def passes(self, file: str, line: int, run: int = 0, filter: str = "") -> Ledger:
        """One run of a recorded loop (0: the last) pass by pass.  BadUse when it is not recorded, or the filter is no
        expression over its columns."""
        how: dict[str, Any] = {"file": file, "line": line, "filter": filter}
        if run:
            how["run"] = run
        return Ledger(msgspec.convert(await self.session.request("unevenSum/passes", how), LedgerPasses, strict=False))

    async def course(self, ledger: Ledger, name: str) -> list[str]:
        """Sentences about the course of one column."""
        told = ledger.told
        how = {"file": told.file, "line": told.line, "run": told.run, "name": name}
        return list((await self.session.request("unevenSum/course", how))["said"])

    async def recent(self, frame: int = 0, count: int = 40) -> Recent:
        """The last passes of the innermost recorded loop around a call's statement."""
        return msgspec.convert(
            await self.session.request("unevenSum/recent", {"frameId": frame, "count": count}), Recent
        )

    async def export_passes(self, file: str, line: int, path: str, run: int = 0) -> dict[str, Any]:
        """The passes of a loop as Parquet: `rows`, `path`."""
        how = {"file": file, "line": line, "path": path, "run": run}
        return await self.session.request("unevenSum/exportPasses", how)

    async def counts(self, on: bool | None = None) -> tuple[bool, dict[str, dict[int, int]]]:
        """Whether statements are counted, and how often each ran, by file and line.  `on`: count them, or not."""
        body = await self.session.request("unevenSum/counts", {} if on is None else {"on": on})
        return bool(body["on"]), {path: dict(found) for path, found in body["counts"].items()}

    # -- another text ---------------------------------------------------------------------------------

    async def try_change(self, frame: int, line: int | None, text: str | None) -> dict[str, Any]:
        """Another version of a statement tried in a call: `terms` of the present one, `first` and `last` line, and
        in `tried` `statements` with their terms, `changed`, `failed`.  BadUse when it is no Python."""
        return await self.session.request("unevenSum/tryChange", {"frameId": frame, "line": line, "text": text})

    async def take_up(self, file: str, check: bool = False) -> list[str]:
        """Functions of a changed file get their new code for their next call: which.  BadUse with the reason why
        they cannot.  `check`: nothing is done."""
        arguments = {"file": file, "check": check}
        found: list[str] = (await self.session.request("unevenSum/takeUp", arguments))["functions"]
        return found

    def point_before_call(self, chain: list[tuple[str, str, int, list[int]]]) -> int | None:
        """The latest return point from before a call began."""
        goal = [list(call) for call in chain]
        best: int | None = None
        for point in self.session.points.all.values():
            here = (point.facts.get("chain") or [])[-len(goal) :]
            inside = len(here) == len(goal) and here[1:] == goal[1:] and here[0][:2] == goal[0][:2]
            if inside or point.number > (self.session.point or 1 << 60):
                break
            best = point.number
        return best

    async def restart_call(self, facts: Facts, lookouts: list[Lookout]) -> list[Placed]:
        """The paused call begins again with the present text of its file: back to before it, the text taken up, and
        on to its entry.  BadUse when there is no return point, or the text cannot be taken up."""
        point = self.point_before_call(facts.chain)
        if point is None:
            raise BadUse("There is no return point before this call.")
        await self.take_up(facts.file, check=True)
        await self.back_to(point)
        await self.take_up(facts.file)
        placed = await self.set_lookouts(lookouts)
        await self.session.request("unevenSum/toCall", {"chain": [list(call) for call in facts.chain]})
        return placed

    async def interrupt(self) -> None:
        await self.session.interrupt()

    # -- lookouts ------------------------------------------------------------------------------------

    async def set_lookouts(self, lookouts: list[Lookout]) -> list[Placed]:
        """All of our lookouts at once; for each what became of it."""
        body = await self.session.request("unevenSum/setLookouts", {"lookouts": [to_wire(lk) for lk in lookouts]})
        return msgspec.convert(body["lookouts"], list[Placed])

    async def check_lookout(self, lookout: Lookout) -> Placed:
        """What would be said of a lookout; nothing is set."""
        return msgspec.convert(await self.session.request("unevenSum/checkLookout", to_wire(lookout)), Placed)

    async def met(self) -> tuple[dict[int, int], dict[str, int]]:
        """How often each lookout, and each tripwire, was met."""
        body = await self.session.request("unevenSum/lookouts")
        return {int(n): met for n, met in body["met"].items()}, body["tripwires"]

    async def set_switches(self, switches: Switches) -> None:
        await self.session.request("unevenSum/setSwitches", switches.to_wire())

    async def set_stepping(self, over: list[str]) -> None:
        """Files, functions and classes that a step into does not enter."""
        await self.session.request("unevenSum/setStepping", {"over": over})

    async def unaccept(self, file: str, line: int) -> None:
        await self.session.request("unevenSum/unaccept", {"file": file, "line": line})

    async def modules(self) -> list[tuple[str, str]]:
        """The modules that the script has imported: name and path."""
        body = await self.session.request("modules")
        return [(m["name"], m["path"]) for m in body["modules"]]

    async def threads(self) -> list[tuple[int, str]]:
        body = await self.session.request("threads")
        return [(t["id"], t["name"]) for t in body["threads"]]

    async def accept(self, file: str, line: int) -> None:
        """Silences the non-finite tripwire at one statement."""
        await self.session.request("unevenSum/accept", {"file": file, "line": line})

    async def write_input(self, text: str | None) -> None:
        await self.session.write_input(text)

    async def set_breakpoints(self, path: str, lines: list[int]) -> list[dict[str, Any]]:
        """Sets the breakpoints of one file; for each what became of it (`verified`, `line`, `message`)."""
        body = await self.session.request(
            "setBreakpoints", {"source": {"path": path}, "breakpoints": [{"line": n} for n in lines]}
        )
        placed: list[dict[str, Any]] = body["breakpoints"]
        return placed

    # -- reading a pause -----------------------------------------------------------------------------

    async def stack(self, thread: int = 0) -> list[StackFrame]:
        body = await self.session.request("stackTrace", {"threadId": thread})
        return msgspec.convert(body["stackFrames"], list[StackFrame])

    async def cards(self, frame: int = 0, about: str = "line") -> list[Card]:
        body = await self.session.request("unevenSum/cards", {"frameId": frame, "about": about})
        return msgspec.convert(body["cards"], list[Card])

    async def fill(self, frame: int, about: str, names: list[str]) -> list[Card]:
        """The cards of these names with their summaries, which take time."""
        arguments = {"frameId": frame, "about": about, "names": names}
        body = await self.session.request("unevenSum/cards", arguments)
        return msgspec.convert(body["cards"], list[Card])

    async def notes(self, frame: int = 0) -> list[Note]:
        body = await self.session.request("unevenSum/notes", {"frameId": frame})
        return msgspec.convert(body["notes"], list[Note])

    async def terms(self, frame: int = 0, line: int | None = None) -> tuple[int, list[Term], str]:
        """The terms of the statement at a line (default: the paused one): its line, terms, and a remark."""
        body = await self.session.request("unevenSum/terms", {"frameId": frame, "line": line})
        return (
            body["line"],
            msgspec.convert(body["terms"], list[Term]),
            body["trial"] or body["differs"] or body["when"],
        )

    async def seen(self) -> None:
        """From now on `changed` means: since this pause."""
        await self.session.request("unevenSum/seen")

    async def source(self, path: str) -> str:
        body = await self.session.request("source", {"source": {"path": path}, "sourceReference": 0})
        return str(body["content"])

    async def scopes(self, frame: int = 0) -> list[dict[str, Any]]:
        body = await self.session.request("scopes", {"frameId": frame})
        found: list[dict[str, Any]] = body["scopes"]
        return found

    async def variables(self, reference: int, start: int = 0, count: int = 0) -> list[Variable]:
        body = await self.session.request(
            "variables", {"variablesReference": reference, "start": start, "count": count}
        )
        return msgspec.convert(body["variables"], list[Variable])

    async def ask(self, text: str, frame: int = 0, context: str = "repl") -> dict[str, Any]:
        """Evaluates in a trial, or for good after a leading `!`.  BadUse with the error's sentence."""
        return await self.session.request("evaluate", {"expression": text, "frameId": frame, "context": context})

    async def call_with_pauses(self, expression: str, frame: int = 0, into: bool = False) -> None:
        """Runs a call within this pause, with all lookouts on; a CallEnded event tells its end."""
        arguments = {"expression": expression, "frameId": frame, "into": into}
        await self.session.request("unevenSum/callWithPauses", arguments)

    async def call_text(self, frame: int = 0) -> str:
        """The call of a frame written again.  BadUse where that cannot be done."""
        return str((await self.session.request("unevenSum/callText", {"frameId": frame}))["text"])

    async def expect(self, text: str, frame: int = 0) -> str:
        """Holds the coming pause to an expectation; how it stands now.  BadUse when it is unclear."""
        return str((await self.session.request("unevenSum/expect", {"text": text, "frameId": frame}))["now"])

    async def set_value(self, target: str, value: str, frame: int = 0, force: bool = False) -> dict[str, Any]:
        """Sets a name, attribute, element or slice of a call for good.  BadUse when it cannot be done; with `misfit`
        in its facts when the value has another type or shape than what is there, and `force` is not given."""
        arguments = {"expression": target, "value": value, "frameId": frame, "force": force}
        return await self.session.request("unevenSum/setValue", arguments)

    async def complete(self, text: str, frame: int = 0) -> list[dict[str, Any]]:
        body = await self.session.request("completions", {"text": text, "column": len(text) + 1, "frameId": frame})
        found: list[dict[str, Any]] = body["targets"]
        return found

    # -- the Close-up --------------------------------------------------------------------------------

    async def closeup(self, expression: str, frame: int = 0) -> dict[str, Any]:
        """Summary, facts, grid, plots, parts of a value.  BadUse when it cannot be had."""
        return await self._of_value("closeup", expression, frame)

    async def parts(self, expression: str, frame: int, start: int, count: int) -> dict[str, Any]:
        return await self._of_value("parts", expression, frame, start=start, count=count)

    async def read_text(self, expression: str, frame: int = 0) -> str:
        return str((await self._of_value("text", expression, frame))["text"])

    async def page(self, expression: str, frame: int = 0, **how: Any) -> dict[str, Any]:
        """A page of the grid: `row`, `column`, `rows`, `columns`, `slice`, `sort`, `filter`."""
        return await self._of_value("page", expression, frame, **how)

    async def find_bad(self, expression: str, frame: int = 0, **where: Any) -> tuple[int, int] | None:
        found = (await self._of_value("findBad", expression, frame, **where))["found"]
        return (int(found[0]), int(found[1])) if found else None

    async def plot(self, expression: str, frame: int = 0, **how: Any) -> dict[str, Any]:
        """A plot's reduced data: `kind`, `width`, `height`, `columns`, `first`, `last`, `slice`, `log`."""
        return await self._of_value("plot", expression, frame, **how)

    async def compare(self, expression: str, frame: int, other: str, atol: float, rtol: float) -> dict[str, Any]:
        return await self._of_value("compare", expression, frame, other=other, atol=atol, rtol=rtol)

    async def matrix(self, expression: str, frame: int = 0) -> list[list[str]]:
        found: list[list[str]] = (await self._of_value("matrix", expression, frame))["facts"]
        return found

    async def export_grid(self, expression: str, frame: int, path: str, **how: Any) -> dict[str, Any]:
        return await self._of_value("export", expression, frame, path=path, **how)

    async def _of_value(self, command: str, expression: str, frame: int, **how: Any) -> dict[str, Any]:
        arguments = {"expression": expression, "frameId": frame, **how}
        return await self.session.request(f"unevenSum/{command}", arguments)

    async def figures(self, number: int = 0, path: str = "") -> list[dict[str, Any]]:
        """The open matplotlib figures of the script: `number`, `title`, `axes`; with a path, one is written."""
        arguments = {"number": number, "path": path} if path else {}
        found: list[dict[str, Any]] = (await self.session.request("unevenSum/figures", arguments))["figures"]
        return found

    def cancel_all(self) -> None:
        """Gives up what the script's side is computing for us."""
        self.session.cancel_all()

    # -- events --------------------------------------------------------------------------------------

    def _on_event(self, message: Message) -> None:
        event = _typed(str(message.get("event")), message.get("body") or {}, self.launch.name)
        if isinstance(event, Stopped):
            LOG.info("paused: %s", event.facts.headline)
        elif isinstance(event, Trouble):
            LOG.error("a fault of ours: %s", event.detail)
        elif isinstance(event, (Ended, Exited)):
            LOG.info("%s", event)
        if event is not None:
            self.events.put_nowait(event)


def _typed(name: str, body: dict[str, Any], program: str) -> Event | None:
    if name == "stopped":
        met = {int(n): times for n, times in (body.get("met") or {}).items()}
        facts = msgspec.convert(body["unevenSum"], Facts)
        return Stopped(facts, met, int(body.get("point") or 0), str(body.get("noPoint") or ""))
    if name == "unevenSum/callEnded":
        return CallEnded(body["call"], body, body["failed"], body["seconds"], body["point"])
    if name == "unevenSum/tripped":
        return Tripped(msgspec.convert(body, Facts))
    if name == "output":
        return Output(body["category"], body["output"])
    if name == "unevenSum/where":
        return Where(body["file"], body["line"], body["function"], msgspec.convert(body["loops"], list[Loop]))
    if name == "unevenSum/busy":
        return Busy(body["message"])
    if name == "unevenSum/trouble":
        return Trouble(body["message"], body.get("detail", ""))
    if name == "unevenSum/ended":
        return Ended(body["exit_status"], body["seconds"])
    if name == "exited":
        status = None if body["signal"] else body["exitCode"]
        return Exited(status, body["signal"], body["died"], body["byUs"], died_sentence(body, program))
    return None
