"""Processes of the same interpreter that the script starts anew: they load the agent, too.

Watched are the children of `multiprocessing` (`spawn`, and the server of `forkserver`), of joblib, and files and
modules of the user's.  Their command line begins them by `boot.py`; all else of it stays, and nothing is put into the
environment, which their own children inherit.
"""

from __future__ import annotations

import fcntl
import functools
import json
import os
import sys
from typing import TYPE_CHECKING, Any

from ..core import identity, run_state
from ..pause import headline

if TYPE_CHECKING:
    from .engine import Engine

FLAGS = set("bBdEIOPqsSuv")  # options of the interpreter without a value
TEXTS = {
    "multiprocessing.spawn import spawn_main": "spawned process",
    "multiprocessing.forkserver import": "forkserver",
}
MODULES = {"loky.backend.popen_loky_posix": "loky worker"}
CWD, USER, BEFORE = 2, 17, 19  # arguments of `fork_exec` behind the first two: folder, user, `preexec_fn`
LONGEST = 100_000  # characters: the kernel takes 128 KiB as one argument


def watch(engine: Engine) -> None:
    """From now on, what starts a process of this interpreter starts it with the agent."""
    import _posixsubprocess

    def with_agent(args: object, executables: object, cwd: object, other_user: bool = False) -> Any:
        try:
            if run_state.quiet or run_state.in_trial or engine.gone:
                return args
            if (other_user or os.geteuid() != user) and not readable_by_all():
                return args
            return _with_agent(engine, args, executables, cwd) or args
        except Exception:
            return args  # it starts as the script wants it

    original, spawn = _posixsubprocess.fork_exec, os.posix_spawn
    user = os.geteuid()

    @functools.wraps(original)
    def fork_exec(args: object, executables: Any, *rest: Any) -> Any:
        cwd = rest[CWD] if len(rest) > CWD else None
        other_user = any(rest[at] is not None for at in (USER, BEFORE) if at < len(rest))
        return original(with_agent(args, executables, cwd, other_user), executables, *rest)

    @functools.wraps(spawn)
    def posix_spawn(path: Any, argv: object, *rest: Any, **named: Any) -> Any:
        return spawn(path, with_agent(argv, [path], None), *rest, **named)

    _posixsubprocess.fork_exec = fork_exec
    os.posix_spawn = posix_spawn
    subprocess = sys.modules.get("subprocess")
    if subprocess is not None and getattr(subprocess, "_fork_exec", None) is original:
        subprocess.__dict__["_fork_exec"] = fork_exec


@functools.cache
def readable_by_all() -> bool:
    """Whether any user of the machine can read the agent: a process that becomes another user's could not begin."""
    path = identity.FOLDER.rstrip(os.sep)
    able = bool(os.stat(os.path.join(path, "boot.py")).st_mode & 0o004)
    while able and os.path.dirname(path) != path:
        able = bool(os.stat(path).st_mode & 0o001)
        path = os.path.dirname(path)
    return able


def _with_agent(engine: Engine, args: Any, executables: Any, cwd: Any) -> list[object] | None:
    """The arguments that begin a process with the agent; None where it is none of those that are watched."""
    words = [os.fsdecode(a) for a in args]
    program = next((e for e in map(os.fsdecode, executables) if os.access(e, os.X_OK)), "")
    if not program or not sys.executable or not os.path.samefile(program, sys.executable):
        return None
    found = taken_apart(words)
    if found is None:
        return None
    flags, mode, what, rest = found
    name = _name(engine, mode, what, os.fsdecode(cwd) if cwd is not None else os.getcwd())
    if not name:
        return None
    told = {
        **{"socket": engine.launch["children"], "name": name, "mode": mode, "what": what, "args": rest},
        **{"words": words, "folders": engine.loader.folders, "main": headline.Main.path},
    }
    engine.started = True
    text = json.dumps(told)
    return [args[0], *flags, os.path.join(identity.FOLDER, "boot.py"), "anew", text] if len(text) < LONGEST else None


def taken_apart(words: list[str]) -> tuple[list[str], str, str, list[str]] | None:
    """A command line of the interpreter: its options, `c`, `m` or `file`, what that runs, and its arguments.  None
    where it runs something else, or is written in another way."""
    at = 1
    while at < len(words):
        word = words[at]
        if word in ("-c", "-m"):
            return (words[1:at], word[1], words[at + 1], words[at + 2 :]) if at + 1 < len(words) else None
        if word in ("-X", "-W", "--check-hash-based-pycs"):
            at += 2
        elif word.startswith(("-X", "-W")) or (len(word) > 1 and word[0] == "-" and set(word[1:]) <= FLAGS):
            at += 1
        elif word.startswith("-"):
            return None
        else:
            return words[1:at], "file", word, words[at + 1 :]
    return None


def _name(engine: Engine, mode: str, what: str, folder: str) -> str:
    """What people call such a process; empty where it is not watched."""
    if mode == "c":
        return next((name for text, name in TEXTS.items() if text in what), "")
    if mode == "m":
        for module, name in MODULES.items():
            if what.endswith(module):
                return name
        base = os.path.join(folder, *what.split("."))
        paths = [base + ".py", os.path.join(base, "__main__.py")]
    else:
        paths = [os.path.join(folder, what)]
    users = any(os.path.isfile(path) and engine.loader.is_users(path) for path in paths)
    return os.path.basename(what) if users else ""


def out_of_the_way(fd: int) -> int:
    """A file descriptor under a high number: the low ones are the script's."""
    try:
        high = fcntl.fcntl(fd, fcntl.F_DUPFD_CLOEXEC, 500)
    except OSError:
        return fd
    os.close(fd)
    return high
