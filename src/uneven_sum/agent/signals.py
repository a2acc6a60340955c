"""Signals whose handlers are the script's.

A handler runs between any two instructions of the main thread, so in the midst of ours too; what it raises belongs to
the script, and must not be taken for a fault of ours or for a value that resists being looked at.  So longer pieces of
ours hold signals back, and whoever catches exceptions asks whose they are.
"""

from __future__ import annotations

import _signal  # type: ignore[import-not-found]
import contextlib
import os
import signal
import types
from collections.abc import Iterator

OURS = os.path.dirname(__file__)
FAULTS = {signal.SIGSEGV, signal.SIGBUS, signal.SIGFPE, signal.SIGILL, signal.SIGABRT, signal.SIGTRAP}
TIMERS = (signal.ITIMER_REAL, signal.ITIMER_VIRTUAL, signal.ITIMER_PROF)
HELD = {int(s) for s in signal.valid_signals() - FAULTS}


@contextlib.contextmanager
def held() -> Iterator[None]:
    """No signal reaches this thread until the end; then those that came do."""
    before = _signal.pthread_sigmask(signal.SIG_BLOCK, ())
    try:
        _signal.pthread_sigmask(signal.SIG_BLOCK, HELD)  # runs handlers that are due already: they may raise
        yield
    finally:
        _signal.pthread_sigmask(signal.SIG_SETMASK, before)


@contextlib.contextmanager
def timers_stopped() -> Iterator[None]:
    """The timers of the process (`alarm`, `setitimer`) stand still, and go on with what was left of them.

    A copy of the process has no timers: one that is woken in here goes on with them, too.
    """
    kept = [(which, *signal.setitimer(which, 0)) for which in TIMERS]
    try:
        yield
    finally:
        for which, left, every in kept:
            if left and signal.getitimer(which) == (0.0, 0.0):  # else another was set meanwhile, by hand
                signal.setitimer(which, left, every)


def is_the_scripts(e: BaseException) -> bool:
    """Whether an exception came out of a Python function that handles a signal."""
    handlers = _codes()
    tb = e.__traceback__
    while handlers and tb is not None:
        if tb.tb_frame.f_code in handlers:
            return True
        tb = tb.tb_next
    return False


def _codes() -> set[types.CodeType]:
    found = set()
    for number in signal.valid_signals():
        handler = signal.getsignal(number)
        handler = getattr(handler, "func", handler)  # functools.partial
        handler = getattr(handler, "__func__", handler)
        if not hasattr(handler, "__code__") and callable(handler):
            handler = vars(type(handler)).get("__call__")
        code = getattr(handler, "__code__", None)
        if isinstance(code, types.CodeType) and os.path.dirname(code.co_filename) != OURS:
            found.add(code)
    return found
