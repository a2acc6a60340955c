"""Keeps a script that has tripped alive for a while, so that a person can attach to it."""

from __future__ import annotations

import asyncio
import contextlib
import os
import platform
import time
from collections.abc import Callable
from dataclasses import dataclass

from ..client import BadUse, Client, Exited, Launch
from ..host.held import Held
from ..protocol import Facts

EVERY = 0.2  # seconds between two looks at the clock


@dataclass
class Hold:
    """`tell`: hears of the pause, with the line by which a person attaches to it, and the file that has that line."""

    seconds: float
    tell: Callable[[Facts, str, str], None]


def file_for(launch: Launch) -> str:
    """The file that says how to attach; beside the script."""
    return os.path.join(launch.cwd or "", f"{launch.program}.held")


async def hold(client: Client, facts: Facts, how: Hold) -> Exited | None:
    """Hold the paused script until the time is over and nobody is attached; how it has ended, if it did."""
    held = Held(client.session)
    client.also = held.heard
    path = await held.listen()
    line = f"On {platform.node() or 'this machine'}: uneven-sum attach {path}"
    file = file_for(client.launch)
    try:
        with contextlib.suppress(OSError), open(file, "w", encoding="utf-8") as f:
            f.write(line + "\n")
        how.tell(facts, line, file if os.path.exists(file) else "")
        end = time.monotonic() + how.seconds
        while held.attached or time.monotonic() < end:
            with contextlib.suppress(TimeoutError, BadUse):
                event = await asyncio.wait_for(client.next_event(), EVERY)
                if isinstance(event, Exited):
                    return event
        return None
    finally:
        client.also = None
        await held.close()
        with contextlib.suppress(OSError):
            os.unlink(file)
