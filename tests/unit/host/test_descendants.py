"""Ending a run ends all that descends from it, but not the sleeping copy that is woken next."""

from __future__ import annotations

import os
import subprocess
import sys

from waiting import until

from uneven_sum.host.descendants import Family, below, process

TREE = """
import os, sys, time
if os.fork() == 0:
    if os.fork() == 0:
        print(os.getpid(), flush=True)
    time.sleep(600)
time.sleep(600)
"""


def is_alive(pid: int) -> bool:
    one = process(pid)
    return one is not None and one.state != "Z"


def test_a_sleeper_whose_parent_still_lives_is_spared() -> None:
    top = subprocess.Popen([sys.executable, "-c", TREE], stdout=subprocess.PIPE, text=True)
    assert top.stdout is not None
    sleeper = int(top.stdout.readline())
    seen = below(top.pid)
    assert len(seen) == 2 and sleeper in seen
    family = Family("", os.getsid(0), {**seen, top.pid: process(top.pid).begun}, frozenset({sleeper}))
    assert family.end() == []
    assert is_alive(sleeper) and top.wait() == -9
    (middle,) = set(seen) - {sleeper}
    assert until(lambda: not is_alive(middle))
    assert Family("", os.getsid(0), {sleeper: process(sleeper).begun}).end() == []
    assert until(lambda: not is_alive(sleeper))
