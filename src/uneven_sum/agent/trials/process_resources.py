"""What a copy of the script cannot take back: connections, other processes, files written in their midst, …"""

from __future__ import annotations

import os
import stat
import time

from ..core.text import clean

FILES = 3  # named
WRITING = {
    *("open", "os.remove", "os.rename", "os.truncate", "os.rmdir", "os.mkdir", "os.link", "os.symlink"),
    *("shutil.rmtree", "shutil.move", "shutil.copyfile"),
}
MOST_WRITTEN = 200  # paths kept
_own: dict[int, tuple[int, int]] = {}  # descriptor -> device and number of what it was open for
written: dict[str, int] = {}  # what the script has written, renamed or deleted -> when last, in nanoseconds


def note_written(event: str, args: tuple[object, ...]) -> None:
    """Remembers, from an audit event, which files the script writes, renames or deletes."""
    paths = args[:2] if event in ("os.rename", "shutil.move") else args[:1]
    if event == "shutil.copyfile":
        paths = args[1:2]
    if event == "open":
        flags = args[2] if len(args) > 2 and isinstance(args[2], int) else 0
        if not flags & (os.O_WRONLY | os.O_RDWR):
            return
    for path in paths:
        name = os.fsdecode(path) if isinstance(path, (str, bytes)) else ""
        if name and not name.startswith(("/dev/", "/proc/")) and "__pycache__" not in name:
            written.pop(name, None)
            written[name] = time.monotonic_ns()
            if len(written) > MOST_WRITTEN:
                del written[next(iter(written))]


def note_own() -> None:
    """What is open now, before the script begins, is not the script's."""
    _own.update({fd: (info.st_dev, info.st_ino) for fd, info in descriptors()})


def is_own(fd: int, info: os.stat_result) -> bool:
    return fd <= 2 or _own.get(fd) == (info.st_dev, info.st_ino)


def cannot_undo(kept: set[int]) -> list[str]:
    """What going back to now will not undo, a phrase each.  `kept`: further descriptors of the agent."""
    found: list[str] = []
    sockets = pipes = 0
    in_place: list[str] = []
    locked: list[str] = []
    for fd, info in descriptors():
        if fd in kept or is_own(fd, info):
            continue
        path = target(fd)
        if stat.S_ISSOCK(info.st_mode):
            sockets += 1
        elif stat.S_ISFIFO(info.st_mode):
            pipes += 1
        elif stat.S_ISREG(info.st_mode):
            facts = _facts(fd)
            if "lock:" in facts:
                locked.append(path)
            if _flags(facts) & os.O_ACCMODE != os.O_RDONLY and not _flags(facts) & os.O_APPEND:
                if os.lseek(fd, 0, os.SEEK_CUR) < info.st_size:  # else it is written on at its end, which can be cut
                    in_place.append(path)
    if sockets:
        found.append(f"what is sent over {_many(sockets, 'connection')}")
    if pipes:
        found.append(f"what goes through {_many(pipes, 'pipe')}")
    if in_place:
        found.append(f"what is overwritten in {_names(in_place)}")
    if locked:
        found.append(f"the lock on {_names(locked)}")
    shared = shared_mappings()
    if shared:
        found.append(f"what is written to the shared memory of {_names(shared)}")
    return found


def children() -> list[int]:
    """The processes that the script has started and that are alive."""
    found: list[int] = []
    try:
        for task in os.listdir("/proc/self/task"):
            with open(f"/proc/self/task/{task}/children") as f:
                found += [int(pid) for pid in f.read().split()]
    except (OSError, ValueError):
        return []
    return [pid for pid in found if _alive(pid)]


def shared_mappings() -> list[str]:
    """Files (and shared memory) that are mapped so that writing reaches others too."""
    found: list[str] = []
    try:
        with open("/proc/self/maps") as f:
            for line in f:
                parts = line.split(None, 5)
                if len(parts) == 6 and parts[1][1] == "w" and parts[1][3] == "s":
                    found.append(parts[5].strip())
    except OSError:
        return []
    return list(dict.fromkeys(found))


def _alive(pid: int) -> bool:
    try:
        with open(f"/proc/{pid}/stat") as f:
            return f.read().rpartition(")")[2].split()[0] not in "ZX"
    except (OSError, IndexError):
        return False


def descriptors() -> list[tuple[int, os.stat_result]]:
    found = []
    try:
        names = os.listdir("/proc/self/fd")
    except OSError:
        return []
    for name in names:
        try:
            found.append((int(name), os.fstat(int(name))))
        except (OSError, ValueError):
            continue
    return found


def target(fd: int) -> str:
    try:
        return os.readlink(f"/proc/self/fd/{fd}")
    except OSError:
        return "?"


def _facts(fd: int) -> str:
    try:
        with open(f"/proc/self/fdinfo/{fd}") as f:
            return f.read()
    except OSError:
        return ""


def _flags(facts: str) -> int:
    for line in facts.splitlines():
        if line.startswith("flags:"):
            return int(line.split()[1], 8)
    return 0


def _many(count: int, word: str) -> str:
    return f"{count} {word}{'s' if count != 1 else ''}"


def _names(paths: list[str]) -> str:
    shown = [clean(os.path.basename(p) or p, 40) for p in paths[:FILES]]
    more = f" and {len(paths) - FILES} more" if len(paths) > FILES else ""
    return ", ".join(shown) + more
