"""One run of one script: its process, its connection, its output."""

from __future__ import annotations

import asyncio
import contextlib
import logging
import os
import secrets
import signal
import socket
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from ..protocol import Decoder, Message
from .activity import Activity, activity, reads_input
from .descendants import Family, below
from .environment import die_with_host, environment
from .failures import cannot_run
from .interpreter import find_interpreter
from .launch import BadUse, Launch, inspect_script
from .links import PATIENCE, Link, read_out
from .output import ScriptOutput
from .points import Points, ended, reap
from .processes import OneProcess, Processes
from .typed import Input
from .warden import Warden

LOG = logging.getLogger("uneven_sum.host")
BOOT = Path(__file__).parent.parent / "agent" / "boot.py"
OF_MAIN = ("initialized", "process", "unevenSum/ended")  # a child's own is not the script's
GOING_ON = ("continue", "unevenSum/runOut")  # to the next pause, wherever that is
SHARE = 10  # a script that takes a second to say where it is is asked every ten


class Session:
    """Starts the script and relays messages.  `on_event` gets every event of the protocol, in order."""

    def __init__(self, launch: Launch, on_event: Callable[[Message], None]) -> None:
        self.launch = launch
        self.on_event = on_event
        self.process: asyncio.subprocess.Process | None = None
        self.ended: dict[str, object] | None = None  # what the agent said of the script's end
        self.exited = asyncio.Event()
        self._initialized = asyncio.Event()
        self._failed: BadUse | None = None
        self._stopped_by_us = False
        self._seq = 0
        self.declared: dict[str, dict[str, object]] = {}  # of each request: `moves`, `rerun`
        self._tasks: list[asyncio.Task[None]] = []
        self.points = Points(self._point_came, launch.limits)
        self.processes = Processes(on_event, self._take, self.request, launch)
        self.main = self.processes.main  # the script's own process
        self.input = Input()
        self.output: ScriptOutput | None = None
        self.written: dict[str, int] = {}  # files that the script has written or deleted, and when
        self._waking = False
        self.family = Family(secrets.token_hex(8), os.getsid(0))
        self.left: list[str] = []  # what the script has started to outlive it
        self.warden = Warden(self.family)

    @property
    def here(self) -> Link:
        """The process that is shown."""
        return self.processes.here

    @property
    def alive(self) -> bool:
        return self.process is not None and not self.exited.is_set()

    @property
    def running(self) -> bool:
        """Whether the process that is shown runs."""
        return self.here.running

    @property
    def point(self) -> int:
        """The return point of the present pause."""
        return self.here.point

    @property
    def pid(self) -> int:
        """Of the script's own process, or of the copy that is the script now."""
        return self.main.pid

    # -- starting and ending -------------------------------------------------------------------------

    async def start(self) -> None:
        """Starts the interpreter and waits until the script is compiled.

        BadUse (SyntaxFault) when it cannot be run.  Nothing of the script has run yet.
        """
        launch = self.launch
        inspect_script(launch)
        interpreter = await find_interpreter(launch.python)
        ours, theirs = socket.socketpair()
        try:
            self.process = await asyncio.create_subprocess_exec(
                interpreter.path,
                str(BOOT),
                str(theirs.fileno()),
                cwd=launch.folder,
                env=environment(launch, self.family.mark),
                pass_fds=[theirs.fileno()],
                preexec_fn=die_with_host(os.getpid()),
                **self._streams(),
            )
        except OSError as e:
            ours.close()
            raise BadUse(f"The interpreter {interpreter.path} could not be started: {e.strerror}.") from None
        finally:
            theirs.close()
        if launch.capture:
            await self.input.open()
        self.main.pid = self.process.pid
        reader, self.main.writer = await asyncio.open_connection(sock=ours)
        if launch.capture:
            assert self.process.stdout is not None and self.process.stderr is not None
            self.output = ScriptOutput(self.process, self.on_event)
            self._tasks.append(asyncio.create_task(self.output.relay(self.process.stdout, "stdout")))
            self._tasks.append(asyncio.create_task(self.output.relay(self.process.stderr, "stderr")))
        self._read(self.main, reader, Decoder())
        self._tasks.append(asyncio.create_task(self._watch()))
        rewind = await self.points.listen() if launch.rewind else ""
        told = await self.processes.listen() if launch.hears_children else ""
        body = await self.request("launch", {**launch.arguments(), "rewind": rewind, "children": told})
        self.declared = body.get("requests") or {}
        initialized = asyncio.create_task(self._initialized.wait())
        exited = asyncio.create_task(self.exited.wait())
        await asyncio.wait([initialized, exited], return_when=asyncio.FIRST_COMPLETED)
        initialized.cancel()
        exited.cancel()
        if self._failed is not None:
            await self.exited.wait()
            raise self._failed
        if not self._initialized.is_set():
            raise BadUse(f"The interpreter {interpreter.path} ended before the script could start.")

    def _streams(self) -> dict[str, Any]:
        if self.launch.capture:
            pipe = asyncio.subprocess.PIPE
            return {"stdin": self.input.create(), "stdout": pipe, "stderr": pipe, "limit": 1 << 20}
        return {"stdout": sys.stderr.fileno()} if self.launch.output_to_stderr else {}

    async def configured(self) -> None:
        """Lets the script begin."""
        await self.request("configurationDone")
        self.main.running = True
        self._tasks.append(asyncio.create_task(self._sample()))

    async def end(self) -> None:
        """Ends the script and all its processes."""
        self._stopped_by_us = True
        if self.process is not None and not self.exited.is_set():
            self.family.look(self.pid)
            self.family.freeze()
            self.main.kill(signal.SIGKILL)
            self.points.end_all()
            self.left = [f"{p.name} (process {p.pid})" for p in self.family.end()]
            self.warden.reap(self.process.pid)
        self.points.end_all()
        if self.process is not None:
            await self._first_ended()
            with contextlib.suppress(TimeoutError):
                await asyncio.wait_for(self.exited.wait(), 2)  # its end is still to be reported
            await asyncio.sleep(0)
        await self.close()

    async def close(self) -> None:
        tasks = [*self._tasks, *self.main.tasks()]
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)
        self.warden.dismiss()
        await self.points.close()
        await self.processes.close()
        self.input.close()
        if self.main.writer is not None:
            self.main.writer.close()
        if self.process is not None:
            transport = getattr(self.process, "_transport", None)
            if transport is not None:
                transport.close()
                for _ in range(3):
                    await asyncio.sleep(0)  # its pipes close in the turns that follow

    # -- messages ------------------------------------------------------------------------------------

    async def request(
        self, command: str, arguments: dict[str, object] | None = None, link: Link | None = None
    ) -> Message:
        """Sends a request, to the process that is shown if no other is given; the body of its response.  BadUse with
        the agent's sentence when it refuses."""
        self._seq += 1
        message = {"seq": self._seq, "type": "request", "command": command, "arguments": arguments or {}}
        began = time.monotonic()
        link = link or self.here
        moves = bool(self.declared.get(command, {}).get("moves"))
        self.processes.remember(self.declared, command, arguments or {})
        others = self.processes.same_place() if link is self.here and command in GOING_ON else []
        if moves:
            link.going_on = command in GOING_ON
        response = await link.request(message, moves or command == "configurationDone")
        fine = "done" if response.get("success") else f"refused: {response.get('message')}"
        LOG.debug("%s %s in %.1f ms", command, fine, 1e3 * (time.monotonic() - began))
        if not response.get("success"):
            told = (response.get("body") or {}).get("unevenSum") or {}
            raise BadUse(str(response.get("message", "The script did not answer.")), told)
        body: dict[str, object] = response.get("body") or {}
        if moves:
            await self._went_on(link, command, others)
        elif link is self.here and self.processes.links and self.declared.get(command, {}).get("rerun"):
            self.processes.for_all(command, arguments or {})
        return body

    async def _went_on(self, link: Link, command: str, others: list[Link]) -> None:
        """A process was set going, and all that were paused at its place if by `continue`: another one is shown."""
        for other in others:
            with contextlib.suppress(BadUse):
                await self.request(command, link=other)
        if link is self.here and link.going_on and link.running:
            self.processes.show_next()
        elif link is self.here and link.running:
            self.processes.steps(link)

    @property
    def next_seq(self) -> int:
        """The number that the next request will have."""
        return self._seq + 1

    def cancel(self, number: int) -> None:
        """Gives up what a request under way is doing; it is answered with an error."""
        if number in self.here.waiting:
            self._seq += 1
            self.here.send(
                {"seq": self._seq, "type": "request", "command": "cancel", "arguments": {"requestId": number}}
            )

    def cancel_all(self) -> None:
        for number in list(self.here.waiting):
            self.cancel(number)

    async def step_back(self, number: int | None = None) -> None:
        """Goes back to a return point (default: the pause before this one).  BadUse when there is none."""
        if self.running:
            raise BadUse("The script is running: interrupt it first.")
        if self.here is not self.main:
            raise BadUse("A worker process has no snapshots: only the script's own process can go back.")
        await self.points_up_to_here()
        if number is None:
            here = self.point or 1 << 60
            number = max((n for n, p in self.points.all.items() if n < here and p.at_pause), default=None)
        if number is None or number not in self.points.all:
            raise BadUse("No earlier pause to go back to.")
        await self.points.wait_for(number)
        old = self.pid
        self._waking = True
        if self.main.reading is not None:
            self.main.reading.cancel()
        assert self.main.writer is not None
        self.main.writer.close()
        # A sleeper can still be below the process that made it, until the process between them has ended.
        sleepers = frozenset(p.pid for n, p in self.points.all.items() if n <= number)
        started = Family("", self.family.session, below(old), sleepers)
        with contextlib.suppress(ProcessLookupError):
            os.kill(old, signal.SIGKILL)
        started.end()
        if self.process is not None and old == self.process.pid:
            await self._first_ended()
        else:
            reap(old)
        self.main.fail_waiting()
        point = self.points.wake(number)
        self.main.stopped.clear()
        self.main.pid, self.main.writer, self._waking = point.pid, point.writer, False
        self.ended = None
        self.input.back_to(number)
        self._read(self.main, point.reader, point.decoder)
        if self.process is None or point.pid != self.process.pid:
            self._tasks.append(asyncio.create_task(self._watch_copy(point.pid)))
        await self.stopped()

    async def switch_points(self, on: bool) -> None:
        """Return points from now on, or none any more: those that there are end."""
        await self.request("unevenSum/returnPoints", {"on": on})
        self.points.off = not on
        if not on:
            self.points.end_all()

    def list_processes(self) -> list[OneProcess]:
        """The processes of the script that report to us, the script's own first."""
        return self.processes.list()

    async def show_process(self, pid: int) -> None:
        """Show a paused process: its pause comes as an event, and what is asked is asked of it.  BadUse where it is
        not paused any more."""
        try:
            self.processes.show(pid)
        except KeyError:
            raise BadUse("This process is not paused any more.") from None

    async def stop(self) -> None:
        """End the script, for the front end that shows it."""
        await self.end()

    async def points_up_to_here(self) -> None:
        """Wait for the return points up to this pause that are announced and not here yet."""
        for late in sorted(n for n in self.points.expected if not self.point or n <= self.point):
            await self.points.wait_for(late)

    async def _first_ended(self) -> int:
        """The status of the process that we started, once it has ended; asyncio's own wait would wait for its pipes
        too, which sleeping copies hold open."""
        assert self.process is not None
        with contextlib.suppress(ProcessLookupError):
            await ended(self.process.pid)
        while self.process.returncode is None:
            await asyncio.sleep(0.002)
        return self.process.returncode

    async def _watch_copy(self, pid: int) -> None:
        """Waits for the end of a woken copy; it is our child since we are the subreaper."""
        with contextlib.suppress(ProcessLookupError):
            await ended(pid)
        if self.pid != pid or self._waking:
            return  # gone back from
        try:
            status = os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1])
        except ChildProcessError:
            status = 255
        await self._gone(status)

    def _point_came(self, number: int) -> None:
        self.input.mark(number)

    async def stopped(self, seconds: float = 20.0) -> None:
        """Waits until the script is paused.  BadUse when it does not come to it."""
        try:
            await asyncio.wait_for(self.here.stopped.wait(), seconds)
        except TimeoutError:
            raise BadUse("The copy of the script does not answer: run the script again.") from None

    async def interrupt(self) -> None:
        """Asks a running script to pause; when it does not soon, an event says why."""
        here = self.here
        if not here.running:
            return
        stops = here.stops
        asking = asyncio.create_task(self.request("pause"))
        asking.add_done_callback(lambda t: t.cancelled() or t.exception())
        await asyncio.sleep(PATIENCE)
        if here.running and stops == here.stops and not here.gone and not self.exited.is_set():
            place = f" (last seen at line {here.last_place['line']})" if here.last_place else ""
            text = f"Waiting for native code{place} to return; then it pauses."
            self.on_event({"type": "event", "event": "unevenSum/busy", "body": {"message": text}})

    async def write_input(self, text: str | None) -> None:
        """Feeds the script's standard input; None closes it."""
        if self.process is not None and self.launch.capture:
            self.input.write(text)

    def _read(self, link: Link, reader: asyncio.StreamReader, decoder: Decoder) -> None:
        drained = self.output.drained if self.output is not None else None
        link.reading = asyncio.create_task(link.read(reader, decoder, self._take, drained))

    def _take(self, link: Link, message: Message) -> None:
        if message.get("type") == "response":
            link.answered(message)
            return
        event, body = message.get("event"), message.get("body") or {}
        if link is not self.main and event in OF_MAIN:
            return
        if event == "initialized":
            self._initialized.set()
        elif event == "unevenSum/starts":
            asyncio.get_running_loop().call_later(0.01, lambda: self.warden.look(self.pid))
            return
        elif event == "unevenSum/ticks":
            link.ticks = True
            return
        elif event == "unevenSum/cannotRun":
            self._failed = cannot_run(body)
            return
        elif event == "unevenSum/begins":
            self.processes.begins()
            return
        elif event == "unevenSum/tooLate":
            self.processes.too_late(link)
            return
        elif event == "unevenSum/kills":
            self.processes.kills(link, body)
            return
        elif event == "unevenSum/child":
            link.name = str(body["name"])
            self.processes.set_up(link, self.launch)
            return
        elif event == "unevenSum/met":
            self.processes.met.add(link)
            return
        elif event == "unevenSum/asksMet":
            self.processes.say_met(link)
            return
        elif event == "unevenSum/asksScript":
            self.processes.ask_script(link, body)
            return
        elif event == "stopped":
            self.written = {str(path): int(when) for path, when in body.get("written") or []}
            self.points.announce(int(body.get("point") or 0))
            link.name = str(body.get("process") or link.name)
            self.processes.stopped(link, body)
            return
        elif event == "unevenSum/renewing":
            self.points.since[int(body.get("point") or 0)] = int(body.get("since") or 0)
            return
        elif event == "unevenSum/callEnded":
            link.running = False
            link.point = int(body.get("point") or 0)
        elif event == "unevenSum/ended":
            self.ended = body
            link.running = False
        elif event == "unevenSum/at":
            link.last_place = body
            link.name = str(body.get("process") or link.name)
            return
        self.on_event(message)

    async def _sample(self) -> None:
        """Asks a running script now and then where it is."""
        pause, answered = 0.03, 0.0  # seconds; how long the last answer took
        asked_in = ""  # the system call in which it was asked last
        while not self.exited.is_set():
            await asyncio.sleep(min(pause, 10.0))
            pause = min(pause * 2, max(SHARE * answered, 0.4 if self.launch.capture else 2.0), 10.0)
            if not self.main.running:
                pause = 0.2
                continue
            self.warden.look(self.pid)
            doing, call = activity(self.pid)
            if doing is Activity.SENDS or (call and call == asked_in):
                continue  # it is where it was
            asked_in = call
            began = time.monotonic()
            try:
                place = await asyncio.wait_for(self.request("unevenSum/where", link=self.main), 5)
            except (TimeoutError, BadUse):
                continue
            finally:
                answered = time.monotonic() - began
                pause = max(pause, SHARE * answered)
            if place.get("file"):
                place["waits"] = reads_input(call)
                self.main.last_place = place
                if self.here is self.main:
                    self.on_event({"type": "event", "event": "unevenSum/where", "body": place})

    async def find_places(self) -> None:
        """Ask the processes that run where they are; one that does not answer soon keeps its last place."""
        await self.processes.find_places()

    async def _watch(self) -> None:
        """Waits for the process to end and says how it ended."""
        assert self.process is not None
        status = await self._first_ended()
        if self._waking or self.pid != self.process.pid:
            return  # gone back from: a copy is the script now
        await self._gone(status)

    async def _gone(self, status: int) -> None:
        """The active process has ended."""
        self.points.end_all()
        others = [t for t in self._tasks[: 2 if self.launch.capture else 0]]
        others += [self.main.reading] if self.main.reading is not None else []
        await read_out(others, 1.0)
        await self.processes.settle()
        self.processes.let_go()
        self.main.running, self.main.gone = False, True
        self.exited.set()
        self.main.fail_waiting()
        body: dict[str, object] = {"exitCode": status, "signal": None, "died": False, "place": self.main.last_place}
        if self.ended is None and not self._stopped_by_us and self._failed is None:
            body["died"] = True
        if status < 0:
            try:
                body["signal"] = signal.Signals(-status).name
            except ValueError:
                body["signal"] = f"signal {-status}"
            if self.ended is not None and self.ended.get("exit_status") == status:
                body["died"] = False
        body["byUs"] = self._stopped_by_us
        self.on_event({"type": "event", "event": "exited", "body": body})
        self.on_event({"type": "event", "event": "terminated", "body": {}})
