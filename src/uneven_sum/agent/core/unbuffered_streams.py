"""Unbuffered standard streams that write all they are given.

With `-u` or PYTHONUNBUFFERED the interpreter's text layer writes straight to the file descriptor, and loses the rest
of what a write that is interrupted by a signal has not sent.  Any handler does that to a plain script, too.
"""

from __future__ import annotations

import io
import sys
from typing import Any


class FileIO(io.FileIO):
    """A file that continues with what an interrupted write has left."""

    __module__ = "_io"

    def write(self, data: Any) -> int | None:  # type: ignore[override]  # takes what the base takes
        done = super().write(data)
        if done is None:
            return None
        view = memoryview(data).cast("B")
        total = view.nbytes
        while done < total:
            more = super().write(view[done:])
            if more is None:
                break
            done += more
        return done


def mend() -> None:
    """Put such a file under the standard streams that are unbuffered."""
    for name in ("stdout", "stderr"):
        stream = getattr(sys, name)
        raw = getattr(stream, "buffer", None)
        if (
            type(stream) is not io.TextIOWrapper
            or type(raw) is not io.FileIO
            or stream is not getattr(sys, f"__{name}__")
        ):
            continue
        whole = FileIO(raw.fileno(), "w", closefd=False)
        whole.name = raw.name
        new = io.TextIOWrapper(
            whole,
            encoding=stream.encoding,
            errors=stream.errors,
            newline="\n",
            line_buffering=stream.line_buffering,
            write_through=stream.write_through,
        )
        new.mode = stream.mode  # type: ignore[misc]  # it can be set
        stream.detach()
        setattr(sys, name, new)
        setattr(sys, f"__{name}__", new)
