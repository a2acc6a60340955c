"""Ends a script together with everything that descends from it.

Run as a program, `python descendants.py MARK SESSION`, it is the warden: it waits until its standard input closes,
which happens at the latest when the host dies, and then ends what is left of the run, unless it has read `bye`.

A process belongs to a run if the run's mark is in the environment that it, or an ancestor that it was forked
from, was started with; if its parent belongs to it; or if it was seen to while its parent was alive.  A process in a
session of its own (a daemon) is meant to outlive the script: it is left.
"""

from __future__ import annotations

import contextlib
import os
import signal
import sys
import time
from dataclasses import dataclass, field

MARK = "UNEVEN_SUM_RUN"  # the name of the environment variable; the agent removes it before the script runs


@dataclass(frozen=True)
class Process:
    """One line of the process table.  `begun`: clock ticks since the machine's start; distinguishes reused numbers."""

    pid: int
    parent: int
    session: int
    begun: int
    state: str
    name: str


def process(pid: int) -> Process | None:
    try:
        with open(f"/proc/{pid}/stat") as f:
            text = f.read()
    except OSError:
        return None
    name = text[text.find("(") + 1 : text.rfind(")")]
    words = text[text.rfind(")") + 2 :].split()
    return Process(pid, int(words[1]), int(words[3]), int(words[19]), words[0], name)


def processes() -> dict[int, Process]:
    found = (process(int(name)) for name in os.listdir("/proc") if name.isdigit())
    return {p.pid: p for p in found if p is not None}


def children(pid: int) -> list[int]:
    """The children of all threads of a process; empty where the system does not list them."""
    found: list[int] = []
    with contextlib.suppress(OSError, ValueError):
        for task in os.listdir(f"/proc/{pid}/task"):
            with open(f"/proc/{pid}/task/{task}/children") as f:
                found += [int(word) for word in f.read().split()]
    return found


def below(pid: int) -> dict[int, int]:
    """The processes below one, each with the time when it began."""
    found: dict[int, int] = {}
    todo = [pid]
    while todo:
        for child in children(todo.pop()):
            one = process(child)
            if one is not None and child not in found:
                found[child] = one.begun
                todo.append(child)
    return found


def _is_marked(pid: int, mark: str) -> bool:
    try:
        with open(f"/proc/{pid}/environ", "rb") as f:
            return f"{MARK}={mark}".encode() in f.read().split(b"\0")
    except OSError:
        return False


@dataclass
class Family:
    """The processes of one run.  `seen`: those that were seen below the script, with the time when they began.
    `spared`: processes that do not belong to it, nor does what they start."""

    mark: str
    session: int  # of the script
    seen: dict[int, int] = field(default_factory=dict)
    spared: frozenset[int] = frozenset()

    def look(self, pid: int) -> None:
        """Note what is below a process now."""
        self.seen.update(below(pid))

    def members(self) -> tuple[list[Process], list[Process]]:
        """The living members, and those of them that are in a session of their own."""
        table = processes()
        found = {p for p, begun in self.seen.items() if p in table and table[p].begun == begun}
        found |= {p for p in table if self.mark and _is_marked(p, self.mark)}
        found -= self.spared
        size = 0
        while size != len(found):
            size = len(found)
            found |= {p.pid for p in table.values() if p.parent in found} - self.spared
        alive = [table[p] for p in sorted(found - {os.getpid()}) if table[p].state not in "ZX"]
        return [p for p in alive if p.session == self.session], [p for p in alive if p.session != self.session]

    def freeze(self) -> None:
        """Stop what was seen below the script: none shall answer to the end of another with a traceback."""
        for pid, begun in self.seen.items():
            one = process(pid)
            if one is not None and one.begun == begun and one.session == self.session and pid not in self.spared:
                with contextlib.suppress(ProcessLookupError, PermissionError):
                    os.kill(pid, signal.SIGSTOP)

    def end(self) -> list[Process]:
        """Kill all members; those that are left, since they are in a session of their own."""
        left: list[Process] = []
        for _ in range(50):
            members, left = self.members()
            if not members:
                break
            for one in members:
                self.seen[one.pid] = one.begun
                with contextlib.suppress(ProcessLookupError, PermissionError):
                    os.kill(one.pid, signal.SIGKILL)
            time.sleep(0.002)
        return left


def main() -> None:
    for number in (signal.SIGHUP, signal.SIGINT, signal.SIGTERM, signal.SIGQUIT):
        signal.signal(number, signal.SIG_IGN)
    family = Family(sys.argv[1], int(sys.argv[2]))
    for line in sys.stdin:
        if line.strip() == "bye":
            return
        with contextlib.suppress(ValueError):
            pid, begun = map(int, line.split())
            family.seen[pid] = begun
    family.end()


if __name__ == "__main__":
    main()
