"""Which errors count as handled: what handlers raise in their place, tasks and futures."""

from __future__ import annotations

import os

import pytest
import random_handlers
from driving import running

HANDLED = """
import asyncio
import functools
import sys
from concurrent.futures import ThreadPoolExecutor, as_completed


def renamed(d):
    try:
        return d["k"]
    except KeyError as e:
        raise ValueError("no k") from e


try:
    renamed({})
except ValueError:
    print("renamed")


class Gauge:
    def __init__(self):
        self.held = {"x": 1}

    def __getattr__(self, name):
        try:
            return self.__dict__["held"][name]
        except KeyError:
            raise AttributeError(name)


class Other(Gauge):
    def find(self, name):
        if name not in self.__dict__["held"]:
            raise AttributeError(name)

    def __getattr__(self, name):
        return self.find(name)


print(hasattr(Gauge(), "y"), getattr(Gauge(), "z", 3), hasattr(Other(), "q"), getattr(Other(), "w", 7))


def logged():
    try:
        1 / 0
    except ZeroDivisionError:
        print("logged")
        raise


try:
    logged()
except ArithmeticError:
    print("again")


def wrapped(f):
    try:
        return f()
    except Exception as e:
        new = RuntimeError("wrapped")
        raise new from e


try:
    wrapped(lambda: 1 / 0)
except RuntimeError:
    print("wrapped")


class Source:
    Gap = ZeroDivisionError

    def __init__(self):
        self.Lost = LookupError

    def read(self):
        try:
            return {}["k"]
        except self.Lost:
            try:
                return 1 / 0
            except self.Gap:
                return "read"


print(Source().read())


async def bad(k):
    await asyncio.sleep(0.001)
    return 1 / k


async def tasks():
    print([type(r).__name__ for r in await asyncio.gather(bad(0), bad(1), return_exceptions=True)])
    task = asyncio.create_task(bad(0))
    try:
        await task
    except ZeroDivisionError:
        print("task")
    try:
        await asyncio.gather(bad(0), bad(2))
    except ZeroDivisionError:
        print("gather")
    try:
        async with asyncio.TaskGroup() as group:
            group.create_task(bad(0))
    except* ZeroDivisionError:
        print("group")
    try:
        await asyncio.wait_for(bad(0), 2)
    except ArithmeticError:
        print("wait_for")


asyncio.run(tasks())


def work(k):
    return 1 / k


with ThreadPoolExecutor(2) as pool:
    for future in as_completed([pool.submit(work, 0)]):
        try:
            print(future.result())
        except ZeroDivisionError:
            print("future")


def usage():
    try:
        return [][1]
    except IndexError:
        print("usage")
        raise SystemExit(2)


usage()
"""


async def test_what_is_handled_a_moment_later_does_not_pause(script, interpreter: str) -> None:
    async with running(script(HANDLED), python=interpreter) as run:
        assert await run.pause() is None
    assert not run.trouble
    assert run.exited is not None and run.exited.exit_status == 2
    assert run.out.split() == [
        "renamed",
        "False",
        "3",
        "False",
        "7",
        "logged",
        "again",
        "wrapped",
        "read",
        "['ZeroDivisionError',",
        "'float']",
        "task",
        "gather",
        "group",
        "wait_for",
        "future",
        "usage",
    ]


LIBRARY = """
import contextlib


def nested(call):
    try:
        try:
            call()
        except KeyError:
            pass
        finally:
            print("nested")
    except ZeroDivisionError:
        print("handled")


def suppressed(call):
    with open("/dev/null") as _, contextlib.suppress(ArithmeticError):
        call()
    print("suppressed")


def second(call):
    try:
        call()
    except KeyError:
        raise ZeroDivisionError from None  # the class is named here, and not handled
    except ValueError:
        pass
"""


async def test_what_a_library_handles_further_out_does_not_pause(script, interpreter: str) -> None:
    folder = os.path.dirname(script(LIBRARY, "site-packages/gauges.py"))
    text = f"import sys\nsys.path.insert(0, {folder!r})\nimport gauges\n\n\ndef work():\n    return 1 / 0\n\n\n"
    calls = "gauges.nested(work)\ngauges.suppressed(work)\ngauges.second(work)\n"
    async with running(script(text + calls), python=interpreter) as run:
        facts = await run.pause()
        assert (facts.reason, facts.line) == ("error", 7) and facts.trail[0].line == 12
        assert run.out.split() == ["nested", "handled", "suppressed"]


@pytest.mark.parametrize("seed", range(20))
async def test_a_script_pauses_for_an_error_if_and_only_if_it_dies_of_one(seed: int, script) -> None:
    folder = os.path.dirname(script(random_handlers.LIBRARY, "site-packages/library.py"))
    async with running(script(random_handlers.script(seed, folder)), go_on=True) as run:
        assert await run.pause() is None
    assert run.exited is not None
    assert (len(run.trips) > 0) is (run.exited.exit_status != 0), [t.headline for t in run.trips] or run.err


WITHIN = """
import contextlib


def level(k):
    return 1 / k


with ignoring(ZeroDivisionError):
    level(0)
with Quiet(ArithmeticError):
    level(0)
with contextlib.ExitStack() as stack:
    stack.enter_context(Quiet(ZeroDivisionError))
    level(0)


class Log:
    @contextlib.contextmanager
    def without(self, kind):
        try:
            yield
        except kind:
            pass

    def read(self):
        with self.without(ZeroDivisionError):
            level(0)


Log().read()


def last():
    with {manager} as held:
        before = 1
        level(0)
        after = 2


last()
"""


@pytest.mark.parametrize(
    "manager",
    [
        *("ignoring(KeyError)", "noting(ZeroDivisionError)", "Open(ZeroDivisionError)", "open('/dev/null')"),
        "Quiet(KeyError)",  # its `__exit__` has run: it could have returned true
    ],
)
async def test_context_managers_that_swallow_errors_and_those_that_do_not(manager: str, script) -> None:
    text = random_handlers.MANAGERS.strip() + WITHIN.replace("{manager}", manager)
    above = random_handlers.MANAGERS.strip().count("\n")
    async with running(script(text)) as run:
        facts = await run.pause()
        assert (facts.reason, facts.line - above, facts.culprit.text) == ("error", 6, "1 / k")
        assert [call.line - above for call in facts.trail] == [41, 37, 6]
        assert await run.ask("k") == "0" and await run.ask("before", 2) == "1"


SECOND = """
def f(k):
    return 1 / k


def g(k):
    try:
        f(k)
    except ZeroDivisionError:
        pass


for n in range(3):
    g(0)
f(0)
"""


async def test_an_error_pauses_although_one_like_it_was_handled(script, interpreter: str) -> None:
    async with running(script(SECOND), python=interpreter) as run:
        facts = await run.pause()
        assert (facts.reason, facts.line, facts.trail[0].line) == ("error", 3, 15)


UNHANDLED = {
    "renamed": (
        "def f(d):\n    try:\n        return d['k']\n    except KeyError:\n        raise ValueError('no')\nf({})\n",
        3,
    ),
    "other class": (
        "def f():\n    try:\n        1 / 0\n    except ZeroDivisionError:\n        raise KeyError\n"
        "try:\n    f()\nexcept ValueError:\n    pass\n",
        3,
    ),
    "task": (
        "import asyncio\nasync def bad():\n    return 1 / 0\nasync def main():\n    t = asyncio.create_task(bad())\n"
        "    await asyncio.sleep(0.01)\n    await t\nasyncio.run(main())\n",
        3,
    ),
    "future": (
        "from concurrent.futures import ThreadPoolExecutor\ndef work(k):\n    return 1 / k\n"
        "with ThreadPoolExecutor(1) as pool:\n    print(list(pool.map(work, [0])))\n",
        3,
    ),
}


@pytest.mark.parametrize("name", UNHANDLED)
async def test_what_nothing_handles_pauses_where_it_was_raised(name: str, script, interpreter: str) -> None:
    text, line = UNHANDLED[name]
    async with running(script(text), python=interpreter) as run:
        facts = await run.pause()
        assert (facts.reason, facts.line, facts.kind) == ("error", line, None)
        if name in ("task", "future"):
            assert f"The {name} keeps it until its result is asked for." in facts.headline


async def test_errors_pause_beside_except_star(script, interpreter: str) -> None:
    """A file with `except*` is watched as any other."""
    text = (
        "def f(x):\n    try:\n        raise ExceptionGroup('g', [ValueError()])\n    except* ValueError:\n"
        "        y = x\n        for k in range(2):\n            y += k\n    return 1 / (y - 1)\nprint(f(0))\n"
    )
    async with running(script(text), python=interpreter) as run:
        facts = await run.pause()
        assert (facts.reason, facts.line) == ("error", 8)


async def test_handled_as_the_only_filter(script) -> None:
    path = script("try:\n    {}['k']\nexcept KeyError:\n    pass\nx = [][1]\n")
    async with running(path, pause_on=set(), start={}) as run:
        pass
    async with running(path, pause_on={"start"}) as run:
        await run.pause()
        await run.client.session.request("setExceptionBreakpoints", {"filters": ["handled"]})
        facts = await run.step("on")
        assert (facts.line, facts.kind) == (2, "handled")
        assert await run.step("on") is None
