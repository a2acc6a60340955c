"""A paused script that is held: front ends attach to it, one at a time, over a Unix socket, and leave it again.

Messages are framed as those of the protocol.  The front end calls methods of the session (`CALLS`) by `seq`, `do`,
`arguments`; each answer has `answer`, `value` or `refused`, and `state`.  Events of the session come as `event`.
"""

from __future__ import annotations

import asyncio
import contextlib
import os
import shutil
from collections.abc import Callable
from dataclasses import replace

import msgspec

from ..protocol import Decoder, MalformedMessage, Message, encode
from .launch import BadUse
from .points import peer
from .session import Session
from .sockets import folder_for_sockets, in_tasks

CALLS = (
    *("request", "cancel_all", "step_back", "points_up_to_here", "stopped", "interrupt", "write_input", "find_places"),
    *("show_process", "switch_points", "end"),
)
TAKEN = "Somebody is attached to this script already."


class Held:
    """`changed`: is set when somebody attaches or leaves."""

    def __init__(self, session: Session) -> None:
        self.session = session
        self.folder = ""
        self.changed = asyncio.Event()
        self._writer: asyncio.StreamWriter | None = None
        self._server: asyncio.Server | None = None
        self._tasks: set[asyncio.Task[None]] = set()
        self._told_points: list[tuple[int, int]] = []

    @property
    def path(self) -> str:
        return os.path.join(self.folder, "socket")

    @property
    def attached(self) -> bool:
        return self._writer is not None

    async def listen(self) -> str:
        """Begins to listen; the socket's path, which only the user can open."""
        self.folder = folder_for_sockets("uneven-sum-held-")
        mask = os.umask(0o177)
        try:
            self._server = await asyncio.start_unix_server(in_tasks(self._welcome), self.path)
        finally:
            os.umask(mask)
        return self.path

    async def close(self) -> None:
        for task in list(self._tasks):
            task.cancel()
        if self._writer is not None:
            self._writer.close()
        if self._server is not None:
            self._server.close()
        if self.folder:
            await asyncio.to_thread(shutil.rmtree, self.folder, True)
            self.folder = ""

    def heard(self, message: Message) -> None:
        """An event of the session."""
        self._send({"event": message})

    def _send(self, message: dict[str, object]) -> None:
        if self._writer is not None and not self._writer.is_closing():
            self._writer.write(encode({**message, "state": self._state()}))

    def _state(self) -> dict[str, object]:
        """What a front end reads of the session without asking."""
        session = self.session
        told: dict[str, object] = {
            **{"running": session.running, "point": session.point, "pid": session.pid, "written": session.written},
            **{"child": session.here is not session.main, "exited": session.exited.is_set(), "left": session.left},
            "processes": msgspec.to_builtins(session.list_processes()),
        }
        points = [(p.number, p.pid) for p in session.points.all.values()]
        if points != self._told_points:
            self._told_points = points
            told["points"] = [[p.number, p.pid, p.facts] for p in session.points.all.values()]
        return told

    async def _welcome(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        if peer(writer)[1] != os.getuid():
            writer.close()
            return
        if self._writer is not None:
            writer.write(encode({"refused": TAKEN}))
            writer.close()
            return
        self._writer, self._told_points = writer, []
        self.changed.set()
        session, decoder = self.session, Decoder()
        launch = replace(session.launch, cwd=os.path.abspath(session.launch.cwd or os.curdir))
        self._send({"launch": msgspec.to_builtins(launch), "stopped": session.processes.pause()})
        try:
            with contextlib.suppress(MalformedMessage, ConnectionError, asyncio.CancelledError):
                while data := await reader.read(1 << 16):
                    for message in decoder.feed(data):
                        task = asyncio.create_task(self._do(message))
                        self._tasks.add(task)
                        task.add_done_callback(self._tasks.discard)
        finally:
            self._writer = None
            writer.close()
            await self._leave_as_it_was()
            self.changed.set()

    async def _do(self, message: Message) -> None:
        answer: dict[str, object] = {"answer": message.get("seq")}
        name = str(message.get("do"))
        try:
            if name not in CALLS:
                raise BadUse(f"{name} cannot be asked of a held script.")
            method: Callable[..., object] = getattr(self.session, name)
            value = method(*(message.get("arguments") or []))
            answer["value"] = await value if asyncio.iscoroutine(value) else value
        except BadUse as e:
            answer.update(refused=str(e), told=e.facts)
        except (KeyError, TypeError, ValueError) as e:
            answer.update(refused=f"{name} cannot be done: {e}.", told={})
        self._send(answer)

    async def _leave_as_it_was(self) -> None:
        """The front end has left: its lookouts go with it."""
        if self.session.alive:
            with contextlib.suppress(BadUse, TimeoutError):
                await asyncio.wait_for(self.session.request("unevenSum/setLookouts", {"lookouts": []}), 5.0)
