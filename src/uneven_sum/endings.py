"""Ends by a signal: a closed terminal (HUP), TERM and QUIT end a command as cleanly as the user would."""

from __future__ import annotations

import asyncio
import signal
from collections.abc import Callable, Coroutine
from typing import TypeVar

T = TypeVar("T")
SIGNALS = (signal.SIGHUP, signal.SIGTERM, signal.SIGQUIT)


def on_signal(call: Callable[[int], None]) -> None:
    """Within a running loop: call with the number of each of these signals."""
    loop = asyncio.get_running_loop()
    for number in SIGNALS:
        if signal.getsignal(number) is not signal.SIG_IGN:  # `nohup` stays in force
            loop.add_signal_handler(number, call, number)


def run(main: Coroutine[object, object, T]) -> T:
    """As `asyncio.run`; a signal, or ctrl+c, cancels the coroutine, and the process exits with 128 and its number."""
    ended_by = 0

    async def wrapped() -> T:
        task = asyncio.current_task()
        assert task is not None

        def end(number: int) -> None:
            nonlocal ended_by
            ended_by = number
            task.cancel()

        on_signal(end)
        return await main

    try:
        return asyncio.run(wrapped())
    except KeyboardInterrupt:
        raise SystemExit(128 + signal.SIGINT) from None
    except asyncio.CancelledError:
        if not ended_by:
            raise
        raise SystemExit(128 + ended_by) from None
