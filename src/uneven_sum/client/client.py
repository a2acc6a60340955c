"""The calls of a front end: one object for one run of a script."""

from __future__ import annotations

import asyncio
import logging
from collections.abc import Callable

import msgspec

from ..host.attached import AttachedSession
from ..host.failures import died_sentence
from ..host.launch import BadUse, Launch
from ..host.processes import OneProcess
from ..host.session import Session
from ..protocol import (
    Facts,
    Finding,
    LedgerOf,
    LedgerPasses,
    Lookout,
    Loop,
    Message,
    Placed,
    Recent,
    Switches,
    to_wire,
)
from .cell_motions import CellMotions
from .events import (
    Busy,
    CallEnded,
    CellEnded,
    Ended,
    Event,
    Exited,
    Found,
    LeftOut,
    Output,
    ProcessEnded,
    ProcessesWait,
    Stopped,
    Tripped,
    Trouble,
    Unwatched,
    Where,
)
from .ledger import Ledger
from .motions import Motions
from .values import Values

LOG = logging.getLogger("uneven_sum.client")


class Client(Motions, CellMotions, Values):
    """Runs a script and talks with it.  Events come in `events`, in their order."""

    def __init__(self, launch: Launch) -> None:
        self.launch = launch
        self.events: asyncio.Queue[Event] = asyncio.Queue()
        self.session: Session = (AttachedSession if launch.attach else Session)(launch, self._on_event)
        self.also: Callable[[Message], None] | None = None  # hears of each event, too
        self.seconds = 0.0
        self.not_recorded: list[str] = []  # why a loop of before is not recorded

    # -- the run -------------------------------------------------------------------------------------

    async def start(
        self,
        breakpoints: dict[str, list[int]] | None = None,
        lookouts: list[Lookout] | None = None,
        switches: Switches | None = None,
        over: list[str] | None = None,
        record: list[dict[str, object]] | None = None,
        always: dict[str, object] | None = None,
        counts: bool = False,
        watches: list[str] | None = None,
    ) -> list[Placed]:
        """Starts the script, its lookouts and tripwires set; what became of each lookout.

        BadUse when it cannot be run.
        """
        await self.session.start()
        if self.launch.attach:
            return []  # what holds for it is set
        await self.session.request("setExceptionBreakpoints", {"filters": self.launch.filters()})
        if switches is not None:
            await self.set_switches(switches)
        if over:
            await self.set_stepping(over)
        if watches:
            await self.record([], watches=watches)
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
        """Ends the script, if it has not ended, and closes the connection; one that is held elsewhere is left."""
        await self.session.end()

    async def stop(self) -> None:
        """Ends the script, also one that is held elsewhere."""
        await self.session.stop()

    @property
    def running(self) -> bool:
        return self.session.running

    @property
    def alive(self) -> bool:
        return self.session.alive

    async def next_event(self) -> Event:
        return await self.events.get()

    # -- recorded loops ------------------------------------------------------------------------------

    async def record(self, loops: list[dict[str, object]], **more: object) -> list[LedgerOf]:
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
        how: dict[str, object] = {"file": file, "line": line, "filter": filter}
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

    async def export_passes(self, file: str, line: int, path: str, run: int = 0) -> dict[str, object]:
        """The passes of a loop as Parquet: `rows`, `path`."""
        how = {"file": file, "line": line, "path": path, "run": run}
        return await self.session.request("unevenSum/exportPasses", how)

    async def counts(self, on: bool | None = None) -> tuple[bool, dict[str, dict[int, int]]]:
        """Whether statements are counted, and how often each ran, by file and line.  `on`: count them, or not."""
        body = await self.session.request("unevenSum/counts", {} if on is None else {"on": on})
        return bool(body["on"]), {path: dict(found) for path, found in body["counts"].items()}

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

    def processes(self) -> list[OneProcess]:
        """The processes of the script that report to us, the script's own first."""
        return self.session.list_processes()

    async def places_of_processes(self) -> None:
        """Find out where those are that run."""
        await self.session.find_places()

    async def show_process(self, pid: int) -> None:
        """Show a paused process: its pause comes as an event, and what is asked is asked of it.  BadUse where it is
        not paused any more."""
        await self.session.show_process(pid)

    def hold_others(self, on: bool) -> None:
        """From the next pause on, the other processes of the script wait, or go on."""
        self.session.launch.hold_others = on

    async def accept_as(self, what: str, on: bool = True) -> None:
        """Accept `calls of f` or `values of x` wherever they stand, or no longer."""
        await self.session.request("unevenSum/accept" if on else "unevenSum/unaccept", {"as": what})

    async def accept(self, file: str, line: int) -> None:
        """Silences the non-finite tripwire at one statement."""
        await self.session.request("unevenSum/accept", {"file": file, "line": line})

    async def write_input(self, text: str | None) -> None:
        await self.session.write_input(text)

    async def set_breakpoints(self, path: str, lines: list[int]) -> list[dict[str, object]]:
        """Sets the breakpoints of one file; for each what became of it (`verified`, `line`, `message`)."""
        body = await self.session.request(
            "setBreakpoints", {"source": {"path": path}, "breakpoints": [{"line": n} for n in lines]}
        )
        placed: list[dict[str, object]] = body["breakpoints"]
        return placed

    # -- events --------------------------------------------------------------------------------------

    def _on_event(self, message: Message) -> None:
        if self.also is not None:
            self.also(message)
        event = _typed(str(message.get("event")), message.get("body") or {}, self.launch.name)
        if isinstance(event, Stopped):
            LOG.info("paused: %s", event.facts.headline)
        elif isinstance(event, Trouble):
            LOG.error("internal error: %s", event.detail)
        elif isinstance(event, (Ended, Exited)):
            LOG.info("%s", event)
        if event is not None:
            self.events.put_nowait(event)


def _typed(name: str, body: Message, program: str) -> Event | None:
    if name == "stopped":
        met = {int(n): times for n, times in (body.get("met") or {}).items()}
        facts = msgspec.convert(body["unevenSum"], Facts)
        more = (int(body.get("point") or 0), str(body.get("noPoint") or ""), float(body.get("ran") or 0.0))
        return Stopped(facts, met, *more)
    if name == "unevenSum/callEnded":
        return CallEnded(body["call"], body, body["failed"], body["seconds"], body["point"])
    if name == "unevenSum/findings":
        found = msgspec.convert(body["findings"], list[Finding])
        return Found(found, str(body.get("process") or ""), bool(body.get("part")))
    if name == "unevenSum/tripped":
        return Tripped(msgspec.convert(body, Facts))
    if name == "output":
        return Output(body["category"], body["output"])
    if name == "unevenSum/where":
        loops = msgspec.convert(body["loops"], list[Loop])
        return Where(body["file"], body["line"], body["function"], loops, bool(body.get("waits")))
    if name == "unevenSum/busy":
        return Busy(body["message"])
    if name == "unevenSum/unwatched":
        place = (str(body.get("function", "")), int(body.get("line", 0)), int(body.get("endLine", 0)))
        return Unwatched(body["file"], body["why"], *place)
    if name == "unevenSum/cellEnded":
        return CellEnded(int(body["number"]), str(body["id"]), body["outputs"])
    if name == "unevenSum/leftOut":
        return LeftOut(int(body["number"]), str(body["text"]))
    if name == "unevenSum/processes":
        return ProcessesWait(int(body["waiting"]), list(body["processes"]), int(body["held"]))
    if name == "unevenSum/processEnded":
        return ProcessEnded(body["name"], body["message"], body["shown"])
    if name == "unevenSum/trouble":
        return Trouble(body["message"], body.get("detail", ""))
    if name == "unevenSum/ended":
        where = (str(body.get("file") or ""), int(body.get("line") or 0))
        return Ended(body["exit_status"], body["seconds"], str(body.get("said") or ""), *where)
    if name == "exited":
        status = None if body["signal"] else body["exitCode"]
        return Exited(
            status, body["signal"], body["died"], body["byUs"], body.get("sentence") or died_sentence(body, program)
        )
    return None
