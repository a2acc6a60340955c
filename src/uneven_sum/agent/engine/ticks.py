"""Ticks: a signal to the main thread for every so many milliseconds that it has computed.

The kernel counts user time only, and sends the signal at a moment when the thread computes.  So no system call of the
script's is ever interrupted by it: an unbuffered write that is interrupted loses the rest of its data.
"""

from __future__ import annotations

import ctypes
import sys
import threading

PERIOD = 0.04  # seconds of user time
SIGEV_THREAD_ID = 4
PER_THREAD, USER_TIME = 4, 1  # bits of a clock's number, as in the kernel's posix-timers.h


class _Event(ctypes.Structure):
    _fields_ = [
        ("value", ctypes.c_void_p),
        ("number", ctypes.c_int),
        ("notify", ctypes.c_int),
        ("thread", ctypes.c_int),
        ("rest", ctypes.c_int * 11),
    ]


class _Times(ctypes.Structure):
    _fields_ = [(name, ctypes.c_long) for name in ("every_s", "every_ns", "first_s", "first_ns")]


def start(number: int, period: float = PERIOD) -> bool:
    """Send this thread the signal from now on; False where the system cannot.  A copy of the process has none."""
    if sys.platform != "linux":
        return False
    thread = threading.get_native_id()
    clock = (~thread << 3) | PER_THREAD | USER_TIME
    event, timer, ns = _Event(None, number, SIGEV_THREAD_ID, thread), ctypes.c_void_p(), int(period * 1e9)
    try:
        libc = ctypes.CDLL(None)
        if libc.timer_create(clock, ctypes.byref(event), ctypes.byref(timer)) != 0:
            return False
        return bool(libc.timer_settime(timer, 0, ctypes.byref(_Times(0, ns, 0, ns)), None) == 0)
    except (AttributeError, OSError):
        return False
