"""More of the rules that judge: joins, labels, frames that ask for attributes, places of instructions, limits."""

from __future__ import annotations

import ast
import contextlib
import math
import sys
import types
from collections.abc import Callable
from fractions import Fraction
from typing import Any

import numpy as np
import pandas as pd
import pytest

from uneven_sum.agent.core.markers import MISSING
from uneven_sum.agent.diagnosis import culprit, provenance
from uneven_sum.agent.diagnosis.culprit import Term
from uneven_sum.agent.frames import exception_handlers
from uneven_sum.agent.frames.exception_handlers import Fate
from uneven_sum.agent.frames.namespace import Scope
from uneven_sum.agent.recording.retention import Kept
from uneven_sum.agent.source.source_file import SourceFile
from uneven_sum.agent.values import nonfinite, quick_look, tensor_arrays

INF, NAN = math.inf, math.nan


def find(text: str, value: Any, operands: list[Any], **more: Any) -> culprit.Culprit | None:
    """The culprit of a statement whose one term has these operands, in their order in the text."""
    file = SourceFile("script.py", text.encode())
    statement: Any = file.tree.body[0]
    node = statement.value
    parts: list[ast.AST] = []
    if isinstance(node, ast.BinOp):
        parts = [node.left, node.right]
    elif isinstance(node, ast.Call):
        own = [node.func.value] if isinstance(node.func, ast.Attribute) and len(operands) > len(node.args) else []
        parts = [*own, *node.args, *(k.value for k in node.keywords)]
    root = Term(node, 0, value, "", **more)
    for part, operand in zip(parts, operands):
        root.operands.append(operand)
        root.children.append(Term(part, 1, operand, ""))
    return culprit.find(root, [root, *root.children], None, file)


# -- the culprit -------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("text", "value", "operands", "cellwise", "found"),
    [
        ("f(x)", NAN, [INF], False, False),  # a library's own way with infinities
        ("f(x)", NAN, [1.0], False, True),
        ("np.sum(x)", NAN, [np.array([INF, -INF])], False, True),
        ("np.sum(x)", NAN, [np.array([INF, NAN])], False, False),
        ("a @ b", NAN, [np.array([INF, 1.0]), np.array([0.0, 1.0])], False, True),
        ("a @ b", NAN, [np.array([NAN, 1.0]), np.array([0.0, 1.0])], False, False),
        ("np.sin(x)", NAN, [INF], True, True),
        ("np.sin(x)", NAN, [NAN], True, False),
    ],
)
def test_infinities_that_become_nan(text: str, value: Any, operands: list, cellwise: bool, found: bool) -> None:
    assert (find(text, value, operands, cellwise=cellwise) is not None) is found


@pytest.mark.parametrize(("known", "expected"), [(True, "created"), (False, "arrived")])
def test_what_another_process_sends_is_its_fault_unless_it_is_seen_to_be_fine(known: bool, expected: str) -> None:
    file = SourceFile("script.py", b"queue.get() * x\n")
    node: Any = file.tree.body[0].value  # type: ignore[attr-defined]
    sent = Term(node.left, 1, 0.0 if known else MISSING, "", sender="another process")
    root = Term(node, 0, NAN, "", [sent], [0.0, 1.0], cellwise=True)
    found = culprit.find(root, [root, sent], None, file)
    assert found is not None and found.kind == expected
    assert found.sender == ("" if known else "another process")
    whole = Term(node, 0, NAN, "", [], [], cellwise=True, sender="a worker")
    found = culprit.find(whole, [whole], None, file)
    assert found is not None and found.kind == "arrived" and found.sender == "a worker"


LEFT = pd.DataFrame({"gauge": ["a", "b"], "level": [1.0, 2.0]})
RIGHT = pd.DataFrame({"gauge": ["a", "c"], "flow": [1.0, 2.0]})
SAID = "flow is missing in 1 of 2 rows: no partner in right for gauge 'b'; no partner in left for gauge 'c'"


@pytest.mark.parametrize(
    ("text", "operands", "said"),
    [
        ("left.merge(right, how='left', on='gauge')", [LEFT, RIGHT, "left", "gauge"], SAID),
        ("pd.merge(left, right, 'left', 'gauge')", [LEFT, RIGHT, "left", "gauge"], SAID),
        ("left.merge(right, 'left')", [LEFT, RIGHT, "left"], SAID),
        ("left.merge(*both)", [LEFT, [RIGHT], "left"], ""),
        ("left.assign(right)", [LEFT, RIGHT], ""),
    ],
)
def test_a_join_names_the_keys_without_a_partner(text: str, operands: list, said: str) -> None:
    found = find(text, LEFT.merge(RIGHT, how="left", on="gauge"), operands)
    assert found is not None and found.reason.text == said
    if said:
        assert [t for t, _ in found.operands] == ["left", "right"] and found.cell is None


def test_a_join_of_values_that_are_no_frames_is_none() -> None:
    found = find("left.merge(right)", NAN, [1.0, 2.0])
    assert found is not None and found.reason.text == "" and found.operands == [("left", 1.0), ("right", 2.0)]


@pytest.mark.parametrize(
    ("value", "cell", "like", "expected"),
    [
        (5.0, [1], np.zeros(3), 5.0),
        (np.array([1.0, 2.0, 3.0]), [1], np.zeros(3), 2.0),
        (np.array([1.0, 2.0, 3.0]), [1, 2], np.zeros((2, 3)), 3.0),  # a row that is used for each
        (pd.Series([1.0, 2.0], index=["x", "y"]), [1], pd.Series([0.0, 0.0], index=["x", "y"]), 2.0),
        (pd.Series([7.0, 8.0, 9.0], index=["z", "y", "x"]), [1], pd.Series([0.0, 0.0], index=["x", "y"]), 8.0),
        (pd.Series([1.0], index=["z"]), [1], pd.Series([0.0, 0.0], index=["x", "y"]), MISSING),
        (pd.DataFrame({"a": [1.0, 2.0], "b": [3.0, 4.0]}), [1, 1], pd.DataFrame({"a": [0.0] * 2, "b": [0.0] * 2}), 4.0),
        (pd.Series([1.0, 2.0]), [1, 0], pd.DataFrame({"a": [0.0] * 2}), 2.0),
        (pd.Series([1.0, 2.0, 3.0]), [2], np.zeros(3), 3.0),
        (np.array([1.0, 2.0]), None, np.zeros(2), [1.0, 2.0]),
    ],
)
def test_an_operand_at_a_cell_of_the_result(value: Any, cell: list | None, like: Any, expected: Any) -> None:
    found = culprit._at(value, cell, like)
    assert found is expected if expected is MISSING else np.array_equal(found, expected)


# -- where it came from ------------------------------------------------------------------------------


def operands(*cellwise: Any, whole: list[Any] | None = None) -> provenance.Operands:
    found = provenance.Operands(ast.Constant(None), Scope.__new__(Scope))
    found.cellwise, found.whole = list(cellwise), whole or []
    return found


@pytest.mark.parametrize(
    ("value", "data"),
    [
        (Fraction(1, 2), True),
        (type("Table", (), {"__dataframe__": None})(), True),
        (type("Cells", (), {"__array__": None})(), True),
        (type("Named", (), {"__array__": None, "dtype": np.dtype("U4")})(), False),
        (type("Plain", (), {})(), False),
    ],
)
def test_objects_that_can_be_read_as_numbers_are_data(value: object, data: bool) -> None:
    assert provenance.is_data(value) is data


def test_large_results_of_operands_of_another_shape() -> None:
    size = quick_look.CHUNK
    grid = np.ones((4, size))
    row = np.ones(size)
    row[7] = NAN
    assert provenance.explained(grid * row, operands(grid, row))
    result = grid * row
    result[2, 8] = NAN
    assert not provenance.explained(result, operands(grid, row))
    assert not provenance.explained(result, operands(grid, np.ones(size)))
    texts = np.array(["a"] * size)
    assert not provenance.explained(result[0], operands(grid[0], texts))


@pytest.mark.parametrize(
    ("value", "cellwise", "whole", "made"),
    [
        (NAN, [INF, INF], [], True),
        (NAN, [INF, NAN], [], False),
        (INF, [INF], [], False),
        (NAN, [1.0], [], False),
        (NAN, [], [INF], True),
    ],
)
def test_without_numpy_numbers_are_judged_alike(monkeypatch, value, cellwise, whole, made) -> None:
    monkeypatch.setattr(nonfinite, "module", lambda name: None)
    assert provenance.makes_nan(value, cellwise, whole) is made
    assert provenance.explained(NAN, operands(NAN, 1.0)) and not provenance.explained(NAN, operands(1.0, 2.0))
    assert nonfinite.nan_mask(NAN) is True and nonfinite.nan_mask([NAN]) is False and nonfinite.mask([NAN]) is True


# -- non-finite --------------------------------------------------------------------------------------


def test_the_mask_of_one_number_is_one_truth_value() -> None:
    for value, bad in ((1.0, False), (NAN, True), (complex(1, INF), True), (3, False)):
        assert nonfinite.mask(value) is bad
    assert nonfinite.mask(np.float64(NAN)).shape == ()


def test_values_on_disk_and_those_not_yet_computed_are_left_alone() -> None:
    assert nonfinite.is_in_memory(np.ones(2)) and nonfinite.is_in_memory(1.0)
    for home in ("h5py._hl.dataset", "zarr.core", "dask.array.core", "netCDF4"):
        assert not nonfinite.is_in_memory(type("Array", (), {"__module__": home})())
    lazy = type("DataArray", (), {"__module__": "xarray.core", "__dask_graph__": lambda self: {}})
    held = type("DataArray", (), {"__module__": "xarray.core", "__dask_graph__": lambda self: None})
    on_disk = type("DataArray", (), {"__module__": "xarray.core", "_in_memory": False})
    assert [nonfinite.is_in_memory(kind()) for kind in (lazy, held, on_disk)] == [False, True, False]


def test_tensors_that_cannot_be_read_count_as_finite(monkeypatch) -> None:
    monkeypatch.setattr(tensor_arrays, "as_numpy", lambda value: None)
    assert nonfinite._tensor(object()) == 0
    monkeypatch.setattr(tensor_arrays, "as_numpy", lambda value: np.array([NAN, 1.0]))
    assert nonfinite._tensor(object()) == 1


# -- who handles an exception ------------------------------------------------------------------------


def asked(body: str, home: str = "script", name: str = "work", flying: BaseException | None = None) -> Fate:
    """What a library's function of this module and name does with an exception that its call of `go` raises."""
    names: dict[str, Any] = {"__name__": home, "suppress": contextlib.suppress, "errors": (KeyError, ValueError)}
    lines = "".join(f"    {line}\n" for line in body.splitlines())
    exec(compile(f"def work(go, expected_exception=None):\n{lines}", "library", "exec"), names)
    work: Any = names["work"]
    work = types.FunctionType(work.__code__.replace(co_qualname=name), names)
    found: list[Fate] = []

    def go() -> None:
        found.append(exception_handlers.in_code(flying or ValueError(), sys._getframe(1)))

    try:
        work(go, ValueError)
    except Exception:
        pass
    return found[0]


CAUGHT = "try:\n    go()\nexcept ValueError:\n    pass"


@pytest.mark.parametrize(
    ("home", "name", "expected"),
    [
        ("script", "work", Fate.HANDLED),
        ("threading", "Thread._bootstrap_inner", Fate.PASSES),
        ("threading", "other", Fate.HANDLED),
        ("_pytest.runner", "anything", Fate.PASSES),
        ("pluggy._callers", "anything", Fate.PASSES),
        ("importlib._bootstrap", "anything", Fate.PASSES),
    ],
)
def test_who_only_carries_an_exception_elsewhere(home: str, name: str, expected: Fate) -> None:
    assert asked(CAUGHT, home, name) is expected


def test_who_expects_an_exception_handles_just_that() -> None:
    body = "try:\n    go()\nexcept TypeError:\n    pass"
    assert asked(body, "_pytest.raises", "raises") is Fate.HANDLED
    assert asked(body, "_pytest.raises", "raises", KeyError()) is Fate.PASSES


@pytest.mark.parametrize(
    ("text", "asks"),
    [
        ("return hasattr(o, 'x')", True),
        ("return getattr(o, 'x', 0)", True),
        ("return getattr(o, 'x')", False),
        ("return o.x", False),
        ("return seen(o) or hasattr(5, 'x')", False),
        ("return (hasattr(5, 'x'), getattr(o, 'x', 0))", True),
        ("return (hasattr(5, 'x'), getattr(o, 'x'))", False),
    ],
)
def test_attributes_that_are_asked_for(text: str, asks: bool) -> None:
    found: list[bool] = []
    whole = f"def work(o, seen):\n    {text}\n"
    file = SourceFile("script.py", whole.encode())

    class Owner:
        def __getattr__(self, name: str) -> int:
            frame = sys._getframe(1)
            found.append(exception_handlers.asks_for_attribute(file.innermost(2), frame))
            assert not exception_handlers.asks_for_attribute(None, frame)
            return 1

    def seen(o: Owner) -> int:
        return o.x and 0  # type: ignore[attr-defined]

    names: dict[str, Any] = {}
    exec(compile(whole, "script.py", "exec"), names)
    names["work"](Owner(), seen if "seen" in text else None)
    assert found == [asks]


def test_the_statement_of_a_frame_is_found_by_line_and_column() -> None:
    text = "def work(go):\n    a = 1; b = go(); c = 2\n    d = (go() +\n         go())\n"
    file = SourceFile("script.py", text.encode())
    found: list[str] = []

    def go() -> int:
        statement = exception_handlers.statement_at(file, sys._getframe(1))
        assert statement is not None
        found.append(ast.unparse(statement.node))
        return 1

    names: dict[str, Any] = {}
    exec(compile(text, "script.py", "exec"), names)
    names["work"](go)
    assert found == ["b = go()", "d = go() + go()", "d = go() + go()"]


def test_instructions_without_a_place() -> None:
    def work(value: float) -> float:
        return value + 1

    code = work.__code__
    assert exception_handlers.instruction_place(code, -1) is None
    assert exception_handlers.instruction_place(code.replace(co_linetable=b""), 0) is None
    assert exception_handlers.instruction_place(code, 10_000) is None
    places = [exception_handlers.instruction_place(code, n) for n in range(0, len(code.co_code), 2)]
    line = code.co_firstlineno + 1
    assert (line, 15, line, 24) in places


@pytest.mark.parametrize(
    ("body", "expected"),
    [
        ("try:\n    go()\nexcept (ValueError, KeyError) as e:\n    raise", Fate.PASSES),
        ("try:\n    go()\nexcept ValueError:\n    raise KeyError", Fate.UNKNOWN),
        ("try:\n    go()\nexcept KeyError:\n    raise\nexcept ValueError:\n    go = 1", Fate.HANDLED),
        ("try:\n    go()\nexcept ValueError:\n    raise\nexcept Exception:\n    pass", Fate.PASSES),
        ("try:\n    go()\nexcept:\n    raise", Fate.PASSES),
        (
            "try:\n    try:\n        go()\n    except KeyError:\n        pass\nexcept ValueError:\n    pass",
            Fate.HANDLED,
        ),
        ("with open('/dev/null'):\n    go()", Fate.PASSES),
        ("try:\n    try:\n        go()\n    finally:\n        pass\nexcept ValueError:\n    pass", Fate.HANDLED),
        (
            "try:\n    try:\n        go()\n    except ValueError:\n        raise\nexcept ValueError:\n    pass",
            Fate.HANDLED,
        ),
        ("try:\n    try:\n        go()\n    except KeyError:\n        pass\nexcept TypeError:\n    pass", Fate.PASSES),
        ("try:\n    with open('/dev/null'):\n        go()\nexcept ValueError:\n    pass", Fate.HANDLED),
        ("try:\n    go()\nexcept KeyError:\n    raise ValueError\nexcept TypeError:\n    pass", Fate.PASSES),
        ("import contextlib\nwith contextlib.suppress(KeyError, ValueError):\n    go()", Fate.HANDLED),
        ("import contextlib\nwith contextlib.suppress(KeyError):\n    go()", Fate.PASSES),
        ("with suppress(ValueError), open('/dev/null') as f:\n    go()", Fate.HANDLED),
        ("with open('/dev/null') as f, suppress(ValueError):\n    go()", Fate.HANDLED),
        ("with open('/dev/null') as f, suppress(*errors):\n    go()", Fate.HANDLED),
        ("with suppress(KeyError):\n    with open(str(ValueError) and '/dev/null'):\n        go()", Fate.PASSES),
        ("for _ in [1]:\n    try:\n        go()\n    except ValueError:\n        continue", Fate.HANDLED),
        ("try:\n    go()\nexcept ValueError:\n    return None\nfinally:\n    go = 1", Fate.HANDLED),
        ("try:\n    pass\nexcept ValueError:\n    pass\ngo()", Fate.PASSES),
    ],
)
def test_more_clauses_by_the_exception_table(body: str, expected: Fate) -> None:
    assert asked(body) is expected


# -- what is kept of a loop --------------------------------------------------------------------------


def test_few_extreme_passes_are_kept_of_a_loop_that_always_grows() -> None:
    kept = Kept(1)
    for start in range(0, 3_000, 10):
        kept.add([float(n) for n in range(start, start + 10)])
    assert len(kept.special) <= 4 + 8 + 3 and 3_000 in kept.special


def test_long_integers_and_objects_are_kept_as_what_they_are_shown_as() -> None:
    kept = Kept(1)
    kept.add([1, 10**5000, -(10**5000), [1.0], "text", 2.5])
    rows = dict(kept.rows())
    assert rows[1] == (1,) and rows[6] == (2.5,)
    assert all(not isinstance(rows[n][0], (int, list)) for n in (2, 3, 4))


@pytest.mark.parametrize("numpy", [True, False])
def test_figures_are_the_same_with_and_without_numpy(numpy: bool, monkeypatch: pytest.MonkeyPatch) -> None:
    if not numpy:
        monkeypatch.setattr(nonfinite, "module", lambda name: None)
    kept = Kept(2)
    values: list[Any] = []
    at: Callable[[int], float] = lambda n: math.sin(n) * 10  # noqa: E731  # one line says it
    for n in range(100):
        values += [at(n), -at(n)]
    kept.add(values[:100])
    kept.add(values[100:])
    first, second = kept.columns
    evens = [at(n) for n in range(100)]
    assert (first.low, first.low_at) == (min(evens), evens.index(min(evens)) + 1)
    assert (first.high, first.high_at) == (max(evens), evens.index(max(evens)) + 1)
    assert (second.low, second.high, second.bad, second.first_bad) == (-first.high, -first.low, 0, 0)
    kept.add([NAN, 1e300, -INF, -1e300])
    assert (first.bad, first.first_bad, first.low_at) == (2, 101, evens.index(min(evens)) + 1)
    assert (second.high_at, second.low_at) == (101, 102)


def test_the_number_of_extreme_passes_that_are_kept_is_bounded() -> None:
    """A value that grows in each piece is extreme in each: those before it are let go."""
    kept = Kept(1)
    for piece in range(60):
        kept.add([float(1000 * piece + n) for n in range(1000)])
        assert len(kept.special) <= 12
    assert set(kept.special) >= {1, 60_000}


@pytest.mark.parametrize("huge", [10**4000, -(10**4000)])
def test_a_huge_integer_is_told_by_its_length(huge: int) -> None:
    kept = Kept(1)
    kept.add([1, huge, 3])
    assert [row for _, row in kept.rows()] == [(1,), (f"int of {huge.bit_length()} bits",), (3,)]
    assert kept.columns[0].high == 3.0 and kept.columns[0].bad == 0
