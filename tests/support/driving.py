"""Drives a run through the client, as a front end does."""

from __future__ import annotations

import asyncio
import time
from contextlib import asynccontextmanager

from uneven_sum.client import CallEnded, Client, Ended, Exited, Launch, Output, Stopped, Tripped, Trouble, Unwatched

PATIENCE = 120


def slowness() -> float:
    """How much slower this machine is just now than it should be: waits are stretched by that."""
    began = time.perf_counter()
    sum(range(300_000))
    return max(1.0, min(15.0, (time.perf_counter() - began) / 0.006))


class Run:
    """One run; what it printed and what it stumbled over is collected on the way."""

    def __init__(self, client: Client) -> None:
        self.client = client
        self.out = self.err = ""
        self.trips: list = []
        self.trouble: list[str] = []
        self.unwatched: list[Unwatched] = []
        self.exited: Exited | None = None
        self.ended: Ended | None = None
        self.point, self.no_point = 0, ""

    async def pause(self):
        """The facts of the next pause, or the end of a call run within one; None when the script exits instead."""
        while True:
            event = await asyncio.wait_for(self.client.next_event(), PATIENCE)
            if isinstance(event, Output):
                if event.category == "stdout":
                    self.out += event.text
                else:
                    self.err += event.text
            elif isinstance(event, Tripped):
                self.trips.append(event.facts)
            elif isinstance(event, Trouble):
                self.trouble.append(event.detail)
            elif isinstance(event, Unwatched):
                self.unwatched.append(event)
            elif isinstance(event, Stopped):
                self.point, self.no_point = event.point, event.no_point
                return event.facts
            elif isinstance(event, CallEnded):
                return event
            elif isinstance(event, Ended):
                self.ended = event
            elif isinstance(event, Exited):
                self.exited = event
                return None

    async def step(self, how: str = "line"):
        await getattr(self.client, {"line": "step_line", "into": "step_into", "out": "step_out", "on": "go_on"}[how])()
        return await self.pause()

    async def ask(self, text: str, frame: int = 0) -> str:
        return (await self.client.ask(text, frame))["result"]


@asynccontextmanager
async def running(
    path: str | Launch, *args: str, breakpoints: dict | None = None, start: dict | None = None, **options
):
    """A run that is ended when the block is left.  `start`: what else is set before it."""
    launch = path if isinstance(path, Launch) else Launch(path, list(args), **options)
    launch.capture = True
    client = Client(launch)
    run = Run(client)
    try:
        await client.start(breakpoints, **(start or {}))
        yield run
    finally:
        await client.end()
        if run.client is not client:  # begun again by the test
            await run.client.end()


__all__ = ["Ended", "Run", "running", "slowness"]
