"""Signals whose handlers are the script's.

A handler runs between any two instructions of the main thread, also inside the agent. What it raises belongs to the
script, and must not be taken for an internal error or for a value that cannot be read. So longer pieces of the agent
hold signals back, and code that catches exceptions asks whose they are.
"""

from __future__ import annotations

import _signal  # type: ignore[import-not-found]  # built in, without types
import contextlib
import os
import signal
import threading
import types
from collections.abc import Callable, Iterator

from .identity import FOLDER

FAULTS = {signal.SIGSEGV, signal.SIGBUS, signal.SIGFPE, signal.SIGILL, signal.SIGABRT, signal.SIGTRAP}
TIMERS = (signal.ITIMER_REAL, signal.ITIMER_VIRTUAL, signal.ITIMER_PROF)
HELD = {int(s) for s in signal.valid_signals() - FAULTS}


@contextlib.contextmanager
def held() -> Iterator[dict[int, None]]:
    """No handler runs in here; at the end those of the signals that came do, and may raise.

    Gives the signals whose handlers stand aside and that came: who takes one out calls its handler later, by `again`.

    This thread takes no signals meanwhile.  Where the process has others, NumPy's among them, one of these takes them,
    and the handler would run in the main thread all the same: there the handlers stand aside, too.
    """
    before = _signal.pthread_sigmask(signal.SIG_BLOCK, ())
    aside = _Aside()
    try:
        _signal.pthread_sigmask(signal.SIG_BLOCK, HELD)  # runs handlers that are due already: they may raise
        if _has_threads() and threading.get_ident() == threading.main_thread().ident:
            aside.put()
        yield aside.came
    finally:
        try:
            aside.back()
        finally:
            _signal.pthread_sigmask(signal.SIG_SETMASK, before)
            again(list(aside.came))


def _has_threads() -> bool:
    """Whether the process has other threads; those that are not of Python's count, too."""
    try:
        return len(os.listdir("/proc/self/task")) > 1
    except OSError:
        return True  # no such list on this system


class _Aside:
    """Takes the place of the handlers that are Python code, and notes what comes."""

    def __init__(self) -> None:
        self.kept: list[tuple[int, object]] = []
        self.came: dict[int, None] = {}

    def __call__(self, number: int, frame: types.FrameType | None) -> None:
        self.came[number] = None

    def put(self) -> None:
        for number in HELD:
            handler = _signal.getsignal(number)
            if callable(handler) and not isinstance(handler, types.BuiltinFunctionType):
                self.kept.append((number, handler))
                _signal.signal(number, self)

    def back(self) -> None:
        """A handler that is back already may raise before all are: the others come first, then what was raised."""
        raised: BaseException | None = None
        while self.kept:
            try:
                _signal.signal(*self.kept[-1])
                self.kept.pop()
            except BaseException as e:
                raised = e
        if raised is not None:
            raise raised


def again(numbers: list[int]) -> None:
    """Lets the signals come now; each does, whatever the handlers of the others raise."""
    try:
        if numbers:
            _signal.raise_signal(numbers.pop())
    finally:
        if numbers:
            again(numbers)


@contextlib.contextmanager
def timers_stopped() -> Iterator[None]:
    """The timers of the process (`alarm`, `setitimer`) stand still, and go on with what was left of them.

    A copy of the process has no timers: one that is woken in here continues with them, too.
    """
    kept = [(which, *signal.setitimer(which, 0)) for which in TIMERS]
    try:
        yield
    finally:
        for which, left, every in kept:
            if left and signal.getitimer(which) == (0.0, 0.0):  # else another was set meanwhile, by hand
                signal.setitimer(which, left, every)


def kept() -> Callable[[], list[int]]:
    """What a copy of this process loses: its timers, and signals that are held back.

    Called in the copy, the answer starts the timers with what is left of them now, and gives the signals, for `again`.
    """
    timers = [(which, *signal.getitimer(which)) for which in TIMERS]
    due = [int(number) for number in signal.sigpending()]

    def resume() -> list[int]:
        for which, left, every in timers:
            if left:
                signal.setitimer(which, left, every)
        return due

    return resume


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
    for number in _signal.valid_signals():  # the functions of `signal` make members of enumerations
        handler = _signal.getsignal(number)
        handler = getattr(handler, "func", handler)  # functools.partial
        handler = getattr(handler, "__func__", handler)
        if not hasattr(handler, "__code__") and callable(handler):
            handler = vars(type(handler)).get("__call__")
        code = getattr(handler, "__code__", None)
        if isinstance(code, types.CodeType) and not code.co_filename.startswith(FOLDER):
            found.add(code)
    return found
