"""A terminal that is gone: found also where its signal does not come, and never taken for a return from a stop."""

from __future__ import annotations

import signal
import sys
import termios
import types

TERMINAL = "terminal closed, "  # before how a run has ended then
EVERY = 2.0  # seconds between two looks


def has_terminal() -> bool:
    """Whether standard input is still a terminal: a closed one answers with an error.  Under `nohup`, or as a child of
    one that ignores HUP, no signal tells it, and reading would go on for ever."""
    try:
        termios.tcgetattr(sys.__stdin__.fileno() if sys.__stdin__ is not None else 0)
    except (termios.error, OSError, ValueError):
        return False
    return True


def resume_only_after_a_stop(driver: object) -> None:
    """With the hangup of a terminal the system sends CONT to a program that was never stopped: taken for a return, it
    would start a second reader of the keys, which nothing ends."""
    resume = signal.getsignal(signal.SIGCONT)
    if not callable(resume):
        return

    def continued(number: int, frame: types.FrameType | None) -> None:
        if getattr(driver, "_must_signal_resume", True):  # Textual's note that it has stopped
            resume(number, frame)

    signal.signal(signal.SIGCONT, continued)
