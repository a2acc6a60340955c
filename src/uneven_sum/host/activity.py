"""What the main thread of a process is doing, seen from outside."""

from __future__ import annotations

import enum
import platform
import time

# System calls that send data: interrupted, they may send a part of it, and not every caller sends the rest.
# write, pwrite64, writev, pwritev, pwritev2, sendto, sendmsg, sendmmsg, sendfile, splice, tee, vmsplice and
# copy_file_range, in this order.
SENDING = {
    "x86_64": {1, 18, 20, 296, 328, 44, 46, 307, 40, 275, 276, 278, 326},
    "aarch64": {64, 68, 66, 70, 287, 206, 211, 269, 71, 76, 77, 75, 285},
}.get(platform.machine(), set())


class Activity(enum.Enum):
    COMPUTES = "computes"
    SENDS = "sends"
    WAITS = "waits"
    UNKNOWN = "unknown"


READ = {"x86_64": 0, "aarch64": 63}.get(platform.machine(), -1)


def reads_input(call: str) -> bool:
    """True for the system call of a process that waits for its standard input."""
    return call.startswith(f"{READ} 0x0 ")


def computed(pid: int) -> float:
    """Seconds that the main thread of a process has had the processor; where that cannot be read, the clock's time."""
    try:
        with open(f"/proc/{pid}/task/{pid}/schedstat") as f:
            return int(f.read().split()[0]) / 1e9
    except (OSError, IndexError):
        return time.monotonic()


def activity(pid: int) -> tuple[Activity, str]:
    """What the main thread does now, and a text that stays the same as long as it is in one system call."""
    try:
        with open(f"/proc/{pid}/task/{pid}/syscall") as f:
            text = f.read().strip()
        with open(f"/proc/{pid}/task/{pid}/schedstat") as f:
            turns = f.read().split()[-1]  # how often it was given the processor: distinguishes one wait from the next
    except (OSError, IndexError):
        return Activity.UNKNOWN, ""
    first = text.partition(" ")[0]
    if first == "running" or not SENDING:
        return (Activity.COMPUTES if SENDING else Activity.UNKNOWN), ""
    if first.lstrip("-").isdigit():
        return (Activity.SENDS if int(first) in SENDING else Activity.WAITS), f"{text} {turns}"
    return Activity.UNKNOWN, ""
