"""What a trial cannot do to the outside, however it is asked for."""

from __future__ import annotations

import os
from pathlib import Path

import pytest
from driving import running

from uneven_sum.client import BadUse

SCRIPT = """
import os, signal, socket, sqlite3, subprocess, threading
from multiprocessing import shared_memory
open("kept.txt", "w").write("hello")
os.makedirs("folder", exist_ok=True)
with sqlite3.connect("base.db") as base:
    base.execute("create table levels (x)")
child = subprocess.Popen(["sleep", "60"])
udp = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
udp.bind(("127.0.0.1", 0))
udp.setblocking(False)
PORT = udp.getsockname()[1]
memory = shared_memory.SharedMemory(create=True, size=16)
class Path_(str):
    def __eq__(self, other): return True
    def __ne__(self, other): return False
    __hash__ = str.__hash__
try:
    1 / 0
finally:
    child.kill()
    memory.unlink()
"""
LIBC = "__import__('ctypes').CDLL(None)"
REFUSED = [
    "os.kill(child.pid, 9)",
    "os.killpg(os.getpgid(child.pid), 0)",
    "signal.pidfd_send_signal(os.pidfd_open(child.pid), 9)",
    "sqlite3.connect('base.db').execute('insert into levels values (1)')",
    "socket.socket(socket.AF_INET, socket.SOCK_DGRAM).sendto(b'x', ('127.0.0.1', PORT))",
    "socket.socket(socket.AF_INET, socket.SOCK_DGRAM).sendmsg([b'x'], [], 0, ('127.0.0.1', PORT))",
    "os.utime('kept.txt', (0, 0))",
    "os.setxattr('kept.txt', 'user.a', b'1')",
    "os.mkfifo('fifo')",
    "memory.unlink()",
    "os.setpriority(os.PRIO_PROCESS, child.pid, 5)",
    "os.sched_setaffinity(child.pid, {0})",
    "__import__('resource').prlimit(child.pid, 7, (10, 10))",
    "open(Path_('kept.txt'), 'w')",
    "os.open('new.txt', os.O_CREAT | os.O_WRONLY)",
    "os.rmdir('folder')",
    "os.chmod('kept.txt', 0)",
    "subprocess.run(['touch', 'touched'])",
]
WITHOUT_PYTHON = [f"{LIBC}.unlink(b'kept.txt')", f"{LIBC}.kill(child.pid, 9)", f"{LIBC}.system(b'touch touched')"]
ALLOWED = {
    "sqlite3.connect('base.db').execute('select count(*) from levels').fetchone()": "(0,)",
    "open('/dev/null', 'w').write('x')": "1",
    "[t.start() or t.join() for t in [threading.Thread(target=print)]]": "[None]",
    "__import__('asyncio').run(__import__('asyncio').sleep(0, 5))": "5",
    "open('kept.txt').read()": "'hello'",
}


async def test_nothing_leaves_a_trial(script, interpreter: str) -> None:
    path = script(SCRIPT)
    folder = Path(path).parent
    async with running(path, python=interpreter, cwd=str(folder)) as run:
        assert (await run.pause()).line == 19
        before = {p.name: (p.stat().st_mtime_ns, p.stat().st_mode) for p in folder.iterdir()}
        for question in REFUSED:
            with pytest.raises(BadUse) as refusal:
                await run.ask(question)
            assert any(w in str(refusal.value) for w in ("A copy of", "Permission", "not permitted", "readonly")), (
                question
            )
        for question in WITHOUT_PYTHON:
            assert await run.ask(question) != "0", question
        for question, answer in ALLOWED.items():
            assert await run.ask(question) == answer
        assert {p.name: (p.stat().st_mtime_ns, p.stat().st_mode) for p in folder.iterdir()} == before
        stat = Path(f"/proc/{await run.ask('child.pid')}/stat").read_text()
        assert stat.rpartition(")")[2].split()[0] == "S"
        assert os.path.exists(f"/dev/shm/{(await run.ask('memory.name'))[1:-1]}")
        with pytest.raises(BadUse, match="BlockingIOError"):
            await run.ask("!udp.recv(10)")
        await run.step("on")
