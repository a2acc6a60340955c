"""The processes of a run: the script's own, and those that it has started and that report to us.

One of them is shown.  What trips in another is shown when that one has gone on; pauses at one place are one pause.
"""

from __future__ import annotations

import asyncio
import contextlib
import fcntl
import math
import os
import shutil
import signal
import struct
import time
from collections.abc import Callable, Coroutine
from dataclasses import dataclass
from typing import Protocol, TypeVar

from ..protocol import Decoder, MalformedMessage, Message
from .activity import computed
from .descendants import process
from .failures import died_sentence
from .launch import Launch
from .links import Link, read_out
from .points import ended, peer
from .sockets import folder_for_sockets, in_tasks

SETTLING = 1.0  # seconds at most, for what is on its way when the script ends
ASKING = 2.0  # seconds that a process may compute until it answers another one
LONGEST, ROUND = 20.0, 0.1  # seconds that its answer is waited for, in rounds of so many
ON_ITS_WAY = 0.05  # seconds that the news of another process may need, since it has a connection of its own
HELD = "pause"  # the reason of the pause of a process that was asked to wait
STUCK = 1.0  # seconds after which a step seems to wait for another process
FRESH = 0.5  # seconds for which what a process has said of its findings holds
EXIT = 3.0  # seconds at most that a process takes to end after its connection has
PIDFD_GET_INFO, INFO_EXIT = 0xC040FF0B, 1 << 3  # of linux/pidfd.h; the exit code since Linux 6.15
TOGETHER = 1.0  # seconds within which a whole group of processes ends
ORDERED = (signal.SIGTERM, signal.SIGINT, signal.SIGHUP)  # by which pools and terminals end processes

T = TypeVar("T")


@dataclass
class OneProcess:
    """A process of the run, for its list.  `state`: runs, paused, shown (and paused), held."""

    pid: int
    name: str
    state: str
    since: float  # by the machine's clock
    place: Message | None = None  # `file`, `line`, `function`
    headline: str = ""  # of its pause
    idle: bool = False  # a worker that waits for a task


class Ask(Protocol):
    """Sends a request to a process; BadUse when it refuses."""

    def __call__(
        self, command: str, arguments: dict[str, object] | None = None, link: Link | None = None
    ) -> Coroutine[object, object, dict[str, object]]: ...


class Processes:
    """`on_event`: gets each event that a front end hears; `take`: each message of a process, before that; `request`:
    asks a process."""

    def __init__(
        self, on_event: Callable[[Message], None], take: Callable[[Link, Message], None], request: Ask, launch: Launch
    ) -> None:
        self.on_event, self.take, self.request, self.launch = on_event, take, request, launch
        self._sending: set[asyncio.Task[object]] = set()
        self.main = self.here = Link()
        self.links: dict[int, Link] = {}  # of children, by process number
        self.kept: dict[str, Message] = {}  # requests that hold for every process
        self.met: set[Link] = set()  # processes that have met a non-finite value
        self.ordered: set[int] = set()  # processes that the script itself has ended
        self.folder = ""
        self._server: asyncio.Server | None = None
        self._reading: set[asyncio.Task[None]] = set()

    # -- their connections ---------------------------------------------------------------------------

    async def listen(self) -> str:
        """Begins to listen; the socket's path, in a folder that is ours alone."""
        self.folder = folder_for_sockets("uneven-sum-children-")
        self._server = await asyncio.start_unix_server(in_tasks(self._welcome), self.path, backlog=1000)
        return self.path

    @property
    def path(self) -> str:
        return os.path.join(self.folder, "socket")

    async def _welcome(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        pid, user = peer(writer)
        if user != os.getuid():
            writer.close()
            return
        task = asyncio.current_task()
        assert task is not None
        self._reading.add(task)
        task.add_done_callback(self._reading.discard)
        link = Link(f"process {pid}")
        link.pid, link.writer, link.running = pid, writer, True
        handle = _handle(pid)
        link.write(b".")  # a child that dies at once is known by now
        self.links[pid] = link
        try:
            with contextlib.suppress(MalformedMessage, ConnectionError, asyncio.CancelledError):
                await link.read(reader, Decoder(), self.take, None)
            if asyncio.current_task() is task and not task.cancelling():
                await self._left(link, handle)
        finally:
            if self.links.get(pid) is link:  # else it is another program by now, which has connected, too
                del self.links[pid]
            link.close()
            if handle is not None:
                os.close(handle)

    def too_late(self, link: Link) -> None:
        """A child has waited in vain to be known here."""
        told = (
            f"{link.name.capitalize()} has run unwatched: Uneven Sum stood still when it started. Run the script again."
        )
        body = {"name": link.name, "message": told, "shown": False, "place": None}
        self.on_event({"type": "event", "event": "unevenSum/processEnded", "body": body})

    async def _left(self, link: Link, handle: int | None) -> None:
        """The connection of a child has ended: with the process, or since it became another program."""
        link.gone = True
        sentence = ""
        number = await _killed_by(link.pid, handle)
        if number == signal.SIGTERM and link.pid not in self.ordered:
            await asyncio.sleep(TOGETHER)  # the script may end by the same signal
            if self.main.running and link.pid not in self.ordered:
                sentence = f"{link.name} was ended by SIGTERM, sent by a process that is not watched."
        elif number and link.pid not in self.ordered and number not in ORDERED:
            sentence = died_sentence({"signal": _signal_name(number), "place": link.last_place}, link.name)
        shown = link is self.here
        if shown:
            self.here = self.main
        if sentence or shown:
            body = {"name": link.name, "message": sentence, "shown": shown, "place": link.last_place}
            self.on_event({"type": "event", "event": "unevenSum/processEnded", "body": body})
        if shown:
            self.show_next()

    # -- the one that is shown -----------------------------------------------------------------------

    def stopped(self, link: Link, body: Message) -> None:
        """A process has paused: it is shown, unless another one is paused or in the midst of a step."""
        link.paused_with(body)
        link.holding = link.holding and (body.get("unevenSum") or {}).get("reason") == HELD
        if link.holding:
            if self._paused():
                self._say_how_many()
            else:
                self._release()  # what it was to wait for has gone on
            return
        if link is not self.here and self.here.running:
            if self.here.going_on:
                self.here = link
            else:
                self._start(self._show_if_stuck(self.here, self.here.stops))
        if link is self.here:
            self._show()
        else:
            self._say_how_many()
        if self.launch.hold_others:
            self._hold_others()

    def _show(self) -> None:
        self.on_event({"type": "event", "event": "stopped", "body": self.pause()})

    def pause(self) -> dict[str, object]:
        """The body of the `stopped` event of the process that is shown; empty while it runs."""
        if not self.here.paused:
            return {}
        more = {"process": self.here.name, **self._others()}
        return {**self.here.pause, "unevenSum": {**(self.here.pause.get("unevenSum") or {}), **more}}

    def _say_how_many(self) -> None:
        self.on_event({"type": "event", "event": "unevenSum/processes", "body": self._others()})

    def _others(self) -> dict[str, object]:
        """How many more are paused, how many are held; the names of those that are paused at the place of the one
        shown."""
        names = [one.name for one in [self.here, *self.same_place()] if one.name]
        waiting = [one for one in self._paused() if one is not self.here]
        return {"waiting": len(waiting), "held": len(self._held()), "processes": names}

    def _all(self) -> list[Link]:
        return [self.main, *self.links.values()]

    def _paused(self) -> list[Link]:
        return [one for one in self._all() if one.paused and not one.holding]

    def _held(self) -> list[Link]:
        return [one for one in self._all() if one.held]

    # -- those that wait meanwhile -------------------------------------------------------------------

    def _hold_others(self) -> None:
        """Let all that run wait while one is paused."""
        if self.links:
            for one in self._all():
                if one.running and not one.holding and one is not self.here:
                    one.holding = True
                    self._start(self.request("pause", {"held": True}, one))

    def begins(self) -> None:
        """A process that was started runs: it waits where others do."""
        if self.launch.hold_others and self._paused():
            self._hold_others()

    def _release(self) -> None:
        """Let those that wait go on; one that is still on its way to wait goes on when it does."""
        for one in self._held():
            one.going_on = True
            self._start(self.request("continue", None, one))

    def steps(self, link: Link) -> None:
        """The process that is shown takes a step: where it waits for one that is held, that goes on, too."""
        if self._held():
            self._start(self._release_if_stuck(link, link.stops))

    async def _release_if_stuck(self, link: Link, stops: int) -> None:
        await asyncio.sleep(STUCK)
        if link.running and link.stops == stops:
            self._release()

    async def _show_if_stuck(self, link: Link, stops: int) -> None:
        """A process that takes a step, or runs to a place, may wait for one that has paused meanwhile: show that."""
        await asyncio.sleep(STUCK)
        if self.here is link and link.running and link.stops == stops:
            self.show_next()

    # -- going from one to another -------------------------------------------------------------------

    def same_place(self) -> list[Link]:
        """The other processes that are paused where the one shown is."""
        return [one for one in self._paused() if one is not self.here and _place(one) == _place(self.here)]

    def show_next(self) -> None:
        """Show another paused process, if there is one; else the script's own."""
        paused = [one for one in self._paused() if one is not self.here]
        self.here = paused[0] if paused else self.main
        if paused:
            self._show()
        else:
            self._release()

    def show(self, pid: int) -> None:
        """Show a process that is paused or held.  KeyError where there is none of this number."""
        found = {one.pid: one for one in self._all() if one.paused}
        self.here = found[pid]
        self._show()

    def list(self) -> list[OneProcess]:
        """All processes, the script's own first."""
        found = []
        for one in self._all():
            state = "runs" if not one.paused else "shown" if one is self.here else "held" if one.holding else "paused"
            headline = str((one.pause.get("unevenSum") or {}).get("headline", "")) if one.paused else ""
            found.append(OneProcess(one.pid, one.name, state, one.since, one.last_place, headline, one.idle))
        return found

    def remember(self, declared: dict[str, dict[str, object]], command: str, arguments: dict[str, object]) -> None:
        """Keep a request that holds for every process, for those that come."""
        remember(self.kept, declared, command, arguments)

    # -- what is sent to them ------------------------------------------------------------------------

    def set_up(self, link: Link, launch: Launch) -> None:
        """Tell a process that was started anew what holds for the script's own, and let it begin."""
        self._start(self._set_up(link, launch))

    async def _set_up(self, link: Link, launch: Launch) -> None:
        link.running = False
        first = {**launch.arguments(), "children": self.path, "pauseAtEnd": False}
        asked = [("launch", first), *((one["command"], one["arguments"]) for one in self.kept.values())]
        asked.append(("configurationDone", {}))
        # All at once: the process answers them in this order, and begins that much sooner.
        await asyncio.gather(*(self.request(*one, link) for one in asked), return_exceptions=True)
        self.begins()

    def ask_script(self, link: Link, about: dict[str, object]) -> None:
        """Ask the script's own process what a child wants to know of it."""
        self._start(self._ask_script(link, about))

    async def _ask_script(self, link: Link, about: dict[str, object]) -> None:
        told: dict[str, object] = {}
        asked = self._start(self.request("unevenSum/handles", about, self.main))
        await _answered({asked: self.main})
        if asked.done() and not asked.exception():
            told = asked.result()
        asked.cancel()
        link.tell({"seq": 0, "type": "request", "command": "unevenSum/scriptSays", "arguments": told})

    def say_met(self, link: Link) -> None:
        """Tell a process whether another one has met a non-finite value."""
        self._start(self._say_met(link))

    async def _say_met(self, link: Link) -> None:
        if not self.met - {link}:
            await asyncio.sleep(ON_ITS_WAY)
        told = {"met": bool(self.met - {link})}
        link.tell({"seq": 0, "type": "request", "command": "unevenSum/metSays", "arguments": told})

    def kills(self, link: Link, body: Message) -> None:
        """A process is about to end another one; in an audit it waits for what that one has found."""
        number = int(body["pid"])
        # A group has the number of its first process, which may be dead by now and have no group any more.
        self.ordered |= {number, *(pid for pid in self.links if body["group"] and _group(pid) == number)}
        if body["waits"]:
            self._start(self._let_kill(link))

    async def _let_kill(self, link: Link) -> None:
        await self.take_findings(link)
        link.tell({"seq": 0, "type": "request", "command": "unevenSum/killsNow", "arguments": {}})

    async def take_findings(self, waits: Link | None = None) -> None:
        """Ask the processes that the script has started for what an audit has found in them: all at once, since a pool
        ends its workers one after another.  `waits`: the one that waits for it, and so answers nothing."""
        now = time.monotonic()
        able = [one for one in self.links.values() if one.running and one is not waits]
        asked = [one for one in able if now - one.asked > FRESH]
        await _answered({self._start(self._take_findings(one)): one for one in asked})

    async def _take_findings(self, link: Link) -> None:
        link.asked = math.inf  # not again before it has answered
        body = await self.request("unevenSum/findings", link=link)
        link.asked = time.monotonic()
        self.on_event({"type": "event", "event": "unevenSum/findings", "body": body})

    def for_all(self, command: str, arguments: dict[str, object]) -> None:
        """What holds for every process is sent to those that are not shown, too; none is waited for."""
        for other in self._all():
            if other is not self.here:
                self._start(self.request(command, arguments, other))

    def _start(self, what: Coroutine[object, object, T]) -> asyncio.Task[T]:
        """Nobody waits for it: a child may end at any time."""
        sent = asyncio.create_task(what)
        sent.add_done_callback(lambda t: t.cancelled() or t.exception())
        self._sending.add(sent)
        sent.add_done_callback(self._sending.discard)
        return sent

    async def find_places(self) -> None:
        """Ask the processes that run where they are; one that does not answer soon keeps its last place."""
        running = [one for one in self._all() if one.running]
        asked = [asyncio.ensure_future(self.request("unevenSum/where", None, one)) for one in running]
        if asked:
            await asyncio.wait(asked, timeout=1.0)
        for one, answer in zip(running, asked):
            known = answer.done() and not answer.exception()
            one.idle = known and bool(answer.result().get("idle"))
            if known and (answer.result().get("file") or one.idle):
                one.last_place = None if one.idle else answer.result()
                one.name = str(answer.result().get("process") or one.name)
            answer.cancel()

    # -- their ends ----------------------------------------------------------------------------------

    async def settle(self) -> None:
        """What was told before the script's end is heard; a child that lives on is not waited for."""
        for _ in range(3):  # who has connected is welcomed
            await asyncio.sleep(0)
        await read_out(list(self._reading), SETTLING)

    def let_go(self) -> None:
        """A process that outlives the script goes on without us."""
        self.here = self.main
        for link in self.links.values():
            link.close()

    async def close(self) -> None:
        for task in list(self._reading):
            task.cancel()
        await asyncio.gather(*self._reading, return_exceptions=True)
        if self._server is not None:
            self._server.close()
        if self.folder:
            await asyncio.to_thread(shutil.rmtree, self.folder, True)
            self.folder = ""


async def _answered(asked: dict[asyncio.Task[object], Link]) -> None:
    """Wait until all have answered, or those that have not have computed for `ASKING`, as in native code.

    In rounds, `LONGEST` in all: when this process stands still for a while, as under load, that counts as one round.
    """
    begun = {one: computed(one.pid) for one in asked.values()}
    for _ in range(round(LONGEST / ROUND)):
        late = [asked[task] for task in asked if not task.done()]
        if all(computed(one.pid) - begun[one] > ASKING for one in late):
            return  # all have answered, too
        await asyncio.wait(asked, timeout=ROUND)


def remember(
    kept: dict[str, Message], declared: dict[str, dict[str, object]], command: str, arguments: Message
) -> None:
    """Put a request among those that are sent again to another run, or to another process of this one."""
    repeated = declared.get(command, {}).get("rerun")
    if repeated == "last":
        path = str((arguments.get("source") or {}).get("path", "")) if command == "setBreakpoints" else ""
        kept[f"{command} {path}"] = {"command": command, "arguments": arguments}
    elif repeated == "all":
        key = f"{command} {arguments}"
        kept.pop(key, None)
        kept[key] = {"command": command, "arguments": arguments}


def _place(link: Link) -> tuple[object, ...]:
    facts = link.pause.get("unevenSum") or {}
    return tuple(facts.get(k) for k in ("reason", "file", "line"))


def _group(pid: int) -> int:
    try:
        return os.getpgid(pid)
    except OSError:
        return 0


def _handle(pid: int) -> int | None:
    try:
        return os.pidfd_open(pid)
    except (OSError, AttributeError):
        return None


async def _killed_by(pid: int, handle: int | None) -> int:
    """The signal that has ended a process; 0 where it ended otherwise, lives on, or its end cannot be read."""
    with contextlib.suppress(TimeoutError, ProcessLookupError, OSError):
        await asyncio.wait_for(ended(pid), EXIT)
    status = _exit_status(pid, handle)
    for _ in range(10):  # between a zombie and one that has been waited for, neither way may answer
        if status is not None or handle is None:
            break
        await asyncio.sleep(0.01)
        status = _exit_status(pid, handle)
    number = status & 0x7F if status is not None else 0
    if number:
        await asyncio.sleep(0.05)  # that the script has ended it may be on its way
    return number


def _exit_status(pid: int, handle: int | None) -> int | None:
    """As `wait` gives it; None where it cannot be read."""
    if handle is not None:
        room = bytearray(struct.pack("Q", INFO_EXIT) + bytes(56))
        with contextlib.suppress(OSError):
            fcntl.ioctl(handle, PIDFD_GET_INFO, room)
            if struct.unpack_from("Q", room)[0] & INFO_EXIT:
                return int(struct.unpack_from("i", room, 60)[0])
    one = process(pid)
    if one is not None and one.state == "Z":
        with contextlib.suppress(OSError, ValueError, IndexError), open(f"/proc/{pid}/stat") as f:
            return int(f.read().rpartition(")")[2].split()[49])
    return None


def _signal_name(number: int) -> str:
    try:
        return signal.Signals(number).name
    except ValueError:
        return f"signal {number}"
