"""Messages of the Debug Adapter Protocol over one socket: framing and JSON, blocking and not."""

from __future__ import annotations

import contextlib
import ctypes
import json
import os
import select
import socket
import struct
import threading
import time
from collections.abc import Iterator
from typing import Any

from .original_builtins import with_originals
from .text import to_json

MAX_HEADER = 4096


class Closed(Exception):
    """The other end of the connection is gone."""


class _Hold:
    """While it is on, talking with the host keeps the interpreter's lock: other threads stand still."""

    on = False
    libc: Any = None


@contextlib.contextmanager
def holding_others() -> Iterator[None]:
    """Within it the script's other threads do not run, save while what is asked takes long or waits."""
    if threading.active_count() < 2 or _Hold.on:
        yield
        return
    if _Hold.libc is None:
        _Hold.libc = ctypes.PyDLL(None)  # a PyDLL's functions keep the lock
    _Hold.on = True
    try:
        yield
    finally:
        _Hold.on = False


@contextlib.contextmanager
def letting_others() -> Iterator[None]:
    """Within it, in the midst of `holding_others`, the other threads run."""
    kept, _Hold.on = _Hold.on, False
    try:
        yield
    finally:
        _Hold.on = kept


def _wait(fd: int, event: int) -> None:
    """Waits with the lock kept until the socket is ready."""
    asked = ctypes.create_string_buffer(struct.pack("ihh", fd, event, 0))
    while _Hold.libc.poll(asked, 1, 1000) <= 0:
        pass  # a signal of the script's is handled here, and the wait continues


def _send(sock: socket.socket, data: bytes) -> None:
    if not _Hold.on:
        sock.sendall(data)
        return
    while data:
        _wait(sock.fileno(), select.POLLOUT)
        done = _Hold.libc.send(sock.fileno(), data, len(data), socket.MSG_DONTWAIT | socket.MSG_NOSIGNAL)
        if done < 0:
            if select.select([sock], [], [], 0)[0] and not sock.recv(1, socket.MSG_PEEK):
                raise OSError("the host has gone")
            continue
        data = data[done:]


def _receive(sock: socket.socket) -> bytes:
    if not _Hold.on:
        return sock.recv(65536)
    _wait(sock.fileno(), select.POLLIN)
    room = ctypes.create_string_buffer(65536)
    done = _Hold.libc.recv(sock.fileno(), room, 65536, 0)
    return room.raw[:done] if done > 0 else b""


class Wire:
    """One connection to the host.  Not thread-safe: the engine's lock guards it."""

    def __init__(self, sock: socket.socket) -> None:
        self.sock = sock
        self._own = os.fstat(sock.fileno()).st_ino
        self._buffer = bytearray()
        self._seq = 0
        self._later: list[dict[str, object]] = []

    def check(self) -> None:
        """OSError where the script has closed our descriptor: its number may be that of a file of the script's by now,
        as in a daemon, which closes all that it has inherited."""
        if os.fstat(self.sock.fileno()).st_ino != self._own:
            self.sock.detach()  # else it would be closed with our object
            raise OSError("the script has closed the connection")

    @with_originals
    def send(self, message: dict[str, object]) -> None:
        """Send one message; a vanished host raises Closed."""
        self._seq += 1
        message["seq"] = self._seq
        body = to_json(message)
        try:
            self.check()
            _send(self.sock, b"Content-Length: %d\r\n\r\n" % len(body) + body)
        except OSError as e:
            raise Closed(str(e)) from None

    def event(self, name: str, body: dict[str, object]) -> None:
        self.send({"type": "event", "event": name, "body": body})

    def cancelled(self, number: int) -> bool:
        """True when the host has given a request up; what else has come is kept for later."""
        while (message := self._next(wait=False)) is not None:
            if message.get("command") == "cancel":
                self.send(
                    {"type": "response", "request_seq": message.get("seq", 0), "command": "cancel", "success": True}
                )
                if (message.get("arguments") or {}).get("requestId") == number:
                    return True
            else:
                self._later.append(message)
        return False

    def answer(self, command: str, seconds: float = 1e6) -> dict[str, object]:
        """The arguments of a request that is to come, empty where none has come for so long; what comes before it is
        kept for later."""
        end = time.monotonic() + seconds
        while True:
            message = self._next(wait=False)
            if message is None:
                left = end - time.monotonic()
                if left <= 0:
                    return {}
                select.select([self.sock], [], [], min(left, 1.0))
                continue
            if message.get("command") == command:
                return message.get("arguments") or {}
            self._later.append(message)

    def has_come(self) -> bool:
        """True when there is something to read, or the host has gone."""
        if self._later:
            return True
        try:
            self.check()
        except OSError:
            raise Closed("the script has closed the connection") from None
        look = select.poll()
        look.register(self.sock, select.POLLIN)
        return bool(look.poll(0))

    def receive(self, wait: bool = True) -> dict[str, Any] | None:
        """The next message; with wait=False None when no whole message has come."""
        return self._later.pop(0) if self._later else self._next(wait)

    def _next(self, wait: bool) -> dict[str, Any] | None:
        while True:
            message = self._take()
            if message is not None:
                return message
            if not wait and not select.select([self.sock], [], [], 0)[0]:
                return None
            try:
                self.check()
                chunk = _receive(self.sock)
            except OSError as e:
                raise Closed(str(e)) from None
            if not chunk:
                raise Closed("the host has gone")
            self._buffer += chunk

    @with_originals
    def _take(self) -> dict[str, object] | None:
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
        found: dict[str, object] = json.loads(body)
        return found
