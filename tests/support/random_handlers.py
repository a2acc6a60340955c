"""Random scripts in which errors are raised, handled, raised again and replaced, in calls of theirs and of a library."""

from __future__ import annotations

import random

KINDS = ("ValueError", "KeyError", "ZeroDivisionError", "ArithmeticError", "LookupError", "Exception")
RAISED = ("1 / 0", "{}['gauge']", "float('level')", "[][3]")

MANAGERS = """
import contextlib


@contextlib.contextmanager
def ignoring(kind):
    try:
        yield
    except kind:
        pass


@contextlib.contextmanager
def noting(kind):
    try:
        yield kind
    except LookupError:
        raise
    finally:
        str(kind)


class Quiet:
    def __init__(self, kind):
        self.kind = kind

    def __enter__(self):
        return self

    def __exit__(self, kind, error, traceback):
        return kind is not None and issubclass(kind, self.kind)


class Open(Quiet):
    def __exit__(self, kind, error, traceback):
        self.kind = None


"""
LIBRARY = """
import contextlib


def call(work):
    return work()


def guarded(work):
    try:
        try:
            return work()
        except KeyError:
            return 0
    except ArithmeticError:
        return 1


def quiet(work):
    with open("/dev/null"), contextlib.suppress(LookupError):
        return work()


def again(work):
    try:
        return work()
    except ValueError:
        raise
    finally:
        len("x")
"""


def _handler(rng: random.Random, name: str) -> str:
    ends = ["pass", "pass", "pass", "raise", f"raise {rng.choice(KINDS)}('new') from None"]
    return f"    except {name}:\n        {rng.choice(ends)}\n"


def _function(rng: random.Random, number: int) -> str:
    inner = rng.choice(RAISED) if number == 0 else f"step{rng.randrange(number)}({rng.choice(['k', 'k', 'k - 1'])})"
    if rng.random() < 0.35:
        inner = f"library.{rng.choice(['call', 'guarded', 'quiet', 'again'])}(lambda: {inner})"
    if rng.random() < 0.2:
        inner = f"[{inner} for _ in range(1)]"
    if rng.random() < 0.2:
        inner = f"list({inner} for _ in range(1))"
    within = ""
    if rng.random() < 0.4:
        within = f"with {rng.choice(['ignoring', 'noting', 'Quiet', 'Open'])}({rng.choice(KINDS)}):\n"
    lines = f"def step{number}(k):\n    if k < 1:\n        return 0\n"
    if rng.random() < 0.5:
        names = rng.sample(KINDS, rng.randint(1, 2))
        body = f"        {within}            x = {inner}\n" if within else f"        x = {inner}\n"
        lines += f"    try:\n{body}" + "".join(_handler(rng, n) for n in names)
        lines += "    finally:\n        k += 1\n" if rng.random() < 0.3 else ""
    else:
        lines += f"    {within}        x = {inner}\n" if within else f"    x = {inner}\n"
    return lines + "    return k\n\n\n"


def script(seed: int, folder: str) -> str:
    """`folder`: where `library.py` is, outside of the user's code."""
    rng = random.Random(seed)
    functions = rng.randint(2, 5)
    text = f"import sys\nsys.path.insert(0, {folder!r})\nimport library\n\n{MANAGERS}"
    text += "".join(_function(rng, n) for n in range(functions))
    for _ in range(rng.randint(2, 6)):
        call = f"step{rng.randrange(functions)}({rng.randint(1, 2)})"
        if rng.random() < 0.6:
            text += f"try:\n    {call}\nexcept {rng.choice(KINDS)}:\n    pass\n"
        elif rng.random() < 0.4:
            text += f"for n in range(3):\n    try:\n        {call}\n    except {rng.choice(KINDS)}:\n        continue\n"
        else:
            text += f"{call}\n"
    return text
