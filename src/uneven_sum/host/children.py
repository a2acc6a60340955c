"""Hears of what trips in processes that the script has forked."""

from __future__ import annotations

import asyncio
import contextlib
import os
import shutil
import tempfile
from collections.abc import Callable

from ..protocol import Decoder, MalformedMessage, Message
from .points import peer

SETTLING = 1.0  # seconds at most, for what is on its way when the script ends


class Children:
    """`heard`: is given each event that a child tells."""

    def __init__(self, heard: Callable[[Message], None]) -> None:
        self.heard = heard
        self.folder = ""
        self._server: asyncio.Server | None = None
        self._reading: set[asyncio.Task[None]] = set()

    async def listen(self) -> str:
        """Begins to listen; the socket's path, in a folder that is ours alone."""
        self.folder = tempfile.mkdtemp(prefix="uneven-sum-children-")
        path = os.path.join(self.folder, "socket")
        self._server = await asyncio.start_unix_server(self._welcome, path)
        return path

    async def _welcome(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        if peer(writer)[1] != os.getuid():
            writer.close()
            return
        task = asyncio.current_task()
        if task is not None:
            self._reading.add(task)
            task.add_done_callback(self._reading.discard)
        decoder = Decoder()
        with contextlib.suppress(MalformedMessage, ConnectionError, asyncio.CancelledError):
            while data := await reader.read(1 << 16):
                for message in decoder.feed(data):
                    if message.get("event") == "unevenSum/tripped":
                        self.heard(message)
        writer.close()

    async def settle(self) -> None:
        """What was told before the script's end is heard; a child that lives on is not waited for."""
        for _ in range(3):  # who has connected is welcomed
            await asyncio.sleep(0)
        if self._reading:
            await asyncio.wait(list(self._reading), timeout=SETTLING)

    async def close(self) -> None:
        for task in list(self._reading):
            task.cancel()
        if self._server is not None:
            self._server.close()
        if self.folder:
            await asyncio.to_thread(shutil.rmtree, self.folder, True)
            self.folder = ""
