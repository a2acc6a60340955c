"""Framing of the protocol's base layer: `Content-Length`, an empty line, JSON."""

from __future__ import annotations

import msgspec

HEADER_LIMIT = 8192
BODY_LIMIT = 256 * 1024 * 1024


class MalformedMessage(ValueError):
    """Bytes that are no message of the protocol."""


def encode(message: dict[str, object]) -> bytes:
    """One message as bytes, its header included."""
    body = msgspec.json.encode(message)
    return b"Content-Length: %d\r\n\r\n" % len(body) + body


class Decoder:
    """Takes bytes in any pieces and gives whole messages."""

    def __init__(self) -> None:
        self._buffer = bytearray()
        self.taken = 0  # bytes so far
        self.lost = False  # where the next message begins is not known any more

    def feed(self, data: bytes) -> list[dict[str, object]]:
        """The messages that these bytes complete.  MalformedMessage for what cannot be one."""
        self._buffer += data
        self.taken += len(data)
        found = []
        while (message := self._next()) is not None:
            found.append(message)
        return found

    def _next(self) -> dict[str, object] | None:
        end = self._buffer.find(b"\r\n\r\n")
        if end < 0:
            if len(self._buffer) > HEADER_LIMIT:
                self.lost = True
                raise MalformedMessage("a header without an end")
            return None
        try:
            length = self._length(bytes(self._buffer[:end]))
        except MalformedMessage:
            del self._buffer[: end + 4]
            raise
        start = end + 4
        if len(self._buffer) < start + length:
            return None
        body = bytes(self._buffer[start : start + length])
        del self._buffer[: start + length]
        try:
            message = msgspec.json.decode(body)
        except (msgspec.DecodeError, UnicodeDecodeError) as e:
            raise MalformedMessage(f"a body that is not JSON: {e}") from None
        except RecursionError:
            raise MalformedMessage("a body that is nested too deep") from None
        if not isinstance(message, dict):
            raise MalformedMessage("a body that is not an object")
        return message

    @staticmethod
    def _length(header: bytes) -> int:
        for line in header.split(b"\r\n"):
            name, _, value = line.partition(b":")
            if name.strip().lower() == b"content-length":
                digits = value.strip()
                if digits.isdigit() and len(digits) <= 12 and int(digits) <= BODY_LIMIT:
                    return int(digits)
                raise MalformedMessage("a Content-Length that is no length")
        raise MalformedMessage("a header without Content-Length")
