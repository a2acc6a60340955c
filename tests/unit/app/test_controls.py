"""No control character of the script's reaches the terminal."""

from __future__ import annotations

import fcntl
import os
import pty
import random
import re
import select
import struct
import subprocess
import sys
import termios
import time

import pytest
from rich.segment import Segment
from textual.color import Color

from uneven_sum.app.safe_drawing import Harmless
from uneven_sum.safe_text import CONTROLS, visible, visible_json, without

EVIL = (
    [chr(n) for n in range(0x20) if chr(n) not in "\t\n"]
    + [chr(n) for n in range(0x7F, 0xA0)]
    + list("\u061c\u200e\u200f\u2028\u2029\u202a\u202d\u202e\u2066\u2069\ud800\udfff")
)


def test_ten_thousand_random_controls() -> None:
    dice = random.Random(7)
    for _ in range(2_000):
        text = "".join(dice.choice([*EVIL, *"abc ()é–"]) for _ in range(5))
        for safe in (visible(text), without(text)):
            assert not CONTROLS.search(safe)
        assert not CONTROLS.search(visible_json(text))
        drawn = Harmless().apply([Segment(text), Segment("plain")], Color(0, 0, 0))
        assert not CONTROLS.search("".join(s.text for s in drawn))


SCRIPT = r"""# \x1b]52;c;QUJD\x07 {raw}
import numpy as np
Odd = type("A\x1b]52;c;QUJD\x07B", (), {{}})
odd = Odd()
setattr(odd, "at\x1b]0;TITLE\x07tr", 1.5)
held = {{"k\x1b]0;TITLE\x07": 1.0, "\u202ekey": odd, "\x9b31m": 2}}
record = np.zeros(2, dtype=[("f\x1b]0;TITLE\x07", float)])
def f(a):
    print("out \x1b]0;TITLE\x07 \x1b[2J\x9b2J\u202e")
    raise ValueError("said \x1b]0;TITLE\x07\x1b]52;c;QUJD\x07")
f.__qualname__ = "g\x1b]0;TITLE\x07"
f(1.0)
"""


@pytest.fixture
def evil(tmp_path):
    folder = tmp_path / "dir\x1b]0;TITLE\x07"
    folder.mkdir()
    path = folder / "odd\x1b]0;TITLE\x07\u202e.py"
    path.write_text(SCRIPT.format(raw="\x1b]0;TITLE\x07 \u202e \x9b31m"), encoding="utf-8")
    return str(path)


def harmful(out: bytes) -> list[str]:
    text = out.decode("utf-8", "replace")
    return re.findall("\x1b\\](?!22;)[0-9]+;[^\x07\x1b]*|\x1b\\[2J|[\x80-\x9f\u202a-\u202e\u2066-\u2069]", text)


def test_check_writes_none(evil: str) -> None:
    """Its own text, that is: what the script prints is the script's."""
    for more in ((), ("--json",)):
        command = [sys.executable, "-m", "uneven_sum", "check", *more, evil]
        done = subprocess.run(command, capture_output=True)
        own = done.stdout if more else done.stderr
        assert b"ValueError" in own
        assert not harmful(own)
    missing = subprocess.run([*command[:4], evil + "\x1b]0;TITLE\x07"], capture_output=True)
    assert missing.returncode == 2 and not harmful(missing.stderr)


def test_the_bench_draws_none(evil: str) -> None:
    pid, fd = pty.fork()
    if pid == 0:
        os.environ.update(TERM="xterm-256color")
        os.execv(sys.executable, [sys.executable, "-m", "uneven_sum", "run", evil])
    fcntl.ioctl(fd, termios.TIOCSWINSZ, struct.pack("HHHH", 42, 140, 0, 0))
    out = bytearray()

    def read_until(text: bytes, seconds: float = 60) -> None:
        end = time.monotonic() + seconds
        while text not in out:
            assert time.monotonic() < end, text
            if select.select([fd], [], [], 0.1)[0]:
                out.extend(os.read(fd, 1 << 16))

    try:
        read_until(b"ValueError")
        for keys, text in ((b"d", b"out "), (b"\x1b", b""), (b"?", b"keys"), (b"\x1b", b"")):
            os.write(fd, keys)
            if text:
                read_until(text)
        os.write(fd, b"c")
        end = time.monotonic() + 3
        while time.monotonic() < end:
            if select.select([fd], [], [], 0.1)[0]:
                out.extend(os.read(fd, 1 << 16))
    finally:
        os.kill(pid, 9)
        os.close(fd)
        os.waitpid(pid, 0)
    assert not harmful(bytes(out))
