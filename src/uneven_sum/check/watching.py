"""Progress of long runs on a terminal, and their end by ctrl+c with what is known so far."""

from __future__ import annotations

import asyncio
import signal
import sys
from collections.abc import Callable, Coroutine
from typing import TypeVar

from ..client.differing.runs import Watch

T = TypeVar("T")


async def watched(start: Callable[[Watch], Coroutine[object, object, T]]) -> T:
    """What `start` gives.  On standard error, where that is a terminal, one line says how far the runs are."""
    shown = False

    def tell(records: int) -> None:
        nonlocal shown
        if sys.stderr.isatty() and records:
            sys.stderr.write(f"\r{records:,} values compared; ctrl+c ends the runs and shows what is known")
            sys.stderr.flush()
            shown = True

    watch = Watch(tell)
    asyncio.get_running_loop().add_signal_handler(signal.SIGINT, watch.stop)
    try:
        return await start(watch)
    finally:
        asyncio.get_running_loop().remove_signal_handler(signal.SIGINT)
        if shown:
            sys.stderr.write("\r\x1b[K")
            sys.stderr.flush()
