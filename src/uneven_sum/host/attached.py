"""The session of a script that another process of ours holds (`host/held.py`), as a front end uses it."""

from __future__ import annotations

import asyncio
import contextlib
import os
import socket
import time
from typing import Any

import msgspec

from ..protocol import Decoder, MalformedMessage, Message, encode
from .launch import BadUse, Launch
from .links import Link
from .points import Point
from .processes import OneProcess
from .session import Session

WAITS = (0.0, 0.1, 0.5, 1.0)  # seconds, since who was attached may be leaving just now
LOST = "The process that held the script is gone."
NOBODY = "Nobody holds a script at {path}. It was held until its time was over, or it is on another machine."


def held_at(path: str) -> str:
    """The socket that a path means: itself, or what is told in the file that `check --hold` has written.  BadUse."""
    try:
        if os.path.isfile(path):
            with open(path, encoding="utf-8") as f:
                path = f.read().strip().rpartition(" attach ")[2]
    except (OSError, UnicodeDecodeError):
        raise BadUse(f"{path} cannot be read.") from None
    return path


def launch_at(path: str) -> Launch:
    """The launch of the script that is held at a socket.  BadUse where there is none, or somebody is attached."""
    for wait in WAITS:
        time.sleep(wait)
        told = _told_at(path)
        if not told.get("refused"):
            launch = msgspec.convert(told["launch"], Launch)
            launch.attach, launch.keep_case = path, False
            return launch
    raise BadUse(str(told["refused"]))


def _told_at(path: str) -> Message:
    """The first message of who holds a script at a socket."""
    decoder = Decoder()
    with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as sock:
        try:
            sock.settimeout(10.0)
            sock.connect(path)
            while data := sock.recv(1 << 16):
                for message in decoder.feed(data):
                    return message
        except (OSError, MalformedMessage):
            pass
    raise BadUse(NOBODY.format(path=path))


class AttachedSession(Session):
    """Relays what a front end does.  The script, its points and its output stay with the process that holds it."""

    _calls: asyncio.StreamWriter | None = None
    _number = 0
    _first: list[Message]  # what came when it connected
    _known: list[OneProcess] = []

    async def start(self) -> None:
        """Attach.  BadUse where nobody holds a script there."""
        self._answers: dict[int, asyncio.Future[dict[str, object]]] = {}
        reader, self._calls = await self._connected()
        first = asyncio.Event()
        self._tasks.append(asyncio.create_task(self._relay(reader, first)))
        await first.wait()

    async def _connected(self) -> tuple[asyncio.StreamReader, asyncio.StreamWriter]:
        for wait in WAITS:
            await asyncio.sleep(wait)
            with contextlib.suppress(OSError):
                reader, writer = await asyncio.open_unix_connection(self.launch.attach)
                self._decoder, self._first = Decoder(), []
                while not self._first and (data := await reader.read(1 << 16)):
                    self._first = self._decoder.feed(data)
                if self._first and not self._first[0].get("refused"):
                    return reader, writer
                writer.close()
        raise BadUse(NOBODY.format(path=self.launch.attach))

    @property
    def alive(self) -> bool:
        return self._calls is not None and not self.exited.is_set()

    async def _relay(self, reader: asyncio.StreamReader, first: asyncio.Event) -> None:
        for message in self._first:
            self._hear(message)
        first.set()
        with contextlib.suppress(MalformedMessage, ConnectionError):
            while data := await reader.read(1 << 16):
                for message in self._decoder.feed(data):
                    self._hear(message)
        self._calls = None
        for future in self._answers.values():
            if not future.done():
                future.set_result({"refused": LOST})
        if not self.exited.is_set():
            self.exited.set()
            told = {"exitCode": None, "signal": None, "died": True, "byUs": False, "sentence": LOST}
            self.on_event({"type": "event", "event": "exited", "body": told})

    def _hear(self, message: Message) -> None:
        self._take_state(message.get("state") or {})
        if "answer" in message:
            future = self._answers.pop(int(message["answer"] or 0), None)
            if future is not None and not future.done():
                future.set_result(message)
        elif message.get("event"):
            if message["event"].get("event") == "exited":
                self.exited.set()
            self.on_event(message["event"])
        elif message.get("stopped"):
            self.on_event({"type": "event", "event": "stopped", "body": message["stopped"]})

    def _take_state(self, state: Message) -> None:
        if not state:
            return
        here = self.main if not state["child"] else Link("child")
        self.processes.here = here
        here.running, here.point, here.pid = bool(state["running"]), int(state["point"]), int(state["pid"])
        self.written = {str(path): int(when) for path, when in state["written"].items()}
        self.left = [str(one) for one in state["left"]]
        self._known = msgspec.convert(state["processes"], list[OneProcess])
        if "points" in state:
            decoder: Any = None  # nobody reads from a point here
            self.points.all = {n: Point(n, pid, decoder, decoder, decoder, facts) for n, pid, facts in state["points"]}

    async def _call(self, name: str, *arguments: object) -> Any:
        if self._calls is None:
            raise BadUse(LOST)
        self._number += 1
        future: asyncio.Future[Message] = asyncio.get_running_loop().create_future()
        self._answers[self._number] = future
        self._calls.write(encode({"seq": self._number, "do": name, "arguments": list(arguments)}))
        answer = await future
        if answer.get("refused"):
            raise BadUse(str(answer["refused"]), answer.get("told") or {})
        return answer.get("value")

    # -- what a front end calls ----------------------------------------------------------------------

    async def configured(self) -> None:
        pass  # it runs already

    async def request(
        self, command: str, arguments: dict[str, object] | None = None, link: Link | None = None
    ) -> dict[str, object]:
        found: dict[str, object] = await self._call("request", command, arguments or {})
        return found

    def cancel_all(self) -> None:
        if self._calls is not None:
            self._calls.write(encode({"seq": 0, "do": "cancel_all"}))

    async def step_back(self, number: int | None = None) -> None:
        await self._call("step_back", number)

    async def points_up_to_here(self) -> None:
        await self._call("points_up_to_here")

    async def stopped(self, seconds: float = 20.0) -> None:
        await self._call("stopped", seconds)

    async def interrupt(self) -> None:
        await self._call("interrupt")

    async def write_input(self, text: str | None) -> None:
        await self._call("write_input", text)

    async def find_places(self) -> None:
        await self._call("find_places")

    def list_processes(self) -> list[OneProcess]:
        return self._known

    async def show_process(self, pid: int) -> None:
        await self._call("show_process", pid)

    async def switch_points(self, on: bool) -> None:
        await self._call("switch_points", on)

    async def stop(self) -> None:
        """End the script that is held."""
        with contextlib.suppress(BadUse):  # who holds it ends, too
            await self._call("end")

    async def end(self) -> None:
        """Leave the script as it is."""
        for task in self._tasks:
            task.cancel()
        await asyncio.gather(*self._tasks, return_exceptions=True)
        if self._calls is not None:
            self._calls.close()
            with contextlib.suppress(OSError):
                await self._calls.wait_closed()
            self._calls = None
