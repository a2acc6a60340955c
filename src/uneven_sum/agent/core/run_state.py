"""Flags of the run.  They are module variables because the probes read them on every slow path."""

from __future__ import annotations

import contextlib
import gc
import os
import sys
import warnings
from collections.abc import Callable, Iterator
from typing import Any

quiet = False  # no probe does anything: a pause is under way, or the run continues without lookouts
in_trial = False  # this process is a trial's copy
paused = 0.0  # seconds in pauses so far
met = 0  # non-finite values that the user's own code has judged so far

fork: Callable[[], int] = getattr(os, "fork", lambda: -1)  # how this process makes a copy of itself
cancelled: Callable[[], bool] = bool  # the host has given the request under way up
host_fd = -1
own_fork = False  # the fork under way is the agent's


@contextlib.contextmanager
def silenced(action: str = "ignore") -> Iterator[None]:
    """No warning is shown; with `error` each is raised.

    `warnings.catch_warnings` would make every module forget which warnings it has shown already; the
    script would see them again.
    """
    # The interpreter asks the module that is imported as `warnings` just now: a script may have put another there.
    present: object = sys.modules.get("warnings")
    modules: list[Any] = [warnings] if present is warnings or not hasattr(present, "filters") else [warnings, present]
    kept = [(module, module.filters) for module in modules]
    for module, _ in kept:
        module.filters = [(action, None, Warning, None, 0)]
    try:
        yield
    finally:
        for module, filters in kept:
            module.filters = filters


@contextlib.contextmanager
def no_collection() -> Iterator[None]:
    """Holds the garbage collector back: syntax nodes by the million are no garbage."""
    was_on = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was_on:
            gc.enable()
