"""The end of a connection is waited for, also by a process that stood still meanwhile."""

from __future__ import annotations

import asyncio
import time

from uneven_sum.host.links import read_out


async def reading(turns: int) -> None:
    for _ in range(turns):
        await asyncio.sleep(0)


async def test_a_stall_does_not_count_as_time_to_read() -> None:
    task = asyncio.create_task(reading(8))
    asyncio.get_running_loop().call_soon(time.sleep, 0.5)  # as a busy machine does
    await read_out([task], 0.4)
    assert task.done()


async def test_who_never_ends_is_not_waited_for_for_ever() -> None:
    task = asyncio.create_task(asyncio.sleep(60))
    began = time.monotonic()
    await read_out([task], 0.2)
    assert not task.done() and 0.15 < time.monotonic() - began < 30
    task.cancel()
    await read_out([], 1.0)
