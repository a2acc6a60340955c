"""`uneven-sum serve`: the same engine for any client of the Debug Adapter Protocol.

Over standard input and output, a Unix socket (mode 0600), or TCP on the loopback with a token.  One
connection runs one script; when the client goes, however, the script ends.
"""

from __future__ import annotations

import asyncio
import contextlib
import os
import secrets
import socket
import stat
import sys
from collections.abc import Callable
from io import RawIOBase

from ..protocol import FILTERS, TRIPS, Decoder, MalformedMessage, Message, encode
from .launch import BadUse, Launch, SyntaxFault
from .points import peer
from .processes import remember
from .session import Session
from .sockets import in_tasks

CAPABILITIES: dict[str, object] = {
    **dict.fromkeys(
        (
            *("supportsConfigurationDoneRequest", "supportsFunctionBreakpoints", "supportsConditionalBreakpoints"),
            *("supportsHitConditionalBreakpoints", "supportsEvaluateForHovers", "supportsSetVariable"),
            *("supportsGotoTargetsRequest", "supportsStepInTargetsRequest", "supportsCompletionsRequest"),
            *("supportsModulesRequest", "supportsRestartRequest", "supportsExceptionOptions", "supportsLogPoints"),
            *("supportsExceptionInfoRequest", "supportTerminateDebuggee", "supportsTerminateRequest"),
            *("supportsSetExpression", "supportsDataBreakpoints", "supportsExceptionFilterOptions"),
            *("supportsLoadedSourcesRequest", "supportsCancelRequest", "supportsDelayedStackTraceLoading"),
            "supportsStepBack",
        ),
        True,
    ),
    "exceptionBreakpointFilters": [
        {"filter": name, "label": label, "default": on} for name, (label, on) in FILTERS.items()
    ],
    "completionTriggerCharacters": ["."],
}
BEFORE_TOKEN = 64 * 1024  # bytes that are read of a client that has not shown its token
UNREAD = 64 * 1024 * 1024  # bytes that wait for a client; one that does not read is cut off


class Refusal(Exception):
    """A request that is answered with an error; the text says why."""


def launch_of(arguments: Message) -> Launch:
    """The launch that a client asks for.  Refusal when an argument is of the wrong kind."""
    program = arguments.get("program") or arguments.get("module")
    if not isinstance(program, str) or not program:
        raise Refusal("launch needs `program`: the path of a script (or a module's name, with `asModule`).")
    for name, kind in (("args", list), ("env", dict), ("userCode", list), ("pauseOn", list)):
        if arguments.get(name) is not None and not isinstance(arguments[name], kind):
            raise Refusal(f"launch: `{name}` must be a {'list' if kind is list else 'mapping'}.")
    pause_on = set(TRIPS)
    if arguments.get("pauseOn") is not None:
        pause_on = {str(p) for p in arguments["pauseOn"]}
    if arguments.get("stopOnEntry"):
        pause_on.add("start")
    plain = bool(arguments.get("noDebug"))
    return Launch(
        program,
        [str(a) for a in arguments.get("args") or []],
        as_module=bool(arguments.get("asModule") or "program" not in arguments),
        python=arguments.get("interpreter"),
        cwd=arguments.get("cwd"),
        env={str(k): str(v) for k, v in (arguments.get("env") or {}).items()},
        user_code=[os.path.abspath(str(p)) for p in arguments.get("userCode") or []],
        pause_on=set() if plain else pause_on,
        pause_at_end=bool(arguments.get("pauseAtEnd")) and not plain,
        capture=True,
        rewind=not plain,
    )


class Conversation:
    """One client, one script."""

    def __init__(self, send: Callable[[bytes], None], token: str | None) -> None:
        self.send_bytes, self.token = send, token
        self.known = token is None
        self.session: Session | None = None
        self.launch: Launch | None = None
        self.kept: dict[str, Message] = {}  # what a rerun sets again
        self.over = asyncio.Event()
        self.seq = 0
        self.asked: dict[int, int] = {}  # the client's number of a request under way -> ours
        self.tasks: set[asyncio.Task[None]] = set()

    # -- in and out ----------------------------------------------------------------------------------

    def send(self, message: Message) -> None:
        self.seq += 1
        self.send_bytes(encode({**message, "seq": self.seq}))

    def answer(self, request: Message, body: dict[str, object] | None = None, error: str = "") -> None:
        told: Message = {"type": "response", "request_seq": request.get("seq", 0), "command": request.get("command")}
        if error:
            told.update(success=False, message=error, body={"error": {"id": 1, "format": error, "showUser": True}})
        else:
            told.update(success=True, body=body or {})
        self.send(told)

    def take(self, message: Message) -> None:
        """Starts on one message; answers come when they are there."""
        if message.get("type") != "request" or not isinstance(message.get("command"), str):
            self.answer(message, error="This is no request of the protocol.")
            return
        task = asyncio.create_task(self._answer(message))
        self.tasks.add(task)
        task.add_done_callback(self.tasks.discard)

    def malformed(self, why: str) -> None:
        self.answer({}, error=f"A message could not be read: {why}.")

    async def _answer(self, message: Message) -> None:
        command = str(message["command"])
        arguments = message.get("arguments")
        arguments = arguments if isinstance(arguments, dict) else {}
        try:
            if not self.known and command != "initialize":
                raise Refusal("The first request must be initialize, with the token.")
            own = getattr(self, "on_" + command, None)
            if own is not None:
                await own(message, arguments)
            else:
                await self._relay(message, command, arguments)
        except Refusal as e:
            self.answer(message, error=str(e))
        except SyntaxFault as e:
            self.answer(message, error=e.picture())
        except BadUse as e:
            self.answer(message, error=str(e))
        except (TypeError, ValueError, AttributeError, KeyError) as e:
            self.answer(message, error=f"An argument of {command} is missing or of the wrong type: {e}.")
        except Exception as e:  # an internal error must not end the conversation
            self.answer(message, error=f"This could not be done: {type(e).__name__}: {e}")

    async def _relay(self, message: Message, command: str, arguments: dict[str, object]) -> None:
        session = self.session
        if session is None:
            raise Refusal(f"{command} must wait until a script has been launched.")
        remember(self.kept, session.declared, command, arguments)
        seq = message.get("seq", 0)
        self.asked[seq] = session.next_seq
        try:
            body = await session.request(command, arguments)
        finally:
            self.asked.pop(seq, None)
        self.answer(message, body)

    def _event(self, message: Message) -> None:
        self.send({"type": "event", "event": message["event"], "body": message.get("body") or {}})

    # -- the requests that are the host's ------------------------------------------------------------

    async def on_initialize(self, message: Message, arguments: dict[str, object]) -> None:
        if self.token is not None and not secrets.compare_digest(
            str(arguments.get("token", "")).encode("utf-8", "replace"), self.token.encode("utf-8", "replace")
        ):
            self.answer(message, error="The token is wrong.")
            self.over.set()
            return
        self.known = True
        self.answer(message, CAPABILITIES)

    async def on_launch(self, message: Message, arguments: dict[str, object]) -> None:
        if self.session is not None:
            raise Refusal("A script has been launched already: use restart.")
        self.launch = launch_of(arguments)
        await self._start()
        self.answer(message)

    async def on_attach(self, message: Message, arguments: dict[str, object]) -> None:
        raise Refusal("A running process cannot be taken over: launch the script here.")

    async def _start(self) -> None:
        assert self.launch is not None
        session = Session(self.launch, self._event)
        self.session = session
        try:
            await session.start()
            filters = self.launch.filters()
            await session.request("setExceptionBreakpoints", {"filters": filters})
        except BadUse:
            await session.end()
            self.session = None
            raise

    async def on_configurationDone(self, message: Message, arguments: dict[str, object]) -> None:
        if self.session is None:
            raise Refusal("configurationDone must wait until a script has been launched.")
        await self.session.configured()
        await self.session.write_input(None)
        self.answer(message)

    async def on_pause(self, message: Message, arguments: dict[str, object]) -> None:
        if self.session is None:
            raise Refusal("There is no script to pause.")
        self.answer(message)
        await self.session.interrupt()

    async def on_stepBack(self, message: Message, arguments: dict[str, object]) -> None:
        """To the pause before this one, by a return point."""
        if self.session is None:
            raise Refusal("There is no script to go back in.")
        await self.session.step_back()
        self.answer(message)

    async def on_reverseContinue(self, message: Message, arguments: dict[str, object]) -> None:
        raise Refusal("Going back is by one pause: use stepBack.")

    async def on_cancel(self, message: Message, arguments: Message) -> None:
        number = self.asked.get(int(arguments.get("requestId") or 0))
        if number is not None and self.session is not None:
            self.session.cancel(number)
        self.answer(message)

    async def on_restart(self, message: Message, arguments: Message) -> None:
        if self.launch is None:
            raise Refusal("There is no script to run again.")
        if isinstance(arguments.get("arguments"), dict):
            self.launch = launch_of(arguments["arguments"])
        await self._end(silently=True)
        await self._start()
        assert self.session is not None
        for kept in self.kept.values():
            await self.session.request(kept["command"], kept["arguments"])
        await self.session.configured()
        await self.session.write_input(None)
        self.answer(message)

    async def on_terminate(self, message: Message, arguments: dict[str, object]) -> None:
        await self._end()
        self.answer(message)

    async def on_disconnect(self, message: Message, arguments: dict[str, object]) -> None:
        await self._end()
        self.answer(message)
        self.over.set()

    async def _end(self, silently: bool = False) -> None:
        session, self.session = self.session, None
        if session is None:
            return
        if silently:
            session.on_event = lambda message: None
        await session.end()

    async def close(self) -> None:
        """The client has gone: so does the script."""
        await self._end()
        for task in list(self.tasks):
            task.cancel()


async def converse(reader: asyncio.StreamReader, send: Callable[[bytes], None], token: str | None) -> None:
    """Serves one client until it goes."""
    conversation = Conversation(send, token)
    decoder = Decoder()
    over = asyncio.create_task(conversation.over.wait())
    try:
        while not conversation.over.is_set():
            reading = asyncio.create_task(reader.read(1 << 16))
            await asyncio.wait([reading, over], return_when=asyncio.FIRST_COMPLETED)
            if not reading.done():
                reading.cancel()
                break
            data = reading.result()
            if not data:
                break
            if not conversation.known and decoder.taken + len(data) > BEFORE_TOKEN:
                conversation.malformed("it is too long for a client that has not shown its token")
                break
            while True:
                try:
                    messages = decoder.feed(data)
                except MalformedMessage as e:
                    conversation.malformed(str(e))
                    data = b""
                    if decoder.lost or not conversation.known:
                        return
                    continue
                for message in messages:
                    conversation.take(message)
                break
    finally:
        over.cancel()
        await conversation.close()


async def serve_stdio() -> None:
    """One client at our standard input and output; what we print goes to standard error."""
    loop = asyncio.get_running_loop()
    reader = asyncio.StreamReader()
    await loop.connect_read_pipe(lambda: asyncio.StreamReaderProtocol(reader), sys.stdin)
    out = os.fdopen(os.dup(1), "wb", 0)
    os.dup2(2, 1)
    try:
        transport, _ = await loop.connect_write_pipe(asyncio.BaseProtocol, out)
        send = sender(transport)
    except ValueError:  # a file: it takes all at once
        send = _writes(out)
    await converse(reader, send, None)


def _writes(out: RawIOBase) -> Callable[[bytes], None]:
    def send(data: bytes) -> None:
        with contextlib.suppress(OSError):
            while data:
                data = data[out.write(data) :]

    return send


def sender(transport: asyncio.WriteTransport) -> Callable[[bytes], None]:
    """Writes to a client; one that does not read is cut off."""

    def send(data: bytes) -> None:
        if transport.is_closing():
            return
        transport.write(data)
        if transport.get_write_buffer_size() > UNREAD:
            transport.abort()

    return send


async def serve_socket(path: str | None, port: int | None, token: str | None) -> None:
    """Clients at a Unix socket, or at a port of the loopback, until we are ended."""

    async def one(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        try:
            if path is None or peer(writer)[1] == os.getuid():
                await converse(reader, sender(writer.transport), token)
        except ConnectionError:
            pass
        finally:
            writer.close()

    try:
        if path is not None:
            _refuse_if_used(path)
            mask = os.umask(0o177)
            try:
                server = await asyncio.start_unix_server(in_tasks(one), path)
            finally:
                os.umask(mask)
            print(f"uneven-sum: listening at {path}", file=sys.stderr, flush=True)
        else:
            server = await asyncio.start_server(in_tasks(one), "127.0.0.1", port)
            number = server.sockets[0].getsockname()[1]
            print(f"uneven-sum: listening at 127.0.0.1:{number}, token {token}", file=sys.stderr, flush=True)
    except OSError as e:
        raise BadUse(f"Nothing can be served there: {e.strerror or e}. Choose another socket or port.") from None
    made = os.stat(path) if path is not None else None
    try:
        async with server:
            await server.serve_forever()
    finally:
        if path is not None and made is not None:
            with contextlib.suppress(OSError):
                if os.stat(path).st_ino == made.st_ino:
                    os.unlink(path)


def _refuse_if_used(path: str) -> None:
    """BadUse when something is at the path already; a socket that nobody listens at is removed."""
    if not os.path.lexists(path):
        return
    if not stat.S_ISSOCK(os.lstat(path).st_mode):  # a connection to a file or a link is refused, too
        raise BadUse(f"{path} exists and is no socket. Choose another path.")
    with socket.socket(socket.AF_UNIX) as probe:
        try:
            probe.connect(path)
        except ConnectionRefusedError:
            os.unlink(path)
            return
        except OSError:
            pass
    raise BadUse(f"{path} is in use. Choose another path, or remove it.")
