"""What a probe is given of an expression, and what it makes of it."""

from __future__ import annotations

import ast
import sys
import types
from typing import Any

import numpy as np
import pytest

from uneven_sum.agent.core.markers import MISSING
from uneven_sum.agent.frames.namespace import global_of
from uneven_sum.agent.probes.operands import operands_in
from uneven_sum.agent.rewrite.operands import Operands
from uneven_sum.agent.values import nonfinite

READABLE = {"x", "y", "k", "stage", "box", "table", "grid", "rows"}


class Box:
    level = 0.25

    @property
    def asked(self) -> float:
        raise AssertionError("a property is not run")


VALUES: dict[str, Any] = {
    **{"x": 1.5, "y": 2.5, "k": 2, "stage": [1.0, 4.0, 9.0, 16.0], "box": Box(), "table": {"flow": 0.5}},
    **{"grid": np.array([[10.0, 20.0], [30.0, 40.0]]), "rows": [[1.0, 2.0], [3.0, 4.0]]},
    "np": np,
}


@pytest.mark.parametrize(
    ("text", "operands", "complete"),
    [
        ("x * y + 1.0", [1.5, 2.5], True),
        ("-x / (y - other)", [1.5, 2.5], False),
        ("stage[k] * 0.5", [9.0], True),
        ("stage[k - 1] + stage[k + 1] + stage[0] + stage[-1]", [4.0, 16.0, 1.0, 16.0], True),
        ("stage[k % 2] * x + stage[(k - 1) * 2]", [1.5, 1.0, 9.0], True),
        ("grid[k - 1, 0] + grid[0][-1] * rows[k - 1][k // 2]", [30.0, 20.0, 4.0], True),
        ("sum(stage[1:k + 1])", [[4.0, 9.0]], True),
        ("stage[k % 0] + stage[x] + rows[k][0] + box[0]", [], True),
        ("stage[f(k)] * x + grid[k, ...]", [1.5], False),
        ("stage[9] + x", [1.5], True),
        ("table['flow'] * x + table['none']", [1.5, 0.5, None], True),
        ("box.level * x", [1.5, 0.25], True),
        ("box.asked * x", [1.5, MISSING], True),
        ("box.level.real * x", [1.5], False),
        ("f(x, y * 2.0) + 1", [1.5, 2.5], True),
        ("f(x, by=y)", [1.5], False),
        ("x.sum(y)", [1.5, 2.5], True),
        ("[v * x for v in stage]", [], False),
        ("x if y else k", [], False),
        ("1.0 + 2.0", [], True),
    ],
)
def test_operands_are_found_among_the_names(text: str, operands: list[Any], complete: bool) -> None:
    nonfinite.count(np.ones(1))
    found = Operands(READABLE).take(ast.parse(text, mode="eval").body)
    assert set(found.names) <= READABLE
    parts = found.parts
    assert found.complete is complete and (parts is not None) is bool(found.names)
    if parts is not None:
        assert list(operands_in([VALUES[name] for name in found.names], parts)) == operands
        assert parts.complete is complete


class Odd(list[float]):
    def __getitem__(self, index: Any) -> Any:
        raise AssertionError("the script's code is not run")


def test_elements_of_other_collections_are_not_read() -> None:
    found = Operands(READABLE).take(ast.parse("stage[k]", mode="eval").body)
    assert found.parts is not None and found.names == ["k", "stage"]
    assert not operands_in([1, Odd([1.0, 2.0])], found.parts)
    assert not operands_in([True, [1.0, 2.0]], found.parts), "an index is a whole number"
    assert operands_in([1, np.array([1.0, 2.0])], found.parts) == [2.0]


LEVEL = 3.0


def frame_of(level: float = 1.0) -> types.FrameType:
    del level
    KeyError = 2.0  # a name of its own that stands before a built-in

    def inner() -> float:
        return KeyError

    inner()
    return sys._getframe()


def test_names_of_the_module_are_found_without_a_look_at_the_calls_own() -> None:
    frame = frame_of()
    assert global_of(frame, "LEVEL") == 3.0 and global_of(frame, "ValueError") is ValueError
    assert global_of(frame, "level") is MISSING and global_of(frame, "KeyError") is MISSING
    assert global_of(frame, "nowhere") is MISSING
    space: dict[str, Any] = {}
    exec("import sys\nhere = sys._getframe()", space)
    assert global_of(space["here"], "here") is MISSING, "a module's own"
