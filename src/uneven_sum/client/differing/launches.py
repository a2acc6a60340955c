"""What two runs differ in, as it is given: one value for both, or one for each."""

from __future__ import annotations

import shlex
from collections.abc import Sequence
from typing import Any

from ...host.launch import BadUse, Launch
from .stored import Stored, is_stored


def pair_of_launches(
    script: str,
    other: str | None,
    twice: bool,
    python: Sequence[str] = (),
    args: Sequence[str] = (),
    env: Sequence[str] = (),
    cwd: Sequence[str] = (),
    module: bool = False,
    **_: object,
) -> tuple[Launch | Stored, Launch | Stored]:
    """The two runs.  BadUse where nothing is to be compared, or a value is given too often."""
    pythons, words, folders = _pair(python, "--python"), _pair(args, "--args"), _pair(cwd, "--cwd")
    variables = _variables(env)
    differ = any(a != b for a, b in (pythons, words, folders)) or variables[0] != variables[1]
    if twice and (other is not None or differ):
        raise BadUse("--twice is for one script, run alike both times.")
    if other is None and not twice and not differ:
        raise BadUse("What is to be compared? Give another script, two of --python, --args, --env, --cwd, or --twice.")

    def launch(program: str, side: int) -> Launch | Stored:
        if is_stored(program):
            return Stored.open(program)
        return Launch(
            program,
            _words(words[side] or ""),
            as_module=module,
            python=pythons[side],
            cwd=folders[side],
            env=variables[side],
        )

    return launch(script, 0), launch(other or script, 1)


def is_alone(script: str, other: str | None, twice: bool, **options: Sequence[str]) -> bool:
    """Whether there is one run only: one script, and not two of anything.  BadUse as `pair_of_launches`."""
    if other is not None or twice:
        return False
    pairs = [options[n] for n in ("python", "args", "cwd")]
    names = [text.partition("=")[0] for text in options["env"]]
    return all(len(set(given)) < 2 for given in pairs) and len(set(names)) == len(names)


def one_launch(script: str, **options: Any) -> Launch:
    """The run of a script that is stored.  BadUse where it is stored already."""
    if is_stored(script):
        raise BadUse(f"{script} is a stored run already. Give a script.")
    launch = pair_of_launches(script, script, False, **options)[0]
    assert isinstance(launch, Launch)
    return launch


def _words(text: str) -> list[str]:
    try:
        return shlex.split(text)
    except ValueError as e:
        raise BadUse(f"--args {text!r} cannot be split into words: {e}.") from None


def _pair(given: Sequence[str], option: str) -> tuple[str | None, str | None]:
    """One for each run; the same where one was given."""
    if len(given) > 2:
        raise BadUse(f"{option} is given once for both runs, or twice.")
    return (given[0], given[-1]) if given else (None, None)


def _variables(given: Sequence[str]) -> tuple[dict[str, str], dict[str, str]]:
    values: dict[str, list[str]] = {}
    for text in given:
        name, equals, value = text.partition("=")
        if not equals or not name:
            raise BadUse(f"--env takes NAME=VALUE, not {text!r}.")
        values.setdefault(name, []).append(value)
    if wrong := next((n for n, v in values.items() if len(v) > 2), None):
        raise BadUse(f"--env {wrong} is given once for both runs, or twice.")
    return {n: v[0] for n, v in values.items()}, {n: v[-1] for n, v in values.items()}
