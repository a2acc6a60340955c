"""In a trial's copy: what the script has open is the copy's own from then on.

Nothing that is done there reaches a file, a connection, a pipe, a place in a file, or memory shared by a mapping.
Files that were open for reading are opened again at the same place; a file that was open for writing becomes one in
memory; a connection or a pipe, one whose other end is closed.  What is written to them is noted, and dropped.
"""

from __future__ import annotations

import ctypes
import fcntl
import os
import select
import socket
import stat

from ..core.records import record
from ..core.text import clean
from . import process_resources

COPIED = 64 << 20  # bytes of a file, or of shared memory, that are copied; what is larger can be read only
MAP_PRIVATE, MAP_FIXED, MAP_ANONYMOUS = 0x02, 0x10, 0x20
PROT_READ, PROT_WRITE = 1, 2
HARMLESS = ("/dev/null", "/dev/zero", "/dev/full", "/dev/random", "/dev/urandom")


@record
class _Written:
    """A file in memory in a written one's place, as it was made."""

    fd: int
    name: str
    facts: tuple[int, ...]


def seclude(kept: set[int]) -> list[_Written]:
    """Gives the copy descriptors and mappings of its own; `kept`: descriptors of the agent."""
    written: list[_Written] = []
    for fd, info in process_resources.descriptors():
        if fd in kept or fd <= 2:
            continue
        if process_resources.is_own(fd, info):
            if not stat.S_ISREG(info.st_mode) and not stat.S_ISDIR(info.st_mode):
                _put_out_of_reach(fd)  # the agent's own connection: what a trial writes there would end the run
            continue
        try:
            _descriptor(fd, info, written)
        except OSError:
            os.close(fd)  # rather than shared
    for low, high, line in _shared():
        _mapping(low, high, line)
    return written


def dropped(written: list[_Written]) -> list[str]:
    """Of what was written in the copy, a sentence each."""
    return [f"What it writes to {one.name} is not kept" for one in written if _now(one.fd) != one.facts]


def _descriptor(fd: int, info: os.stat_result, written: list[_Written]) -> None:
    kind = info.st_mode
    if stat.S_ISREG(kind):
        _file(fd, info, written)
    elif stat.S_ISFIFO(kind):
        ends = os.pipe()
        mine = ends[0] if _access(fd) == os.O_RDONLY else os.open(os.devnull, os.O_WRONLY)
        os.dup2(mine, fd)
        for one in {*ends, mine}:
            os.close(one)
    elif stat.S_ISSOCK(kind):
        mine_, other = socket.socketpair()
        other.close()
        os.dup2(mine_.fileno(), fd)
        mine_.close()
    elif "eventpoll" in process_resources.target(fd):
        with select.epoll() as fresh:  # what is registered in the shared one would change for the script
            os.dup2(fresh.fileno(), fd)
    elif not stat.S_ISDIR(kind) and not stat.S_ISLNK(kind) and process_resources.target(fd) not in HARMLESS:
        _put_out_of_reach(fd)  # a device, a counter, a queue of events


def _put_out_of_reach(fd: int) -> None:
    """Put in the place of a descriptor one that can be neither read nor written nor set (EBADF)."""
    handle = os.open(os.devnull, os.O_PATH)
    os.dup2(handle, fd)
    os.close(handle)


def is_device(path: str | bytes) -> bool:
    """Whether a path is a device or a named pipe: to read there takes from what others read."""
    try:
        kind = os.stat(path).st_mode
    except (OSError, ValueError):
        return False
    return (stat.S_ISCHR(kind) or stat.S_ISFIFO(kind) or stat.S_ISBLK(kind)) and os.fsdecode(path) not in HARMLESS


def _access(fd: int) -> int:
    return fcntl.fcntl(fd, fcntl.F_GETFL) & os.O_ACCMODE


def _file(fd: int, info: os.stat_result, written: list[_Written]) -> None:
    flags = fcntl.fcntl(fd, fcntl.F_GETFL)
    at = os.lseek(fd, 0, os.SEEK_CUR)
    again = f"/proc/self/fd/{fd}"
    if _access(fd) == os.O_RDONLY or (_access(fd) == os.O_RDWR and info.st_size > COPIED):
        mine = os.open(again, os.O_RDONLY)
    else:
        name = os.path.basename(process_resources.target(fd)) or "a file"
        mine = os.memfd_create("trial")
        if _access(fd) == os.O_RDWR:
            done = 0
            while done < info.st_size and (count := os.sendfile(mine, fd, done, info.st_size - done)):
                done += count
        os.ftruncate(mine, info.st_size)
        fcntl.fcntl(mine, fcntl.F_SETFL, flags & os.O_APPEND)
        written.append(_Written(fd, clean(name, 60), ()))
    os.lseek(mine, at, os.SEEK_SET)
    os.dup2(mine, fd)
    os.close(mine)
    if written and written[-1].fd == fd:
        written[-1].facts = _now(fd)


def _now(fd: int) -> tuple[int, ...]:
    try:
        info = os.fstat(fd)
        return info.st_ino, info.st_size, info.st_mtime_ns, os.lseek(fd, 0, os.SEEK_CUR)
    except OSError:
        return ()  # closed


def _shared() -> list[tuple[int, int, list[str]]]:
    """The shared mappings that can be written: where from, to, and what else the system says of each."""
    found = []
    try:
        with open("/proc/self/maps") as f:
            for line in f:
                parts = line.split(None, 5)
                if parts[1][1] == "w" and parts[1][3] == "s":
                    low, high = (int(n, 16) for n in parts[0].split("-"))
                    found.append((low, high, [p.strip() for p in parts[2:]]))
    except OSError:
        pass
    return found


def _mapping(low: int, high: int, facts: list[str]) -> None:
    """Makes one mapping private: of the same file where that is there, else with a copy of what it holds."""
    libc = ctypes.CDLL(None, use_errno=True)
    libc.mmap.restype = ctypes.c_void_p
    libc.mmap.argtypes = [ctypes.c_void_p, ctypes.c_size_t, ctypes.c_int, ctypes.c_int, ctypes.c_int, ctypes.c_long]
    libc.mprotect.argtypes = [ctypes.c_void_p, ctypes.c_size_t, ctypes.c_int]
    size, path = high - low, facts[3] if len(facts) > 3 else ""
    try:
        info = os.stat(path)
        if not stat.S_ISREG(info.st_mode):
            return  # a device's
        if info.st_ino == int(facts[2]):
            fd = os.open(path, os.O_RDONLY)
            got = libc.mmap(low, size, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_FIXED, fd, int(facts[0], 16))
            os.close(fd)
            if got == low:
                return
    except (OSError, ValueError):
        pass  # it has no name any more, or never had one
    if size <= COPIED:
        held = ctypes.string_at(low, size)
        if libc.mmap(low, size, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_FIXED | MAP_ANONYMOUS, -1, 0) == low:
            ctypes.memmove(low, held, size)
            return
    libc.mprotect(low, size, PROT_READ)  # a trial that writes there ends
