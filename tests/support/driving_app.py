"""Drives the application: in-process, and the program itself in tmux."""

from __future__ import annotations

import contextlib
import subprocess
import tempfile
import time
import uuid

from driving import slowness
from textual.pilot import Pilot, WaitForScreenTimeout

from uneven_sum.app.bench.screen import Bench

_wait = Pilot._wait_for_screen


async def _wait_anew(pilot: Pilot, timeout: float = 30.0) -> bool:
    """Waits in parts: a widget that is removed meanwhile never answers, and is not asked again."""
    for _ in range(3):
        with contextlib.suppress(WaitForScreenTimeout):
            return await _wait(pilot, timeout / 3 * slowness())
    return await _wait(pilot, timeout)


Pilot._wait_for_screen = _wait_anew


async def rest(pilot, seconds: float) -> None:
    """Waits in parts: how slow the machine is changes within a moment."""
    for _ in range(3):
        await pilot.pause(seconds / 3 * slowness())


async def settled(pilot, state: str, line: int | None = None) -> Bench:
    """Waits until the Bench is in a state (and at a line) with its cards shown."""
    for _ in range(2400):
        await pilot.pause(0.05)
        bench = pilot.app.screen_stack[1]
        if bench.state == state and (line is None or bench.facts and bench.facts.line == line):
            await rest(pilot, 0.2)
            return bench
    raise AssertionError(f"not {state} at {line}: {bench.facts}; {state_of(pilot.app)}")


async def until(pilot, true, seconds: float = 25):
    """Waits until it is true and the screen shown has its widgets."""
    for _ in range(int(seconds * 20)):
        await pilot.pause(0.05)
        if true() and pilot.app.screen.is_mounted:
            return
    raise AssertionError(f"it did not come about: {state_of(pilot.app)}")


def state_of(app) -> str:
    """What the application shows: its screen, the state of its run, its messages."""
    screen = app.screen
    said = [str(found.render()) for found in screen.query("#said, #wrong, Headline")]
    return f"{type(screen).__name__} {getattr(screen, 'state', '')}, focus {app.focused}, {said}, {list(app.messages)}"


class Terminal:
    """The program in a tmux of its own."""

    def __init__(self, command: str, columns: int = 140, rows: int = 42) -> None:
        self.socket = f"uneven-{uuid.uuid4().hex[:8]}"
        size = f"{columns}x{rows}"
        with tempfile.NamedTemporaryFile("w", suffix=".conf") as conf:
            conf.write(f"set -g default-size {size}\nset -g status off\n")
            conf.flush()
            self.tmux("-f", conf.name, "new-session", "-d", "-x", str(columns), "-y", str(rows), command)

    def tmux(self, *args: str) -> str:
        done = subprocess.run(["tmux", "-L", self.socket, *args], capture_output=True, text=True)
        return done.stdout

    def screen(self) -> str:
        return self.tmux("capture-pane", "-p")

    def keys(self, *keys: str) -> None:
        self.tmux("send-keys", *keys)

    def expect(self, text: str, seconds: float = 90) -> str:
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            shown = self.screen()
            if text in shown:
                return shown
            time.sleep(0.1 * slowness())
        raise AssertionError(f"{text!r} is not on the screen:\n{self.screen()}")

    def gone(self, text: str, seconds: float = 90) -> None:
        end = time.monotonic() + seconds
        while text in self.screen():
            assert time.monotonic() < end, f"{text!r} stays on the screen:\n{self.screen()}"
            time.sleep(0.1 * slowness())
        time.sleep(0.2 * slowness())

    def close(self) -> None:
        self.tmux("kill-server")
