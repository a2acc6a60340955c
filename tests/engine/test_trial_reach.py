"""What a trial cannot reach through what the script has open, and what it may do."""

from __future__ import annotations

import os
import pty
import re

from driving import running

from uneven_sum.client import BadUse

SCRIPT = """
import ctypes, fcntl, os, sys, termios
device = os.open(sys.argv[1], os.O_RDWR | os.O_NOCTTY)
port = open(sys.argv[1], "r+b", buffering=0)
counter = os.eventfd(1)
folder = os.open(".", os.O_RDONLY)
os.mkfifo("pipe")
held = os.open("pipe", os.O_RDWR)
os.write(held, b"kept")
sockets = [int(n) for n in os.listdir("/proc/self/fd") if "socket:" in (os.readlink(f"/proc/self/fd/{n}") if os.path.lexists(f"/proc/self/fd/{n}") else "")]
libc = ctypes.CDLL(None, use_errno=True)
x = 1
"""
# What must fail in a copy.
OUT_OF_REACH = [
    "port.write(b'VOLT 20\\n')",
    "os.write(device, b'VOLT 20\\n')",
    "os.read(device, 1)",
    "termios.tcsetattr(device, termios.TCSANOW, termios.tcgetattr(device))",
    "os.eventfd_read(counter)",
    "os.eventfd_write(counter, 5)",
    "os.write(sockets[0], b'Content-Length: 2')",
    "open('pipe', 'rb').read(1)",
    "os.open(sys.argv[1], os.O_RDONLY | os.O_NOCTTY)",
    "fcntl.ioctl(folder, 0x40086602, bytes(8))",
    "__import__('socket').sethostname('other')",
]
# Calls of the C library: what they give in a copy.
REFUSED_CALLS = [
    "libc.semget(0, 1, 0o1600)",
    "libc.msgget(0, 0o1600)",
    "libc.syscall(250, 0, 0)",
    "libc.syscall(425, 1, 0)",
]
ALLOWED = {
    "os.environ.__setitem__('GAUGE', 'mill') or os.environ['GAUGE']": "'mill'",
    "__import__('tempfile').gettempdir() != ''": "True",
    "open('/dev/urandom', 'rb').read(3) != b''": "True",
    "os.listdir(folder) != []": "True",
}


async def test_a_trial_reaches_nothing_that_the_script_has_open(
    script, tmp_path, monkeypatch, interpreter: str
) -> None:
    monkeypatch.chdir(tmp_path)
    ours, theirs = pty.openpty()
    os.set_blocking(ours, False)
    name = os.ttyname(theirs)
    path = script(SCRIPT)
    async with running(path, name, python=interpreter, breakpoints={path: [12]}) as run:
        facts = await run.pause()
        assert facts.line == 12
        assert await run.ask("len(sockets) > 0") == "True"
        for text in OUT_OF_REACH:
            try:
                answer = await run.ask(text)
            except BadUse as e:
                assert re.search("[Ee]rror|Forbidden|copy", str(e)), (text, str(e))
            else:
                raise AssertionError(f"{text}: {answer}")
        for text in REFUSED_CALLS:
            assert await run.ask(text) == "-1", text
        for text, answer in ALLOWED.items():
            assert await run.ask(text) == answer
        assert await run.ask("os.environ.get('GAUGE')") == "None"
        try:
            assert os.read(ours, 100) == b""
        except BlockingIOError:
            pass
        await run.step()
        assert run.exited is None or run.exited.exit_status == 0
    os.close(ours)
    os.close(theirs)
