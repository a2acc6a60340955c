"""Waits for something to come about."""

from __future__ import annotations

import time


def until(test, seconds: float = 5.0) -> bool:
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        if test():
            return True
        time.sleep(0.05)
    return False
