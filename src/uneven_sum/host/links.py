"""The connection to one process of a run: the script itself, or a process that it has started.

The agent stops its reading when the script runs; whatever is sent to it then is followed by a signal, whose handler in
the process's main thread reads it.
"""

from __future__ import annotations

import asyncio
import contextlib
import os
import signal
import time
from collections.abc import Awaitable, Callable, Collection

from ..protocol import Decoder, MalformedMessage, Message, encode
from .activity import Activity, activity

CALL_SIGNAL = signal.SIGURG  # ignored by default: never fatal, however late it comes
PATIENCE = 0.5  # seconds until an interrupt that is not answered is explained
ROUNDS = 20  # in which the end of a connection is waited for
AFTER_OUTPUT = ("stopped", "unevenSum/callEnded")  # what was printed before them is shown before them


async def read_out(tasks: Collection[asyncio.Task[object]], seconds: float) -> None:
    """Wait until all is read from who has ended, `seconds` at most: a child of it may hold its connection open.

    In many short waits: when this process stands still for a while, as under load, that counts as one of them, and
    what has come meanwhile is read in the next.
    """
    for _ in range(ROUNDS):
        if not tasks or not (await asyncio.wait(tasks, timeout=seconds / ROUNDS))[1]:
            return


class Link:
    """One process.  `name`: what people call it, empty for the script."""

    def __init__(self, name: str = "") -> None:
        self.name = name
        self.pid = 0
        self.running = False  # it runs, and nobody reads at the other end
        self.going_on = True  # it was set going by `continue`, not by a step
        self.ticks = False  # it looks by itself for what was sent, while it computes
        self.point = 0  # the return point of the present pause
        self.stops = 0
        self.stopped = asyncio.Event()
        self.pause: Message = {}  # the body of its last `stopped`
        self.last_place: dict[str, object] | None = None
        self.idle = False  # a worker that waits for a task, when it was last asked
        self.since = time.time()
        self.holding = False  # it was asked to wait, since another one has paused
        self.asked = 0.0  # when it was last asked for its findings
        self.gone = False
        self.waiting: dict[int, asyncio.Future[Message]] = {}
        self.going: set[int] = set()  # requests under way that set it going
        self.reading: asyncio.Task[None] | None = None
        self._calling: asyncio.Task[None] | None = None
        self.writer: asyncio.StreamWriter | None = None

    @property
    def paused(self) -> bool:
        return bool(self.pause) and not self.running and not self.gone

    @property
    def held(self) -> bool:
        """It waits for another one."""
        return self.holding and self.paused

    async def request(self, message: Message, moves: bool) -> Message:
        """Send a request; its response."""
        number = int(message["seq"])
        future: asyncio.Future[Message] = asyncio.get_running_loop().create_future()
        self.waiting[number] = future
        if moves:
            self.going.add(number)
            self.holding = False
        self.send(message)
        return await future

    def send(self, message: Message) -> None:
        if self.writer is None or self.writer.is_closing() or self.gone:
            self.fail_waiting()
            return
        self.write(encode(message))
        if self.running:
            self._call()

    def tell(self, message: Message) -> None:
        """Answer a process that waits for it."""
        if self.writer is not None and not self.gone:
            self.write(encode(message))

    def write(self, data: bytes) -> None:
        """Where a write fails, asyncio drops what has come and is not read yet: the last words of a process that has
        ended.  So the first try is ours."""
        assert self.writer is not None
        if not self.writer.transport.get_write_buffer_size():
            try:
                data = data[os.write(self.writer.get_extra_info("socket").fileno(), data) :]
            except BlockingIOError:
                pass
            except OSError:
                return  # reading comes to the end by itself
        if data:
            self.writer.write(data)

    def answered(self, message: Message) -> None:
        """A response has come."""
        number = message.get("request_seq", 0)
        future = self.waiting.pop(number, None)
        # Here, not where the response is waited for: the next stop may come in the same breath.
        if number in self.going:
            self.going.discard(number)
            self.running = bool(message.get("success")) or self.running
        if future is not None and not future.done():
            future.set_result(message)

    def paused_with(self, body: Message) -> None:
        self.running, self.pause = False, body
        self.stops += 1
        facts = body.get("unevenSum") or {}
        self.last_place = {k: facts.get(k) for k in ("file", "line", "function")}
        self.point = int(body.get("point") or 0)
        self.stopped.set()

    def _call(self) -> None:
        """Make the running script read what was sent to it.

        While it computes, it looks by itself, now and then.  It is signalled only where it waits in a system call that
        sends nothing: an interrupted write may lose data.
        """
        if self._calling is None or self._calling.done():
            self._calling = asyncio.create_task(self._urge())

    async def _urge(self) -> None:
        wait, began = 0.005, time.monotonic()
        while self.running and self.waiting and not self.gone:
            doing, _ = activity(self.pid)
            late = time.monotonic() - began > PATIENCE
            if doing is Activity.WAITS or doing is Activity.UNKNOWN or not self.ticks or late:
                if doing is not Activity.SENDS or late:
                    self.kill(CALL_SIGNAL)
                wait = max(wait, 0.05)
            await asyncio.sleep(wait)
            wait = min(2 * wait, 0.1)

    def kill(self, number: signal.Signals) -> None:
        """Not by a process object: that would reap the process, and asyncio would miss its status."""
        if self.pid and not self.gone:
            with contextlib.suppress(ProcessLookupError):
                os.kill(self.pid, number)

    async def read(
        self,
        reader: asyncio.StreamReader,
        decoder: Decoder,
        take: Callable[[Link, Message], None],
        drained: Callable[[], Awaitable[None]] | None,
    ) -> None:
        """Read messages until the other end is gone; `take` gets each."""
        for message in decoder.feed(b""):
            take(self, message)
        while True:
            try:
                data = await reader.read(1 << 16)
            except (ConnectionError, OSError):
                data = b""
            if not data:
                break
            try:
                messages = decoder.feed(data)
            except MalformedMessage:
                break
            for message in messages:
                if drained is not None and message.get("event") in AFTER_OUTPUT:
                    await drained()
                take(self, message)

    def fail_waiting(self) -> None:
        waiting, self.waiting = self.waiting, {}
        for future in waiting.values():
            if not future.done():
                who = "process" if self.name else "script"
                future.set_result({"success": False, "message": f"The {who} has ended."})

    def tasks(self) -> list[asyncio.Task[None]]:
        return [t for t in (self.reading, self._calling) if t is not None]

    def close(self) -> None:
        self.gone, self.running = True, False
        self.fail_waiting()
        if self.writer is not None:
            self.writer.close()
