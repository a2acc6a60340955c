"""Messages of the Debug Adapter Protocol over one socket: framing and JSON, blocking and not."""

from __future__ import annotations

import json
import select
import socket
from typing import Any

MAX_HEADER = 4096


class Closed(Exception):
    """The other end of the connection is gone."""


class Wire:
    """One connection to the host.  Not thread-safe: the engine's lock guards it."""

    def __init__(self, sock: socket.socket) -> None:
        self.sock = sock
        self._buffer = bytearray()
        self._seq = 0

    def send(self, message: dict[str, Any]) -> None:
        """Send one message; a vanished host raises Closed."""
        self._seq += 1
        message["seq"] = self._seq
        body = json.dumps(message, ensure_ascii=True, allow_nan=False, default=str).encode()
        try:
            self.sock.sendall(b"Content-Length: %d\r\n\r\n" % len(body) + body)
        except OSError as e:
            raise Closed(str(e)) from None

    def event(self, name: str, body: dict[str, Any]) -> None:
        self.send({"type": "event", "event": name, "body": body})

    def receive(self, wait: bool = True) -> dict[str, Any] | None:
        """The next message; with wait=False None when no whole message has come."""
        while True:
            message = self._take()
            if message is not None:
                return message
            if not wait and not select.select([self.sock], [], [], 0)[0]:
                return None
            try:
                chunk = self.sock.recv(65536)
            except OSError as e:
                raise Closed(str(e)) from None
            if not chunk:
                raise Closed("the host has gone")
            self._buffer += chunk

    def _take(self) -> dict[str, Any] | None:
        end = self._buffer.find(b"\r\n\r\n")
        if end < 0:
            return None
        length = 0
        for line in bytes(self._buffer[:end]).split(b"\r\n"):
            name, _, value = line.partition(b":")
            if name.strip().lower() == b"content-length":
                length = int(value)
        start = end + 4
        if len(self._buffer) < start + length:
            return None
        body = bytes(self._buffer[start : start + length])
        del self._buffer[: start + length]
        found: dict[str, Any] = json.loads(body)
        return found
