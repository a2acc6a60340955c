"""The return points of one run: sleeping copies of the script, each with its own connection to us."""

from __future__ import annotations

import asyncio
import contextlib
import ctypes
import os
import shutil
import signal
import socket
import struct
import sys
from collections.abc import Callable
from dataclasses import dataclass, field

from ..protocol import Decoder, MalformedMessage, Message, encode
from .launch import Limits
from .links import ROUNDS
from .sockets import base_for, folder_for_sockets, in_tasks, remove_stale

PR_SET_CHILD_SUBREAPER = 36
DENSE = 15  # the latest ones are all kept; of the older ones every other goes
MOST_OF = {"on the way": 12, "cell": 24}  # in running loops, before cells: recent ones dense, old ones sparse


@dataclass
class Point:
    """One sleeper.  `facts`: where it was made."""

    number: int
    pid: int
    reader: asyncio.StreamReader
    writer: asyncio.StreamWriter
    decoder: Decoder
    facts: Message = field(default_factory=dict)

    @property
    def made(self) -> int:
        """When, in nanoseconds of the machine's steady clock."""
        return int(self.facts.get("made") or 0)

    @property
    def at_pause(self) -> bool:
        """False for those made on the way through a loop, and before the first line or a cell."""
        return self.facts.get("reason") not in ("on the way", "start", "cell")

    @property
    def memory(self) -> int:
        """Bytes that are the sleeper's own, not shared; 0 when it is unknown."""
        try:
            with open(f"/proc/{self.pid}/smaps_rollup") as f:
                kept = [line.split() for line in f if line.startswith(("Private_Dirty", "Private_Clean"))]
            return sum(int(words[1]) * 1024 for words in kept)
        except (OSError, ValueError, IndexError):
            return 0


class Points:
    """Listens for sleepers and keeps them, by number; the latest of a number counts (a twin takes its place)."""

    def __init__(self, news: Callable[[int], None] = lambda number: None, limits: Limits | None = None) -> None:
        self.limits = limits or Limits()
        self.all: dict[int, Point] = {}
        self.news = news
        self.folder = ""
        self.expected: set[int] = set()  # snapshots that were announced and have not connected yet
        self.announced = 0  # the highest number that a pause has told
        self.since: dict[int, int] = {}  # points made again: a sleeper that is older is out of date
        self._server: asyncio.Server | None = None
        self._arrived = asyncio.Event()
        self._came = 0
        self.off = False

    @property
    def path(self) -> str:
        return os.path.join(self.folder, "points") if self.folder else ""

    async def listen(self) -> str:
        """Begins to listen; the socket's path, empty where this cannot be done."""
        if sys.platform != "linux":
            return ""
        ctypes.CDLL(None).prctl(PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0)  # sleepers become our children
        remove_stale(base_for(f"uneven-{os.getpid()}-"))
        self.folder = folder_for_sockets(f"uneven-{os.getpid()}-")
        self._server = await asyncio.start_unix_server(in_tasks(self._welcome), self.path)
        return self.path

    async def _welcome(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        decoder = Decoder()
        try:
            found: list[Message] = []
            while not found:
                data = await reader.read(1 << 16)
                if not data:
                    writer.close()
                    return
                found = decoder.feed(data)
        except (MalformedMessage, ConnectionError):
            writer.close()
            return
        body = found[0].get("body") or {}
        try:
            number, pid = int(body.get("number", 0)), int(body.get("pid", 0))
        except (TypeError, ValueError, AttributeError):
            number, pid = 0, 0
        if not pid or peer(writer) != (pid, os.getuid()):
            writer.close()  # not a copy of the script
            return
        facts = {k: v for k, v in body.items() if k not in ("number", "pid")}
        point = Point(number, pid, reader, writer, decoder, facts)
        old = self.all.get(number)
        if self.off:
            self._end(point)  # it was on its way when they were switched off
            return
        if old is not None and old.made > point.made:
            self._end(point)  # a twin that comes later than what has replaced it
            return
        if old is not None:
            self._end(old)
        self.all[number] = point
        self.expected.discard(number)
        self.all = dict(sorted(self.all.items()))
        self._thin()
        self._arrived.set()
        self.news(number)

    def _thin(self) -> None:
        """Keeps recent ones dense and old ones sparse."""
        pauses = [n for n, p in self.all.items() if p.at_pause]
        most = self.limits.points
        while len(pauses) > most:
            old = pauses[: -min(DENSE, most // 2)]
            for number in [old[1], *old[3::2]]:
                if len(pauses) > most * 3 // 4:
                    pauses.remove(number)
                    self._end(self.all.pop(number))
        for reason, most in MOST_OF.items():
            rest = [p for p in self.all.values() if p.facts.get("reason") == reason]
            while len(rest) > most:
                self._end(self.all.pop(rest.pop(_least_missed(rest)).number))
        self._came += 1
        if self._came % 8 == 0:
            self._save_memory()

    def _save_memory(self) -> None:
        """Older sleepers go while all together have too much memory of their own, or little is left."""
        total, free = _machine_memory()
        used = {n: p.memory for n, p in self.all.items()}
        while len(used) > 3 and total and (sum(used.values()) > self.limits.memory * total or free < 0.1 * total):
            number = next(iter([n for n in used if self.all[n].facts.get("reason") != "start"]))
            free += used.pop(number)
            self._end(self.all.pop(number))

    def announce(self, number: int) -> None:
        """A pause has a point of this number: those up to it are here, or on their way."""
        self.expected.update(n for n in range(self.announced + 1, number + 1) if n not in self.all)
        self.announced = max(self.announced, number)

    async def wait_for(self, number: int, seconds: float = 4.0) -> bool:
        """A point that was just made may still be on its way; `seconds` in rounds, as in `links.read_out`."""
        left = ROUNDS
        while number not in self.all or self.all[number].made < self.since.get(number, 0):
            if not left:
                self.since.pop(number, None)
                self.expected.discard(number)
                return False
            self._arrived.clear()
            try:
                await asyncio.wait_for(self._arrived.wait(), seconds / ROUNDS)
            except TimeoutError:
                left -= 1
        return True

    def wake(self, number: int) -> Point:
        """The sleeper of a point, woken; it is no sleeper any more, nor are those after it."""
        point = self.all.pop(number)
        self.announced = number - 1  # the next ones have the same numbers
        for later in [n for n in self.all if n > number]:
            self._end(self.all.pop(later))
        point.writer.write(encode({"seq": 0, "type": "request", "command": "wake", "arguments": {}}))
        return point

    @staticmethod
    def _end(point: Point) -> None:
        with contextlib.suppress(ProcessLookupError, PermissionError):
            os.kill(point.pid, signal.SIGKILL)
        point.writer.close()
        reap(point.pid)

    def end_all(self) -> None:
        """Ends every sleeper, and listens no more."""
        for point in self.all.values():
            self._end(point)
        self.all.clear()

    async def close(self) -> None:
        self.end_all()
        if self._server is not None:
            self._server.close()
        if self.folder:
            shutil.rmtree(self.folder, ignore_errors=True)
            self.folder = ""


def peer(writer: asyncio.StreamWriter) -> tuple[int, int]:
    """The process and the user at the other end of a Unix socket."""
    sock = writer.get_extra_info("socket")
    told = sock.getsockopt(socket.SOL_SOCKET, socket.SO_PEERCRED, struct.calcsize("3i"))
    pid, user, _ = struct.unpack("3i", told)
    return pid, user


def _least_missed(points: list[Point]) -> int:
    """The place of the point whose going leaves the smallest gap for its age: so recent ones stay dense."""
    now = points[-1].made + 1
    gaps = [(b.made - a.made) / (now - m.made) for a, m, b in zip(points, points[1:], points[2:])]
    return 1 + gaps.index(min(gaps))


def _machine_memory() -> tuple[int, int]:
    """Bytes in all, and available."""
    try:
        with open("/proc/meminfo") as f:
            told = {line.split(":")[0]: int(line.split()[1]) * 1024 for line in f}
        return told["MemTotal"], told["MemAvailable"]
    except (OSError, KeyError, ValueError, IndexError):
        return 0, 0


async def ended(pid: int) -> None:
    """Returns when a process has ended (it is not reaped).  ProcessLookupError when there is none."""
    loop = asyncio.get_running_loop()
    done = asyncio.Event()
    handle = os.pidfd_open(pid)
    loop.add_reader(handle, done.set)
    try:
        await done.wait()
    finally:
        loop.remove_reader(handle)
        os.close(handle)


def reap(pid: int) -> None:
    """Takes note of the end of a sleeper, in a while; the loop does not wait for it."""
    loop = asyncio.get_running_loop()

    def once(tries: int) -> None:
        try:
            if os.waitpid(pid, os.WNOHANG)[0] == 0 and tries:
                loop.call_later(0.05, once, tries - 1)
        except ChildProcessError:
            return

    once(40)
