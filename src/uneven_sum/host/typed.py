"""The script's standard input: what was typed is kept, so that going back can feed it again."""

from __future__ import annotations

import asyncio
import contextlib
import fcntl
import os
import struct
import termios


class Input:
    """A pipe to the script, and all that was written to it."""

    def __init__(self) -> None:
        self.end = self._ours = -1
        self.written = bytearray()
        self.marks: dict[int, int] = {}  # return point -> bytes that the script had taken out of the pipe
        self.closed = False
        self._transport: asyncio.WriteTransport | None = None

    def create(self) -> int:
        """Makes the pipe; the script's end of it."""
        self.end, self._ours = os.pipe()
        os.set_blocking(self._ours, False)
        return self.end

    async def open(self) -> None:
        """Ready to be written to; the script has its end by now."""
        loop = asyncio.get_running_loop()
        pipe = os.fdopen(self._ours, "wb", buffering=0)
        self._transport, _ = await loop.connect_write_pipe(asyncio.Protocol, pipe)

    def write(self, text: str | None) -> None:
        """Text for the script; None ends its input."""
        if self._transport is None or self.closed:
            return
        if text is None:
            self.closed = True
            self._transport.close()
            return
        self.written += text.encode()
        self._transport.write(text.encode())

    def _waiting(self) -> int:
        """Bytes that the script has not taken yet."""
        unread: int = struct.unpack("i", fcntl.ioctl(self.end, termios.FIONREAD, b"\0\0\0\0"))[0]
        return unread + (self._transport.get_write_buffer_size() if self._transport is not None else 0)

    def mark(self, point: int) -> None:
        """A return point was made: what is taken from now on is fed again when it is gone back to."""
        with contextlib.suppress(OSError, ValueError):
            self.marks[point] = len(self.written) - self._waiting()

    def back_to(self, point: int) -> None:
        """Puts into the pipe again what the script had not taken at a return point."""
        if self._transport is None or self.closed or point not in self.marks:
            return
        os.set_blocking(self.end, False)
        try:
            while os.read(self.end, 1 << 16):
                pass
        except BlockingIOError:
            pass
        finally:
            os.set_blocking(self.end, True)
        self._transport.write(bytes(self.written[self.marks[point] :]))

    def close(self) -> None:
        ours = self._ours
        if self._transport is not None:
            if not self._transport.is_closing():
                self._transport.abort()  # which closes our end
            self._transport, ours = None, -1
        for fd in (self.end, ours):
            if fd >= 0:
                with contextlib.suppress(OSError):
                    os.close(fd)
        self.end = self._ours = -1
