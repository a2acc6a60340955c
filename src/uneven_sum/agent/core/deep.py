"""Work on syntax trees that are deeper than the recursion limit allows: long chains of `elif` or of operators."""

from __future__ import annotations

import _thread
import sys
from collections.abc import Callable
from typing import TypeVar

STACK = 512 << 20  # bytes of address space; only what is used takes memory
LIMIT = 200_000

T = TypeVar("T")


def with_room(work: Callable[[], T]) -> T:
    """What `work` gives, with room for deep recursion: in a thread with a large stack, which is waited for.

    RecursionError where there is none even so, or no memory for that stack.
    """
    found: list[T] = []
    raised: list[BaseException] = []
    done = _thread.allocate_lock()
    done.acquire()

    def run() -> None:
        try:
            found.append(work())
        except BaseException as e:
            raised.append(e.with_traceback(None))
        finally:
            done.release()

    before = _thread.stack_size(STACK)
    limit = sys.getrecursionlimit()
    try:
        sys.setrecursionlimit(max(limit, LIMIT))
        _thread.start_new_thread(run, ())
        _thread.stack_size(before)
        done.acquire()
    except RuntimeError as e:
        raise RecursionError(str(e)) from None
    finally:
        _thread.stack_size(before)
        sys.setrecursionlimit(limit)
    if raised:
        raise raised[0]
    return found[0]
