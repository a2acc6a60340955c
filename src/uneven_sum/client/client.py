"""The calls of a front end: one object for one run of a script."""

from __future__ import annotations

import asyncio
from typing import Any

import msgspec

from ..host.launch import Launch
from ..host.session import Session, died_sentence
from ..protocol import Card, Facts, Loop, Message, Note, StackFrame, Term, Variable
from .events import Busy, Ended, Event, Exited, Output, Stopped, Tripped, Trouble, Where


class Client:
    """Runs a script and talks with it.  Events come in `events`, in their order."""

    def __init__(self, launch: Launch) -> None:
        self.launch = launch
        self.events: asyncio.Queue[Event] = asyncio.Queue()
        self.session = Session(launch, self._on_event)
        self.seconds = 0.0

    # -- the run -------------------------------------------------------------------------------------

    async def start(self, breakpoints: dict[str, list[int]] | None = None) -> None:
        """Starts the script, its breakpoints and tripwires set.  BadUse when it cannot be run."""
        await self.session.start()
        await self.session.request("setExceptionBreakpoints", {"filters": self.launch.filters()})
        for path, lines in (breakpoints or {}).items():
            await self.set_breakpoints(path, lines)
        await self.session.configured()

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

    async def step_into(self) -> None:
        await self.session.request("stepIn", {"threadId": 0})

    async def step_out(self) -> None:
        await self.session.request("stepOut", {"threadId": 0})

    async def retry(self) -> None:
        await self.session.request("unevenSum/retry")

    async def skip(self) -> None:
        await self.session.request("unevenSum/skip")

    async def run_out(self) -> None:
        """Runs to the end without any pause."""
        await self.session.request("unevenSum/runOut")

    async def interrupt(self) -> None:
        await self.session.interrupt()

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

    async def stack(self) -> list[StackFrame]:
        body = await self.session.request("stackTrace", {"threadId": 0})
        return msgspec.convert(body["stackFrames"], list[StackFrame])

    async def cards(self, frame: int = 0, about: str = "line") -> list[Card]:
        body = await self.session.request("unevenSum/cards", {"frameId": frame, "about": about})
        return msgspec.convert(body["cards"], list[Card])

    async def notes(self, frame: int = 0) -> list[Note]:
        body = await self.session.request("unevenSum/notes", {"frameId": frame})
        return msgspec.convert(body["notes"], list[Note])

    async def terms(self, frame: int = 0, line: int | None = None) -> tuple[int, list[Term], str]:
        """The terms of the statement at a line (default: the paused one): its line, terms, and a remark."""
        body = await self.session.request("unevenSum/terms", {"frameId": frame, "line": line})
        return body["line"], msgspec.convert(body["terms"], list[Term]), body["trial"] or body["differs"]

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

    async def complete(self, text: str, frame: int = 0) -> list[dict[str, Any]]:
        body = await self.session.request("completions", {"text": text, "column": len(text) + 1, "frameId": frame})
        found: list[dict[str, Any]] = body["targets"]
        return found

    # -- events --------------------------------------------------------------------------------------

    def _on_event(self, message: Message) -> None:
        event = _typed(str(message.get("event")), message.get("body") or {}, self.launch.name)
        if event is not None:
            self.events.put_nowait(event)


def _typed(name: str, body: dict[str, Any], program: str) -> Event | None:
    if name == "stopped":
        return Stopped(msgspec.convert(body["unevenSum"], Facts))
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
