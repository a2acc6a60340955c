"""What ends a process at once, starts another one or writes a file: the host hears of it before it happens."""

from __future__ import annotations

import contextlib
import importlib
import os
import sys
import time
from typing import TYPE_CHECKING, Any

from ..core import run_state
from ..core.transport import Closed
from ..frames import other_compilers, stack
from ..probes import run_texts
from ..reload import pickled_code, test_modules
from ..source import plain_code, registry
from ..trials import process_resources
from . import audited
from .children import ANSWER, asking, process_name

if TYPE_CHECKING:
    from .engine import Engine

STARTING = ("os.fork", "os.forkpty", "os.posix_spawn", "subprocess.Popen")
KILLS = ("os.kill", "os.killpg")
UNHEARD = {"sys._getframe", "builtins.id"}  # the usual ones; our own probes cause most
FATAL = (*KILLS, "signal.pthread_kill", "ctypes.string_at", "ctypes.wstring_at", "ctypes.memmove", "ctypes.memset")


def watch(engine: Engine) -> None:
    """Tells the host where the script is just before it does what may end it at once."""
    last = 0.0
    modules = sys.modules

    def leaving(how: str) -> None:
        nonlocal last
        now = time.monotonic()
        if run_state.quiet or run_state.in_trial or now - last < 0.02:
            return
        last = now
        frame = stack.user_frame(sys._getframe(1))
        if frame is not None:
            facts = {"file": registry.path_of(frame), "line": stack.line_of(frame), "process": process_name(engine)}
            try:
                engine.wire.event("unevenSum/at", {**facts, "function": stack.function_name(frame), "how": how})
            except Closed:
                pass

    def kills(pid: int, number: int, group: bool) -> None:
        if number and (group or pid != os.getpid()):
            with contextlib.suppress(Closed), asking(engine):
                waits = engine.audit is not None  # for what the process has found
                engine.wire.event("unevenSum/kills", {"pid": pid, "group": group, "waits": waits})
                if waits:
                    engine.wire.answer("unevenSum/killsNow", ANSWER)

    def starting() -> None:
        engine.started = True
        test_modules.tell_of_workers(engine.loader)
        try:
            engine.wire.event("unevenSum/starts", {"event": "process"})
        except Closed:
            pass

    def hook(event: str, args: tuple[Any, ...]) -> None:
        if event in UNHEARD:
            return
        if event == "import" and args[0] == "runpy" and "runpy" not in modules:
            with contextlib.suppress(Exception):  # the script's own import says why
                importlib.import_module("runpy")  # from its import to its use there may be no other event
                run_texts.watch_runpy()
        if plain_code.seen != len(modules):
            plain_code.look()
            test_modules.look(engine.loader)
            pickled_code.look(engine.loader)
            if "runpy" in modules:
                run_texts.watch_runpy()
        if event == "compile" and not run_state.quiet:
            run_texts.compiled(*args)
        elif event == "object.__getattr__" and args[1] == "__code__":
            if not run_state.quiet:
                plain_code.look()
            other_compilers.asked(args[0], sys._getframe(1))
        if event in FATAL:
            if event in KILLS and not run_state.in_trial and (engine.audit is not None or not run_state.quiet):
                kills(args[0], args[1], event == "os.killpg")
            leaving(event)
        elif event in STARTING and not run_state.own_fork and not run_state.in_trial and not run_state.quiet:
            starting()
        elif event in process_resources.WRITING and not run_state.in_trial and not run_state.quiet:
            process_resources.note_written(event, args)

    sys.addaudithook(hook)
    plain_code.install()
    for name in ("_exit", "abort"):
        setattr(os, name, _telling(engine, getattr(os, name), leaving))


def _telling(engine: Engine, original: Any, leaving: Any) -> object:
    def call(*args: object, **named: object) -> object:
        leaving(f"os.{original.__name__}")
        if engine.audit is not None:
            audited.before_exit(engine)
        return original(*args, **named)

    call.__name__, call.__qualname__, call.__doc__ = original.__name__, original.__qualname__, original.__doc__
    call.__module__ = original.__module__
    return call
