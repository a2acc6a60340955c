"""Blocks of arithmetic: run plainly, with each statement checked, and at once, they come to the same."""

from __future__ import annotations

import ast
import math
import sys
import types
from collections.abc import Callable
from typing import Any, NamedTuple

import numpy as np
import pandas as pd
import pytest
from blocks_run import (
    ATTRIBUTES,
    COMPLEX,
    FUNCTIONS,
    NAMES,
    PLACES,
    Box,
    Counting,
    Pair,
    Slim,
    at_module_level,
    compared,
    ran,
    work,
)
from hypothesis import example, given, settings
from hypothesis import strategies as st

from uneven_sum.agent.rewrite import blocks
from uneven_sum.agent.rewrite.checked_functions import checked_functions
from uneven_sum.agent.rewrite.statements import Rewriter
from uneven_sum.agent.source import gates
from uneven_sum.agent.source.sites import Options, Sites
from uneven_sum.agent.source.source_file import SourceFile

floats = st.one_of(
    st.sampled_from([0.0, -0.0, 5e-324, 1e-308, 1e308, -1e308, 1.0, -1.0, 0.5, math.inf, -math.inf, math.nan]),
    st.floats(),
    st.floats(-10, 10),
)
values = st.one_of(
    floats, floats, st.integers(-3, 3), st.sampled_from([2**53 + 1, -(10**400), True, Counting(2.5), 1j, *COMPLEX])
)
constants = st.sampled_from(["0", "1", "2", "0.0", "0.5", "1e200", "1e-200", "3.7", "10", "True"])


def expression(names: str) -> st.SearchStrategy[str]:
    def more(inner: st.SearchStrategy[str]) -> st.SearchStrategy[str]:
        return st.one_of(
            st.builds("({} {} {})".format, inner, st.sampled_from("+-*/*+"), inner),
            st.builds("({} {} {})".format, inner, st.sampled_from(["//", "%", "<", ">=", "=="]), inner),
            st.builds("(-{})".format, inner),
            st.builds(str.format, st.sampled_from(FUNCTIONS), inner),
            st.builds("({} ** {})".format, inner, st.sampled_from(["2", "3", "0.5", "-1", "0"])),
        )

    leaves = st.one_of(st.sampled_from(names), st.sampled_from(names), st.sampled_from(ATTRIBUTES), constants)
    return st.recursive(leaves, more, max_leaves=5)


statements = st.one_of(
    st.builds("{} = {}".format, st.sampled_from(NAMES), expression(NAMES)),
    st.builds("{} = {}".format, st.sampled_from(NAMES), expression(NAMES)),
    st.builds("{} {}= {}".format, st.sampled_from(NAMES), st.sampled_from("+-*/%"), expression(NAMES)),
    st.builds("{}, {} = {}, {}".format, *[st.sampled_from(NAMES)] * 2, *[expression(NAMES)] * 2),
    st.builds("{} = {}".format, st.sampled_from(ATTRIBUTES), expression(NAMES)),
    st.builds("{} {}= {}".format, st.sampled_from(PLACES), st.sampled_from("+-*/"), expression(NAMES)),
    st.builds("{} = {} * {}".format, st.sampled_from(NAMES), st.sampled_from(PLACES), expression(NAMES)),
    st.builds("{} = {} = {}".format, *[st.sampled_from(NAMES)] * 2, expression(NAMES)),
)


@pytest.mark.parametrize("written", [work, at_module_level])
@settings(max_examples=300, deadline=None)
@given(st.lists(statements, min_size=1, max_size=6), st.tuples(*[values] * 5))
@example(["a = b / c", "d = 1.0 / a", "a = d + 1.0"], (1.0, 1e308, 1e-308, 0.0, 0.0))
@example(["a = b * b", "c = a > d", "a = 1.0"], (1.0, 1e200, 0.0, 0.0, 0.0))
@example(["a = a * b", "b = a - a"], (1.0, 1e200, 0.0, 0.0, 0.0))
@example(["a /= b * b", "c = a + 1"], (1.0, 1e200, 0.0, 0.0, 0.0))
@example(["a = b", "b = c * 2.0", "c = a + b"], (1.0, 2.0, 1e308, 0.0, 0.0))
@example(["a = a * 1e200", "b = 2.0 ** a", "a = 0.0"], (1.0, 1e200, 1.0, 0.0, 0.0))
def test_the_same_in_three_ways(written: Callable[..., str], body: list[str], given_values: tuple[Any, ...]) -> None:
    compared(written(body), *given_values)


def test_old_values_are_shown_at_the_statement_that_overflows() -> None:
    trips = compared(work(["a = a * 1e100", "b = a * b", "c = c + 1.0"], passes=5), 1.0, 1e50, 0.0, 0.0, 0.0)
    kind, line, value, names = trips[0]
    assert (kind, line, value) == ("not finite", 5, "inf")
    assert names == {"a": "1e+200", "b": repr(1e50 * 1e100), "c": "1.0", "d": "0.0", "e": "0.0"}


def test_a_hidden_infinity_is_met() -> None:
    """1 / inf is 0: the name that divides is looked at itself."""
    trips = compared(work(["a = b * b", "c = 1.0 / a", "a = 0.0"], passes=1), 0.0, 1e200, 0.0, 0.0, 0.0)
    assert [trip[:2] for trip in trips] == [("not finite", 4)]


def test_an_unbound_name_fails_in_its_statement() -> None:
    trips = compared(work(["f = a * 2.0", "c = g + f", "g = c"]), 1.0, 1.0, 0.0, 0.0, 0.0)
    assert [trip[:2] for trip in trips] == [("failed", 5)]
    trips = compared(work(["f = a * 2.0", "c = nowhere + f"]), 1.0, 1.0, 0.0, 0.0, 0.0)
    assert [trip[:2] for trip in trips] == [("failed", 5)]


def test_a_name_that_turns_into_something_else_is_not_run_twice() -> None:
    body = ["a = a * 1.5", "b = b + a * 0.5", "if i == 2: a = other(a)"]
    source = work(body, passes=6) + "\nfrom unit_of_blocks import Counting as other\n"
    sys.modules["unit_of_blocks"] = sys.modules[__name__]
    trips = compared(source, 1.0, 1.0, 0.0, 0.0, 0.0)
    assert trips == []
    assert Counting.done > 0


def test_many_doubts_close_a_gate_for_good() -> None:
    source = work(["a = b + 1.0", "c = c * 0.5 + a"], passes=3000, extra="e = i")
    first = len(gates.gates)
    heard, trips = ran(source, Options(), (0.0, math.inf, 0.0, 0.0, 0.0))
    gate = max(gates.gates[first:], key=lambda gate: gate.doubts)
    assert gate.off and gate.doubts == gates.MOST_DOUBTS + 1
    assert len(trips) == 6000 and heard[0] == "returns"


def plan_of(body: str, apart: tuple[int, ...] = ()) -> blocks.Plan:
    function = ast.parse(body).body[0]
    assert isinstance(function, ast.FunctionDef)
    return blocks.plan(function, apart)


def test_only_last_results_are_tested() -> None:
    plan = plan_of(work(["f = a * b", "g = f + c", "d = 1.0 / f", "e = e + g"]))
    (block,) = plan.blocks.values()
    assert block.tested == ["·b2", "·b3"]
    assert block.reads == ["a", "b", "c", "e"] and block.known == ["a", "b", "c", "e"]


def test_types_are_known_unless_something_else_assigns() -> None:
    plan = plan_of(work(["f = a * b", "g = f + c * d", "b = g * 0.5", "d = other(d)"]))
    (block,) = plan.blocks.values()
    assert block.reads == ["a", "b", "c", "d"] and block.known == ["a", "b", "c"]


def test_a_line_with_a_breakpoint_is_in_no_block() -> None:
    plan = plan_of(work(["f = a * b", "f += c", "g = f + c", "d = f * g", "d += f"]), apart=(6,))
    assert [[s.lineno for s in block.statements] for block in plan.blocks.values()] == [[4, 5], [7, 8]]


def test_annotations_of_a_module_are_kept() -> None:
    body = ["a: float = b * 0.5 + c", "b: float = a + c", "c = a * b"]
    compared(at_module_level(body), 0.0, 1.0, 2.0, 0.0, 0.0)
    assert not blocks.plan(ast.parse(at_module_level(body[:2])), ()).blocks


def test_names_that_a_function_binds_are_not_known_at_module_level() -> None:
    body = ["c = a * b", "d = c + a", "b = d * 0.5", "change()"]
    function = "def change():\n    global a\n    a = a + 1\n"
    plan = blocks.plan(ast.parse(function + at_module_level(body)), ())
    assert [block.known for block in plan.blocks.values()] == [["b"]]
    plan = blocks.plan(ast.parse("globals()\n" + at_module_level(body)), ())
    assert not any(block.known for block in plan.blocks.values())


def test_text_that_several_threads_may_run_has_no_cells() -> None:
    """`exec` of one text in two threads: its temporaries would be shared."""
    file = SourceFile("<text>", at_module_level(["a = a * 0.5 + b", "b = a + b"]).encode())
    assert "cells:" not in ast.dump(Rewriter(file, Sites(), Options()).module())
    assert "cells:" in ast.dump(Rewriter(file, Sites(), Options(), once=True).module())


@pytest.mark.parametrize(
    ("text", "names"),
    [
        ("def f(x): return x * 2.0\ny = f(1.0)", {"f"}),
        ("def f(x):\n    def g(): return [x]\n    return g()", {"f"}),
        ("def f(x): return x, 1.0", set()),
        ("def f(x): yield x * 2.0", set()),
        ("async def f(x): return x * 2.0", set()),
        ("@wrapped\ndef f(x): return x * 2.0", set()),
        ("def f(x): return x * 2.0\nf = wrapped(f)", set()),
        ("def f(x): return x * 2.0\ndef g(f): return f(1.0)", {"g"}),
        ("def f(x): return x * 2.0\nfrom elsewhere import *", set()),
        ("def f(x): return x * 2.0\nglobals()['f'] = abs", set()),
        ("def f(x): return x * 2.0\ndef g():\n    global f\n    f = abs", {"g"}),
    ],
)
def test_functions_that_look_at_what_they_return(text: str, names: set[str]) -> None:
    assert checked_functions(ast.parse(text)) == names


def test_a_value_is_looked_at_once_where_it_is_returned() -> None:
    source = "def double(x):\n    return x * 2.0\ndef work(a, b, c, d, e):\n    a = double(b)\n    return a + 1.0\n"
    _, trips = ran(source, Options(), (0.0, 1e308, 0.0, 0.0, 0.0))
    assert [trip[1] for trip in trips] == [2, 5]
    _, trips = ran(source, Options(blocks=False), (0.0, 1e308, 0.0, 0.0, 0.0))
    assert [trip[1] for trip in trips] == [2, 4, 5]


@pytest.mark.parametrize("body", ["f = a @ b", "f = g(a)", "f = a[0] * 2", "f = 'x' * 3", "f = a ** b"])
def test_what_may_have_an_effect_is_in_no_block(body: str) -> None:
    assert not plan_of(work([body, body])).blocks


class Named(NamedTuple):
    x: float
    y: float


class Guarded:
    """Setting an attribute runs code."""

    def __setattr__(self, name: str, value: object) -> None:
        object.__setattr__(self, name, value)


class Asked:
    """Reading an attribute that is not there runs code."""

    def __getattr__(self, name: str) -> float:
        return 1.0


@pytest.mark.parametrize(
    ("held", "attributes", "plain"),
    [
        (Box(), ("x", "held"), True),
        (Box(), ("x", "y"), False),
        (Slim(), ("x", "w"), True),
        (Pair(), ("x", "w", "new"), True),
        (Guarded(), ("x",), False),
        (Asked(), ("x",), False),
        (math, ("pi",), True),
        (math, ("pie",), False),
        (np.zeros(3), ("size",), False),
        (pd.DataFrame({"x": [1.0]}), ("x",), False),
        (1.5, ("real",), False),
        (types.SimpleNamespace(x=1.0), ("x", "y"), True),
        (Named(1.0, 2.0), ("x", "y"), True),
        (Pair, ("x",), True),
        (Box, ("y",), False),
        (Pair, ("compute",), True),
        (type("Kind", (type,), {})("One", (), {"x": 1.0}), ("x",), False),
        (None, ("x",), True),
    ],
)
def test_attributes_that_run_no_code(held: object, attributes: tuple[str, ...], plain: bool) -> None:
    assert gates.is_plain(held, attributes) is plain


def test_an_attribute_that_may_be_the_same_begins_another_block() -> None:
    """`twin` may hold the same object as `box`: what it reads has to be set before."""
    plan = plan_of(work(["box.x = a * b", "box.x += c * d", "twin.x -= a * c", "d = twin.x * a"]))
    assert [[s.lineno for s in block.statements] for block in plan.blocks.values()] == [[4, 5], [6, 7]]


def test_attributes_are_read_before_and_set_at_the_end() -> None:
    plan = plan_of(work(["f = box.x * pair.x", "box.x -= f * a", "pair.x = f + box.x"]))
    (block,) = plan.blocks.values()
    assert list(block.read_attributes) == [("box", "x"), ("pair", "x")]
    assert [place for place, _ in block.stores] == [("f", ""), ("box", "x"), ("pair", "x")]
    assert block.known == ["a", "box", "pair"] and block.tested == ["·b4"]


def test_an_object_of_another_class_is_learnt() -> None:
    body = ["if i == 9: pair = Slim()", "pair.x = pair.x * 0.5 + a", "pair.w -= pair.x * b", "box.x = pair.w * a"]
    compared(work(body, passes=30), 1.0, 0.5, 0.0, 0.0, 0.0)
    gate = gates.gates[-1]
    assert gate.doubts > gates.OTHER_CLASS and not gate.off


def test_a_computed_attribute_closes_a_gate_for_good() -> None:
    body = ["box.y = box.x * 0.5 + a", "box.y -= box.x * b", "c = box.y * a"]
    assert compared(work(body, passes=30), 1.0, 0.5, 0.0, 0.0, 0.0) == []
    assert gates.gates[-1].off and gates.gates[-1].wanted[0] == (("box", ("x", "y")),)


@pytest.mark.parametrize(("name", "closed"), [("kind", True), ("Pair", False)])
def test_a_class_that_a_name_of_the_call_holds_is_not_read(name: str, closed: bool) -> None:
    body = ["kind = Pair", f"c = {name}.x * a + b", f"d = c * 0.5 + {name}.x", "e = d * c"]
    assert compared(work(body, passes=30), 1.0, 0.5, 0.0, 0.0, 0.0) == []
    assert gates.gates[-1].wanted[0] == ((name, ("x",)),) and bool(gates.gates[-1].off) is closed


def test_a_function_that_is_not_the_real_one_closes_a_gate() -> None:
    body = ["f = math.sqrt(a * b)", "c = f * 0.5 + d", "d = c * f"]
    source = work(body, passes=30) + "math = Slim()\nmath.sqrt = None\n"
    assert "math.sqrt" not in blocks.block_calls(ast.parse(source))
    replaced = work(body, passes=30) + "math.sqrt = lambda x: x * 0.5\n"
    try:
        compared(replaced, 1.0, 0.5, 0.0, 0.0, 0.0)
    finally:
        math.sqrt = gates.FUNCTIONS["math.sqrt"]  # type: ignore[assignment]  # as it was
    assert gates.gates[-1].off


@pytest.mark.parametrize(
    ("text", "calls"),
    [
        ("import math", {"abs", "max", "min", "math.sqrt"}),
        ("import math as m", {"abs", "max", "min", "m.sqrt"}),
        ("from math import sqrt as root, pi", {"abs", "max", "min", "root"}),
        ("from math import sqrt\nsqrt = float", {"abs", "max", "min"}),
        ("def max(a, b): return a", {"abs", "min"}),
        ("from elsewhere import *", set()),
    ],
)
def test_how_mathematical_functions_are_called(text: str, calls: set[str]) -> None:
    found = blocks.block_calls(ast.parse(text))
    assert {call for call in found if found[call] in ("abs", "max", "min", "math.sqrt")} == calls


def test_whole_numbers_are_not_looked_at() -> None:
    plan = plan_of(work(["n = 0", "n += i * 2", "f = a * n", "m = n / 2", "n = -n % 7"]))
    (block,) = plan.blocks.values()
    assert plan.scope.wholes == {"i", "n"}
    assert [name for (name, _), temporary in block.stores if temporary in block.tested] == ["f", "m"]


@pytest.mark.parametrize("body", ["n = a", "n, d = 0.5, 1", "n /= 2", "n = f(n)", "for n in a: pass", "(n := a)"])
def test_a_name_that_may_be_no_whole_number(body: str) -> None:
    plan = plan_of(work(["n = 0", "n += i * 2", "f = a * n", body]))
    assert "n" in plan.ints and "n" not in plan.scope.wholes


def test_a_test_of_names_that_are_numbers_trips_as_before() -> None:
    body = [
        "n = 0",
        "while a * a + b * b < 4.0 and n < 5:",
        "    a, b = a * a - b * b + c, 2.0 * a * b + d",
        "    n += 1",
    ]
    trips = compared(work([*body, "    if n == 4: a = a * 1e200"], passes=1), 0.1, 0.1, 0.2, 0.1, 0.0)
    assert [trip[1] for trip in trips] == [5]
