"""`uneven-sum serve` spoken to by a client that knows only the published protocol."""

from __future__ import annotations

import asyncio
import json
import os
import stat
import sys

import pytest
from as_notebook import write
from driving import slowness

SCRIPT = """\
import numpy as np

def rate(head, c):
    flow = c * head ** 1.5
    return flow

levels = np.array([2.0, 1.0, -1.0])
total = 0.0
for day in range(3):
    total += rate(levels[day], 1.84)
print("total", total)
"""


class Peer:
    """A small client: sends requests, collects events."""

    def __init__(self, reader, writer) -> None:
        self.reader, self.writer = reader, writer
        self.seq = 0
        self.events: list[dict] = []

    def post(self, command: str, arguments: dict | None = None) -> int:
        self.seq += 1
        body = json.dumps(
            {"seq": self.seq, "type": "request", "command": command, "arguments": arguments or {}}
        ).encode()
        self.writer.write(b"Content-Length: %d\r\n\r\n" % len(body) + body)
        return self.seq

    async def message(self) -> dict:
        header = await asyncio.wait_for(self.reader.readuntil(b"\r\n\r\n"), 120)
        length = int(header.split(b":")[1])
        return json.loads(await self.reader.readexactly(length))

    async def ask(self, command: str, arguments: dict | None = None) -> dict:
        return await self.response(self.post(command, arguments))

    async def response(self, seq: int) -> dict:
        while True:
            message = await self.message()
            if message["type"] == "response" and message["request_seq"] == seq:
                return message
            if message["type"] == "event":
                self.events.append(message)

    async def event(self, name: str) -> dict:
        while True:
            for number, event in enumerate(self.events):
                if event["event"] == name:
                    del self.events[number]
                    return event["body"]
            message = await self.message()
            if message["type"] == "event":
                self.events.append(message)


async def start(*options: str):
    return await asyncio.create_subprocess_exec(
        sys.executable, "-m", "uneven_sum", "serve", *options, stdin=-1, stdout=-1, stderr=-1
    )


@pytest.fixture
async def peer():
    process = await start("--stdio")
    yield Peer(process.stdout, process.stdin)
    if process.returncode is None:
        process.kill()
    await process.wait()


async def launched(peer: Peer, path: str, **arguments) -> dict:
    capabilities = await peer.ask("initialize", {"adapterID": "uneven-sum"})
    launch = peer.post("launch", {"program": path, "interpreter": sys.executable, **arguments})
    response = await peer.response(launch)
    assert response["success"], response
    await peer.event("initialized")
    return capabilities["body"]


async def test_a_whole_session(peer: Peer, script) -> None:
    path = script(SCRIPT)
    capabilities = await launched(peer, path)
    assert [f["filter"] for f in capabilities["exceptionBreakpointFilters"]] == [
        "error",
        "handled",
        "warning",
        "nonfinite",
        "arrived",
        "carried",
        "frames",
        "gaps",
    ]
    placed = await peer.ask(
        "setBreakpoints",
        {
            "source": {"path": path},
            "breakpoints": [{"line": 4, "condition": "head < 1.5"}, {"line": 11, "logMessage": "sum {total:.1f}"}],
        },
    )
    assert [b["verified"] for b in placed["body"]["breakpoints"]] == [True, True]
    await peer.ask("setFunctionBreakpoints", {"breakpoints": [{"name": "rate", "hitCondition": "3"}]})
    await peer.ask("setExceptionBreakpoints", {"filters": ["error", "nonfinite"]})
    assert (await peer.ask("configurationDone"))["success"]
    stopped = await peer.event("stopped")
    assert stopped["reason"] == "breakpoint"
    thread = stopped["threadId"]
    assert thread in [t["id"] for t in (await peer.ask("threads"))["body"]["threads"]]
    stack = (await peer.ask("stackTrace", {"threadId": thread}))["body"]["stackFrames"]
    assert [(f["name"], f["line"]) for f in stack] == [("rate", 4), ("<module>", 10)]
    scopes = (await peer.ask("scopes", {"frameId": stack[0]["id"]}))["body"]["scopes"]
    values = (await peer.ask("variables", {"variablesReference": scopes[0]["variablesReference"]}))["body"]["variables"]
    assert {v["name"]: v["value"] for v in values} == {"head": "1.0", "c": "1.84"}
    page = (await peer.ask("evaluate", {"expression": "!levels", "frameId": stack[1]["id"]}))["body"]
    cells = (await peer.ask("variables", {"variablesReference": page["variablesReference"], "start": 1, "count": 1}))[
        "body"
    ]["variables"]
    assert [(c["name"], c["value"]) for c in cells] == [("[1]", "1.0")]
    assert (await peer.ask("evaluate", {"expression": "head * 2", "context": "repl"}))["body"]["result"] == "2.0"
    assert (await peer.ask("evaluate", {"expression": "head", "context": "hover"}))["body"]["result"] == "1.0"
    assert (
        await peer.ask(
            "setVariable", {"variablesReference": scopes[0]["variablesReference"], "name": "c", "value": "2.0"}
        )
    )["body"]["value"] == "2.0"
    assert (await peer.ask("setExpression", {"expression": "c", "value": "1.0"}))["body"]["value"] == "1.0"
    assert "head" in [
        t["label"] for t in (await peer.ask("completions", {"text": "he", "column": 3}))["body"]["targets"]
    ]
    targets = (await peer.ask("gotoTargets", {"source": {"path": path}, "line": 5}))["body"]["targets"]
    assert [t["line"] for t in targets] == [5]
    sources = (await peer.ask("loadedSources"))["body"]["sources"]
    assert path in [s["path"] for s in sources]
    assert any(m["name"] == "numpy" for m in (await peer.ask("modules"))["body"]["modules"])
    await peer.ask("next", {"threadId": thread})
    assert (await peer.event("stopped"))["reason"] == "step"
    await peer.ask("stepOut", {"threadId": thread})
    await peer.event("stopped")
    await peer.ask("continue", {"threadId": thread})
    assert "rate is entered" in (await peer.event("stopped"))["description"]
    await peer.ask("continue", {"threadId": thread})
    assert (await peer.event("stopped"))["reason"] == "breakpoint"
    await peer.ask("continue", {"threadId": thread})
    assert (await peer.event("stopped"))["reason"] == "exception"
    info = (await peer.ask("exceptionInfo", {"threadId": thread}))["body"]
    assert "Culprit: head ** 1.5" in info["description"] and info["exceptionId"] == "created"
    await peer.ask("continue", {"threadId": thread})
    texts = ""
    while "total nan\n" not in texts or "sum nan\n" not in texts:
        texts += (await peer.event("output"))["output"]
    assert "sum nan\n" in texts and "total nan\n" in texts
    assert (await peer.event("exited"))["exitCode"] == 0
    await peer.event("terminated")
    assert (await peer.ask("disconnect"))["success"]


async def test_data_breakpoints_restart_and_terminate(peer: Peer, script) -> None:
    path = script(SCRIPT)
    await launched(peer, path, pauseOn=["start"])
    await peer.ask("configurationDone")
    thread = (await peer.event("stopped"))["threadId"]
    info = (await peer.ask("dataBreakpointInfo", {"name": "total"}))["body"]
    assert info["description"] == "total is changed"
    await peer.ask("setDataBreakpoints", {"breakpoints": [{"dataId": info["dataId"]}]})
    await peer.ask("setExceptionBreakpoints", {"filters": []})
    for old, new in (("not assigned", "0.0"), ("0.0", "5.20431")):
        await peer.ask("continue", {"threadId": thread})
        assert f"total changed: {old} → {new}" in (await peer.event("stopped"))["description"]
    assert (await peer.ask("stepBack", {"threadId": thread}))["success"]
    assert "total changed: not assigned → 0.0" in (await peer.event("stopped"))["description"]
    assert (await peer.ask("restart"))["success"]
    assert "changed: not assigned → 0.0" in (await peer.event("stopped"))["description"]
    assert (await peer.ask("terminate"))["success"]
    await peer.event("terminated")


async def test_cancel_gives_a_trial_up(peer: Peer, script) -> None:
    await launched(peer, script("x = 1\n"), pauseOn=["start"])
    await peer.ask("configurationDone")
    await peer.event("stopped")
    seq = peer.post("evaluate", {"expression": "[0 for _ in iter(int, 1)]"})
    await asyncio.sleep(0.3)
    peer.post("cancel", {"requestId": seq})
    began = asyncio.get_running_loop().time()
    response = await peer.response(seq)
    assert asyncio.get_running_loop().time() - began < 4.0 * slowness(), "else its own limit has ended it"
    assert not response["success"] and "cancelled" in response["message"]
    assert (await peer.ask("evaluate", {"expression": "40 + 2"}))["body"]["result"] == "42"


async def test_what_cannot_be_done_is_an_error_response(peer: Peer, script) -> None:
    assert "must wait" in (await peer.ask("stackTrace"))["message"]
    assert "`program`" in (await peer.ask("launch", {}))["message"]
    assert "must be a list" in (await peer.ask("launch", {"program": "x.py", "args": "a"}))["message"]
    assert "There is no file" in (await peer.ask("launch", {"program": "nowhere.py"}))["message"]
    assert "was never closed" in (await peer.ask("launch", {"program": script("x = (\n")}))["message"]
    assert "cannot be taken over" in (await peer.ask("attach"))["message"]
    await launched(peer, script("x = 1\n"), pauseOn=["start"])
    assert "launched already" in (await peer.ask("launch", {"program": "x.py"}))["message"]
    await peer.ask("configurationDone")
    await peer.event("stopped")
    assert "not known" in (await peer.ask("unheardOf"))["message"]
    peer.writer.write(b"Content-Length: 5\r\n\r\n{nope")
    message = await peer.message()
    assert not message["success"] and "could not be read" in message["message"]
    peer.writer.write(b"Content-Length: 2\r\n\r\n[]")
    assert not (await peer.message())["success"]
    assert (await peer.ask("evaluate", {"expression": "x", "frameId": 99}))["success"] is False
    assert (await peer.ask("variables", {"variablesReference": "many"}))["success"] is False
    assert (await peer.ask("threads"))["success"]


def alive(pid: int) -> bool:
    try:
        with open(f"/proc/{pid}/stat") as f:
            return f.read().rpartition(")")[2].split()[0] != "Z"
    except OSError:
        return False


async def test_a_client_that_vanishes_leaves_no_process(script) -> None:
    process = await start("--stdio")
    peer = Peer(process.stdout, process.stdin)
    await launched(peer, script("while True:\n    pass\n"))
    await peer.ask("configurationDone")
    pid = (await peer.event("process"))["systemProcessId"]
    assert alive(pid)
    process.stdin.close()
    await asyncio.wait_for(process.wait(), 10)
    await asyncio.sleep(0.2)
    assert not alive(pid)


async def test_unix_socket_is_the_users_own(tmp_path, script) -> None:
    path = tmp_path / "s"
    process = await start("--socket", str(path))
    try:
        assert b"listening" in await process.stderr.readline()
        assert stat.S_IMODE(os.stat(path).st_mode) == 0o600
        peer = Peer(*await asyncio.open_unix_connection(str(path)))
        await launched(peer, script("print('hello')\n"))
        await peer.ask("configurationDone")
        text = ""
        while not text.endswith("\n"):  # it may come in pieces
            text += (await peer.event("output"))["output"]
        assert text == "hello\n"
    finally:
        process.kill()
        await process.wait()


async def test_a_port_asks_for_its_token(script) -> None:
    process = await start("--port", "0", "--token", "secret")
    try:
        line = (await process.stderr.readline()).decode()
        port = int(line.split("127.0.0.1:")[1].split(",")[0])
        peer = Peer(*await asyncio.open_connection("127.0.0.1", port))
        assert "first request must be initialize" in (await peer.ask("launch", {"program": "x"}))["message"]
        assert "token is wrong" in (await peer.ask("initialize", {"token": "guess"}))["message"]
        peer = Peer(*await asyncio.open_connection("127.0.0.1", port))
        assert (await peer.ask("initialize", {"token": "secret"}))["success"]
    finally:
        process.kill()
        await process.wait()


async def test_serve_wants_one_way() -> None:
    process = await start()
    assert b"only one of" in await process.stderr.read()
    assert await process.wait() == 2


async def test_a_notebook(peer: Peer, tmp_path) -> None:
    """Its places are lines of a text, which a client asks for by its reference."""
    path = write(tmp_path / "flow.ipynb", "head = 0.0", "%time rate = 1.0 / head")
    await launched(peer, path)
    await peer.ask("setExceptionBreakpoints", {"filters": ["error"]})
    assert (await peer.ask("configurationDone"))["success"]
    stopped = await peer.event("stopped")
    assert stopped["text"].startswith("ZeroDivisionError at cell 2, line 1")
    (frame,) = (await peer.ask("stackTrace", {"threadId": stopped["threadId"]}))["body"]["stackFrames"]
    told = await peer.ask("source", {"source": frame["source"], "sourceReference": frame["source"]["sourceReference"]})
    assert told["body"]["content"].split("\n")[frame["line"] - 1] == "%time rate = 1.0 / head"
    await peer.ask("terminate")


async def test_a_socket_takes_the_place_of_no_file(tmp_path) -> None:
    for path in (tmp_path / "results.csv", tmp_path / "link"):
        if path.name == "link":
            path.symlink_to(tmp_path / "results.csv")
        else:
            path.write_text("day,flow\n1,2.5\n")
        process = await start("--socket", str(path))
        said = await process.stderr.read()
        assert await process.wait() == 2 and b"is no socket" in said
        assert path.read_text() == "day,flow\n1,2.5\n"
