"""How many passes a loop has made, whatever it goes over; and that nothing is kept alive by counting them."""

from __future__ import annotations

import ast
import gc
import sys
import types
import weakref
from typing import Any

import pytest

from uneven_sum.agent.frames import stack
from uneven_sum.agent.frames.exception_handlers import statement_at
from uneven_sum.agent.probes import runtime
from uneven_sum.agent.reload.loader import Loader
from uneven_sum.agent.source import registry
from uneven_sum.agent.source.sites import Options, Site
from uneven_sum.agent.source.source_file import SourceFile


class Passes(runtime.Listener):
    """Notes the loops around each trip, and has their passes counted in a second way."""

    def __init__(self) -> None:
        self.found: list[Any] = []

    def nonfinite(self, value: object, site: Site, frame: types.FrameType, old: object) -> Any:
        file = registry.file_of(frame)
        assert file is not None
        statement = statement_at(file, frame)
        assert statement is not None
        loops = stack.loops(frame, statement)
        counters = [stack.pass_counter(file, frame, loop) for loop in reversed(statement.loops)]
        assert [loop["pass"] for loop in loops] == [counter() for counter in counters if counter is not None]
        self.found.append([(loop["pass"], loop["of"]) for loop in loops])
        return value


def space_of(source: str) -> dict[str, Any]:
    loader = Loader(Options())
    code = loader.compile("/meters/work.py", source.encode())
    assert not loader.plain
    space: dict[str, Any] = {}
    exec(code, space)
    return space


def trips(source: str) -> list[Any]:
    kept, heard = runtime.listener, Passes()
    runtime.listener = heard
    try:
        space_of(source)["work"]()
    finally:
        runtime.listener = kept
        registry.files.clear()
    return heard.found


@pytest.mark.parametrize(
    ("over", "length"),
    [
        ("values", 4),
        ("tuple(values)", 4),
        ("values[:]", 4),
        ("range(4)", 4),
        ("enumerate(values)", 4),
        ("enumerate(tuple(values))", 4),
        ("enumerate(values, 5)", 4),
        ("zip(values, values)", 4),
        ("dict.fromkeys(values)", 4),
        ("'abcd'", 4),
        ("iter(values)", 4),
        ("(x for x in values)", None),
        ("enumerate(x for x in values)", None),
    ],
)
def test_passes_are_counted(over: str, length: int | None) -> None:
    source = f"def work():\n    values, k = [1, 2, 3, 4], 0\n    for x in {over}:\n        k += 1\n        if k > 2:\n"
    source += "            y = 1e308 * 10.0 ** k\n    for z in values: y = z * 1e308 * 10\n"
    assert trips(source) == [[(3, length)], [(4, length)], *([(n, 4)] for n in (1, 2, 3, 4))]


def test_a_list_that_grows_and_a_loop_in_a_loop() -> None:
    source = "def work():\n    grows = [1]\n    for x in grows:\n        if x < 3: grows.append(x + 1)\n"
    source += "        for n, z in enumerate(grows):\n            y = 10.0 ** z * 1e306\n"
    assert trips(source) == [[(3, 3), (2, 3)], [(3, 3), (3, 3)]]


@pytest.mark.parametrize("over", ["gauges", "tuple(gauges)", "enumerate(gauges)"])
def test_what_a_loop_went_over_is_not_kept_when_it_is_left(over: str) -> None:
    source = f"""
def work(gauges, seen):
    for one in {over}:
        seen()
        break
    del gauges, one
    return seen()
"""

    class Gauge:
        pass

    def run(work: Any) -> list[bool]:
        gauges = [Gauge(), Gauge()]
        last = weakref.ref(gauges[1])
        alive: list[bool] = []

        def seen() -> None:
            gc.collect()
            alive.append(last() is not None)

        given = [gauges]
        del gauges
        work(given.pop(), seen)
        return alive

    space: dict[str, Any] = {}
    exec(source, space)
    assert run(space_of(source)["work"]) == run(space["work"]) == [True, False]
    registry.files.clear()


def test_an_instruction_beyond_the_file_belongs_to_the_statement_before_it() -> None:
    text = "def route(days):\n    for day in days:\n        held = where()\n        added = where()\n    return held, added\n"
    file = SourceFile("/route.py", text.encode())
    tree = ast.parse(text)
    call = tree.body[0].body[0].body[1].value  # what the rewriting adds to a statement stands beyond the file
    for node in ast.walk(call):
        if hasattr(node, "lineno"):
            node.lineno = node.end_lineno = 15
    scope = {"where": lambda: (f := sys._getframe(1)).f_lineno and (f.f_lineno, statement_at(file, f))}
    exec(compile(tree, "/route.py", "exec"), scope)
    (line, plain), (beyond, added) = scope["route"]([1])
    assert (line, beyond) == (3, 15) and plain.line == 3
    assert added is not None and len(added.loops) == 1
