"""How a case is to be run, as a person types it; and the cases that were run before."""

from __future__ import annotations

import os
import shlex
import time
from pathlib import Path

import msgspec
from platformdirs import user_state_path

from ..host.launch import BadUse, Launch, inspect_script
from ..protocol.trips import PAUSES, TRIPS
from ..state_files import write_private

MOST = 40  # recent cases that are kept
NEAR = (".venv", "venv", "env", ".env")


class WrongField(Exception):
    """An entry that cannot be: which, and why."""

    def __init__(self, field: str, text: str) -> None:
        super().__init__(text)
        self.field = field


class Setup(msgspec.Struct):
    """The entries of one case, as texts.  `when` (seconds since 1970) and `ended` are of its last run."""

    program: str
    args: str = ""
    python: str = ""
    cwd: str = ""
    env: str = ""
    module: bool = False
    pause_on: str = "error, warning, nonfinite"
    stdin: str = ""
    when: float = 0.0
    ended: str = ""

    def launch(self) -> Launch:
        """Everything that its run depends on.  WrongField when an entry cannot be."""
        try:
            args = shlex.split(self.args)
        except ValueError as e:
            raise WrongField("args", f"a quote is not closed: {e}") from None
        env = {}
        for pair in _split(self.env, "env"):
            name, equals, value = pair.partition("=")
            if not equals or not name.isidentifier():
                raise WrongField("env", f"each is NAME=VALUE, not {pair!r}")
            env[name] = value
        trips = {w.strip() for w in self.pause_on.replace(",", " ").split()}
        wrong = sorted(trips - set(PAUSES))
        if wrong:
            raise WrongField("pause_on", f"{wrong[0]!r} is none of {', '.join(PAUSES)}")
        cwd = _path(self.cwd)
        if cwd is not None and not os.path.isdir(cwd):
            raise WrongField("cwd", f"there is no folder {self.cwd}")
        stdin = _path(self.stdin)
        if stdin is not None and not os.path.isfile(stdin):
            raise WrongField("stdin", f"there is no file {self.stdin}")
        python = _path(self.python) if os.sep in self.python else self.python.strip() or None
        if python is not None and os.sep in python and not os.path.exists(python):
            raise WrongField("python", f"there is no interpreter {self.python}")
        made = Launch(
            self.program, args, as_module=self.module, python=python, cwd=cwd, env=env, pause_on=trips, stdin_file=stdin
        )
        made.pause_on_given = trips != set(TRIPS)
        try:
            inspect_script(made)
        except BadUse as e:
            raise WrongField("program", str(e)) from None
        return made

    @property
    def key(self) -> tuple[str, bool]:
        return (self.program if self.module else os.path.realpath(self.program), self.module)


def _split(text: str, field: str) -> list[str]:
    try:
        return shlex.split(text)
    except ValueError as e:
        raise WrongField(field, f"a quote is not closed: {e}") from None


def _path(text: str) -> str | None:
    return os.path.abspath(os.path.expanduser(text.strip())) if text.strip() else None


def of_launch(launch: Launch) -> Setup:
    """The entries that a launch stands for."""
    program = launch.program if launch.as_module else os.path.abspath(os.path.join(launch.cwd or "", launch.program))
    return Setup(
        program,
        shlex.join(launch.args),
        launch.python or "",
        launch.cwd or "",
        shlex.join(f"{n}={v}" for n, v in launch.env.items()),
        launch.as_module,
        ", ".join(t for t in PAUSES if t in launch.pause_on),
        launch.stdin_file or "",
    )


def interpreters_near(script: str) -> list[str]:
    """Virtual environments beside a script and in the folders above it, and the active one."""
    found = [os.environ["VIRTUAL_ENV"]] if os.environ.get("VIRTUAL_ENV") else []
    folder = Path(script).resolve().parent
    for place in (folder, *folder.parents[:4]):
        found += [str(place / name) for name in NEAR]
    pythons = [os.path.join(f, "bin", "python") for f in dict.fromkeys(found)]
    return [p for p in pythons if os.access(p, os.X_OK)]


# -- recent cases ------------------------------------------------------------------------------------


def _store() -> Path:
    return user_state_path("uneven-sum") / "recent.json"


def recent() -> list[Setup]:
    """The cases of before, the latest first; none where they cannot be read."""
    try:
        return msgspec.json.decode(_store().read_bytes(), type=list[Setup])
    except (OSError, msgspec.MsgspecError):
        return []


def remember(setup: Setup, ended: str) -> None:
    """A case was run, and how it ended; where that cannot be kept it is lost, nothing else."""
    setup.when, setup.ended = time.time(), ended
    kept = [setup, *(s for s in recent() if s.key != setup.key)][:MOST]
    path = _store()
    try:
        write_private(path, msgspec.json.format(msgspec.json.encode(kept), indent=1))
    except OSError:
        return


def ago(when: float, now: float | None = None) -> str:
    """`3 min ago`, `yesterday`, `12 days ago`."""
    seconds = max(0.0, (time.time() if now is None else now) - when)
    for size, word in ((86_400, "day"), (3_600, "h"), (60, "min")):
        count = int(seconds // size)
        if count:
            if word == "day":
                return "yesterday" if count == 1 else f"{count} days ago"
            return f"{count} {word} ago"
    return "just now"
