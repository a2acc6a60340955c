"""What the script prints, read from its pipes."""

from __future__ import annotations

import asyncio
import codecs
import fcntl
import struct
import termios
from collections.abc import Callable

LONGEST = 0.5  # seconds that a pause waits for what was printed before it
TURN = 0.001


class ScriptOutput:
    """Reads standard output and error of a process; `on_event` gets each piece as a protocol event."""

    def __init__(self, process: asyncio.subprocess.Process, on_event: Callable[[dict[str, object]], None]) -> None:
        self.process, self.on_event = process, on_event

    async def relay(self, stream: asyncio.StreamReader, category: str) -> None:
        decoder = codecs.getincrementaldecoder("utf-8")("replace")
        while data := await stream.read(1 << 15):
            text = decoder.decode(data)
            self.on_event({"type": "event", "event": "output", "body": {"category": category, "output": text}})

    async def drained(self) -> None:
        """Waits until what is in the pipes now was passed on."""
        for _ in range(round(LONGEST / TURN)):  # in turns: standing still counts as one of them
            if not any(map(self._waiting, (1, 2))):
                break
            await asyncio.sleep(TURN)
        for _ in range(3):  # what was read reaches the reader one turn of the loop later
            await asyncio.sleep(0)

    def _waiting(self, descriptor: int) -> int:
        """Bytes in a pipe that were not read yet."""
        transport = self.process._transport.get_pipe_transport(descriptor)  # type: ignore[attr-defined] # no public way
        pipe = transport.get_extra_info("pipe") if transport is not None else None
        if pipe is None or pipe.closed:
            return 0
        try:
            told = fcntl.ioctl(pipe.fileno(), termios.FIONREAD, struct.pack("i", 0))
        except (OSError, ValueError):
            return 0
        return int(struct.unpack("i", told)[0])
