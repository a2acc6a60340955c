"""The rules that judge, one by one and in process: what is non-finite, where it came from, and why."""

from __future__ import annotations

import array
import ast
import contextlib
import math
import multiprocessing
import sys
import warnings
from decimal import Decimal
from typing import Any

import numpy as np
import pandas as pd
import pytest

from uneven_sum.agent.diagnosis import culprit, error_reasons, provenance, reasons, senders
from uneven_sum.agent.diagnosis.culprit import Term
from uneven_sum.agent.diagnosis.held_values import bad_within
from uneven_sum.agent.frames import exception_handlers
from uneven_sum.agent.frames.exception_handlers import Fate
from uneven_sum.agent.frames.namespace import Scope
from uneven_sum.agent.recording.retention import FIRST, LAST, Kept
from uneven_sum.agent.source.source_file import SourceFile
from uneven_sum.agent.values import nonfinite, quick_look

INF, NAN = math.inf, math.nan


# -- non-finite --------------------------------------------------------------------------------------

SPARSE = pytest.importorskip("scipy.sparse")
ARRAY = np.array([1.0, NAN, INF, 4.0])
MASKED = np.ma.MaskedArray([NAN, 1.0, INF], [True, False, False])
RECORDS = np.array([(1.0, 2), (NAN, 3)], dtype=[("head", float), ("n", int)])
FRAME = pd.DataFrame({"head": [1.0, NAN], "n": [1, 2], "name": ["a", None]})


@pytest.mark.parametrize(
    ("value", "count"),
    [
        *((1.0, 0), (NAN, 1), (INF, 1), (-INF, 1), (sys.float_info.max, 0), (-sys.float_info.max, 0)),
        *((1, 0), (True, 0), (None, 0), ("nan", 0), (b"nan", 0), ({1.0, INF}, 0), (range(3), 0), (len, 0)),
        *((complex(1, 2), 0), (complex(1, NAN), 1), (complex(INF, 1), 1)),
        *((Decimal("1"), 0), (Decimal("NaN"), 1), (Decimal("-Infinity"), 1)),
        *(([], 0), ([1.0, 2.0], 0), ([1.0, NAN, INF], 2), ((NAN,), 1), ([1, "a", None], 0), ([[NAN]], 0)),
        *(([1.0] * 20, 0), ([1.0] * 20 + [NAN], 1), ([NAN] * 30, 30), ([1] * 30 + [NAN], 0), ([1e308] * 30, 0)),
        *((["a"] * 20 + [NAN], 0), ([Decimal(1)] * 20 + [Decimal("NaN")], 1), ([Decimal("NaN")] * 1001, 0)),
        *(({"a": 1.0}, 0), ({"a": NAN, "b": INF}, 2), (dict.fromkeys(range(1001), NAN), 0), ({"a": [NAN]}, 0)),
        *((array.array("d", [1.0, NAN]), 1), (array.array("f", [INF]), 1), (array.array("i", [1]), 0)),
        *((np.float64(1), 0), (np.float32(NAN), 1), (np.int64(1), 0), (np.complex128(NAN), 1), (np.bool_(1), 0)),
        *((ARRAY, 2), (np.arange(3), 0), (np.zeros((0,)), 0), (np.array([1 + 1j, NAN]), 1), (RECORDS, 1)),
        *((np.array([1.0, NAN, "a"], dtype=object), 1), (np.array(["nan"]), 0), (MASKED, 1)),
        *((np.ma.MaskedArray([1, 2], [True, False]), 0), (np.datetime64("NaT"), 0)),
        *((pd.Series([1.0, NAN, INF]), 2), (pd.Series([1, 2]), 0), (pd.Series([True]), 0), (pd.Series(["a", None]), 1)),
        *((pd.Series([1, None], dtype="Int64"), 1), (pd.Series([1.0, INF], dtype="Float64"), 1), (FRAME, 2)),
        *((pd.Index([1.0, NAN]), 1), (pd.Series(pd.to_datetime(["2031-01-01", None])), 1)),
        *((SPARSE.csr_array(np.array([[NAN, 0.0]])), 1), (SPARSE.csr_array(np.eye(2)), 0)),
    ],
)
def test_how_many_cells_are_bad(value: Any, count: int) -> None:
    assert nonfinite.count(value) == count
    assert nonfinite.any_bad(value) is (count > 0)


def test_large_arrays_are_looked_at_in_parts() -> None:
    size = quick_look.CHUNK + 10
    whole = np.ones(size)
    assert nonfinite.count(whole) == 0 and not nonfinite.any_bad(whole)
    whole[[0, quick_look.CHUNK - 1, quick_look.CHUNK, size - 1]] = NAN
    assert nonfinite.count(whole) == 4 and nonfinite.any_bad(whole)
    last = np.ones(size)
    last[-1] = INF
    assert nonfinite.any_bad(last) and nonfinite.count(last) == 1
    strided = np.ones((2, 2 * size))[:, ::2]
    assert nonfinite.count(strided) == 0 and not nonfinite.any_bad(strided)
    strided[1, -1] = NAN
    assert nonfinite.count(strided) == 1 and nonfinite.any_bad(strided)
    assert nonfinite.any_bad(np.asfortranarray(strided)) and nonfinite.count(np.asfortranarray(strided)) == 1


def test_new_bad_cells_are_those_that_no_operand_has() -> None:
    size = quick_look.CHUNK + 10
    result, one, other = np.ones(size), np.ones(size), np.ones(size)
    assert quick_look.new_cells(np, result, [one, other]) == (False, False)
    result[5] = one[5] = NAN
    result[-1] = other[-1] = INF
    assert quick_look.new_cells(np, result, [one, other]) == (False, False)
    assert quick_look.new_cells(np, result, [one]) == (True, False)
    assert quick_look.new_cells(np, result, [other]) == (True, True)
    result[-1] = NAN  # made of an infinity
    assert quick_look.new_cells(np, result, [one, other]) == (False, True)
    result[7] = NAN
    assert quick_look.new_cells(np, result, [one, other]) == (True, True)


def test_a_sum_that_overflows_is_no_bad_cell() -> None:
    large = np.full(3 * quick_look.CHUNK, 1e308)
    with warnings.catch_warnings():
        warnings.simplefilter("error")
        assert not nonfinite.any_bad(large)
        large[-1] = -INF
        assert nonfinite.any_bad(large)
        large[-2] = INF  # their sum is nan
        assert nonfinite.any_bad(large)


@pytest.mark.parametrize("scalar", [1.0, INF, NAN])
@pytest.mark.parametrize("made", [None, NAN, INF])
def test_large_arrays_are_judged_as_small_ones_are(scalar: float, made: float | None) -> None:
    """What is told of a large array in one walk is what is told of a part of it."""
    size = quick_look.CHUNK + 10
    one, other, result = np.ones(size), np.ones(size), np.ones(size)
    one[3] = result[3] = NAN
    other[5] = result[5] = INF
    if made is not None:
        result[5 if made is NAN else 7] = made
    for whole in ([], [np.ones(3)], [np.array([1.0, NAN])]):
        large, small = (provenance.Operands(ast.Constant(0), Scope(sys._getframe())) for _ in range(2))
        large.cellwise[:], large.whole[:] = [one, other, scalar], whole
        small.cellwise[:], small.whole[:] = [one[:50], other[:50], scalar], whole
        assert provenance.explained(result, large) == provenance.explained(result[:50], small)


@pytest.mark.parametrize(
    ("value", "bad", "nans"),
    [
        *((1.0, False, False), (NAN, True, True), (INF, True, False), (3, False, False), (Decimal("NaN"), True, True)),
        (ARRAY, [False, True, True, False], [False, True, False, False]),
        ([1.0, NAN, INF], [False, True, True], [False, True, False]),
        (MASKED, [False, False, True], [False, False, False]),
        (np.arange(3), [False] * 3, False),
        (np.array([None, NAN, 1.0], dtype=object), [False, True, False], False),
        (pd.Series([1.0, NAN, INF]), [False, True, True], [False, True, False]),
        (pd.Series([1, 2]), [False, False], [False, False]),
        (pd.Series([1, None], dtype="Int64"), [False, True], [False, True]),
        (pd.Series([1.0, INF], dtype="Float64"), [False, True], [False, False]),
        (FRAME, [[False, False, False], [True, False, True]], [[False, False, False], [True, False, True]]),
    ],
)
def test_which_cells_are_bad(value: Any, bad: Any, nans: Any) -> None:
    assert np.array_equal(nonfinite.mask(value), bad)
    assert np.array_equal(nonfinite.nan_mask(value), nans)


def test_columns_of_a_frame_that_have_bad_cells() -> None:
    assert nonfinite.columns(FRAME) == {"head": 1, "name": 1}
    twice = pd.DataFrame([[NAN, NAN], [1.0, NAN]], columns=["a", "a"])
    assert nonfinite.columns(twice) == {"a": 3}


def test_a_value_that_resists_counts_as_finite() -> None:
    class Resists(list):
        def __len__(self) -> int:
            raise RuntimeError

        def __iter__(self) -> Any:
            raise RuntimeError

    assert nonfinite.count(Resists([1.0, NAN])) == 1  # read past the script's methods

    class Offers:
        dtype = "float64"

        def __array__(self, *_: Any) -> Any:
            raise AssertionError("the script's own code is not run to look at a value")

    assert nonfinite.count(Offers()) == 0


# -- where it came from ------------------------------------------------------------------------------


def scope(**names: Any) -> Scope:
    found = Scope.__new__(Scope)
    found.locals, found.globals, found.builtins = (
        names,
        {"np": np, "math": math, "pd": pd},
        vars(__import__("builtins")),
    )
    return found


def operands(text: str, **names: Any) -> provenance.Operands:
    return provenance.Operands(ast.parse(text, mode="eval").body, scope(**names))


A, B, BAD = np.array([1.0, 2.0, 3.0]), np.array([1.0, 0.0, 3.0]), np.array([1.0, NAN, 3.0])


@pytest.mark.parametrize(
    ("text", "result", "carried"),
    [
        ("a / b", A / np.array([1.0, 1e-320, 3.0]), False),
        ("a * bad", A * BAD, True),
        ("bad + bad", BAD + BAD, True),
        ("a + bad", np.array([NAN, NAN, 3.0]), False),
        ("np.log(bad)", np.log(BAD), True),
        ("np.log(b)", np.array([0.0, -INF, 1.0]), False),
        ("bad.sum()", NAN, True),
        ("np.sum(a)", NAN, False),
        ("a @ bad", NAN, True),
        ("x * y", NAN, False),
        ("x * nan", NAN, True),
        ("inf - inf", NAN, False),
        ("inf + 1.0", INF, True),
        ("nan - inf", NAN, True),
        ("np.sin(inf)", NAN, False),
        ("bad[:2] + 1.0", np.array([2.0, NAN]), True),
        ("grid + bad", np.array([[NAN, 1.0], [1.0, 1.0]]), True),  # another shape: no cell-by-cell operation
        ("a.mean() + nan", NAN, True),
        ("float('nan') + x", NAN, True),
        ("(a, bad)", (A, BAD), True),
        ("[bad]", [NAN], True),
    ],
)
def test_what_only_carries_bad_cells_is_told_from_what_makes_them(text: str, result: Any, carried: bool) -> None:
    names = {"a": A, "b": B, "bad": BAD, "x": 1e200, "y": 1e200, "inf": INF, "nan": NAN, "grid": np.ones((2, 2))}
    assert provenance.explained(result, operands(text, **names)) is carried


def test_large_arrays_are_compared_cell_by_cell_in_parts() -> None:
    size = quick_look.CHUNK + 5
    one, result = np.ones(size), np.ones(size)
    one[3] = result[3] = NAN
    assert provenance.explained(result, operands("one * one", one=one))
    result[4] = NAN
    assert not provenance.explained(result, operands("one * one", one=one))
    assert provenance.explained(result, operands("one * nan", one=one, nan=NAN))
    assert not provenance.explained(result, operands("one * x", one=one, x=2.0))


@pytest.mark.parametrize(
    ("result", "text", "carried"),
    [
        (pd.DataFrame({"a": [NAN, 1.0]}), "left + 1", True),  # the column had missing cells
        (pd.DataFrame({"b": [NAN, 1.0]}), "left + 1", False),  # this one had none
        (pd.DataFrame({"new": [NAN, 1.0]}), "left + 1", True),  # a new column
        (pd.DataFrame({"b": [NAN, 1.0]}), "fine + 1", False),
        (pd.DataFrame({"b": [NAN, 1.0]}), "left.join(bad)", True),  # from what is no frame
    ],
)
def test_frames_are_compared_by_column(result: Any, text: str, carried: bool) -> None:
    left = pd.DataFrame({"a": [NAN, 1.0], "b": [1.0, 2.0]})
    found = operands(text, left=left, fine=left[["b"]], bad=pd.Series([NAN]))
    assert provenance.explained(result, found) is carried


def test_series_are_compared_by_label() -> None:
    series, other = pd.Series([1.0, NAN]), pd.Series([1.0, NAN], index=[5, 6])
    assert provenance.explained(series + 1, operands("s + 1", s=series))
    assert not provenance.explained(pd.Series([NAN, NAN]), operands("s + 1", s=series))
    assert provenance.explained(pd.Series([NAN, NAN]), operands("s + t", s=series, t=other))
    assert provenance.explained(pd.Series([NAN]), operands("pd.Series(given)", given=[None]))
    assert not provenance.explained(pd.Series([NAN]), operands("pd.Series(given)", given=[1.0]))


@pytest.mark.parametrize(
    ("text", "calls", "without_data", "exempt"),
    [
        *(("f(x)", 1, 0, False), ("f()", 1, 1, False), ("f('a.csv')", 1, 1, False), ("f('a', x)", 1, 0, False)),
        *(("f(f(x))", 2, 0, False), ("f(name)", 1, 1, False), ("f(key=x)", 1, 0, False), ("f(key=None)", 1, 1, False)),
        *(("a.mean()", 1, 0, False), ("np.empty(3)", 1, 0, True), ("np.full(3, 0.5)", 1, 0, False)),
        *(("np.full(3, nan)", 1, 0, True), ("np.full(3, fill_value=0.5)", 1, 0, False), ("np.full(3)", 1, 0, True)),
        *(("a.shift(1)", 1, 0, True), ("x + 1", 0, 0, False), ("f(f'{x}')", 1, 1, False), ("f(*a)", 1, 0, False)),
    ],
)
def test_calls_are_counted_by_what_they_are_given(text: str, calls: int, without_data: int, exempt: bool) -> None:
    found = operands(text, f=lambda *a, **k: 1.0, x=2.0, a=A, name="gauge", nan=NAN)
    assert (found.calls, found.no_data_calls, found.exempt) == (calls, without_data, exempt)


@pytest.mark.parametrize(
    ("text", "cellwise", "whole"),
    [
        *(("a + b", 2, 0), ("a @ b", 0, 2), ("-a", 1, 0), ("np.log(a)", 1, 0), ("np.sum(a)", 0, 1)),
        *(("math.sqrt(x)", 1, 0), ("math.fsum(a)", 0, 1), ("a.clip(x, x)", 0, 3), ("[a for _ in b]", 0, 2)),
        *(("lambda: a", 0, 1), ("a if x else b", 0, 3), ("a[0] + x", 2, 0), ("np.log(a) @ b", 0, 2)),
        *(("f(a, key=b)", 0, 2), ("(a, b)", 0, 2), ("a[f(x)]", 0, 2)),
    ],
)
def test_operands_meet_the_result_cell_by_cell_or_as_a_whole(text: str, cellwise: int, whole: int) -> None:
    found = operands(text, a=A, b=B, x=2.0, f=lambda *a, **k: 0)
    assert (len(found.cellwise), len(found.whole)) == (cellwise, whole)


@pytest.mark.parametrize(
    ("value", "data"),
    [
        *((1.0, True), (1, True), (1j, True), ("1", False), (b"1", False), (True, False), (None, False), (len, False)),
        *(([1.0], True), (["a"], False), ([], False), ({"a": 1.0}, True), ({"a": "b"}, False), ({1.0}, True)),
        *((A, True), (np.array(["a"]), False), (np.array([None]), False), (FRAME, True), (Decimal(1), True)),
        *(([[[[1.0]]]], True), ([[[[[1.0]]]]], False), ([""] * 25 + [1.0], False), (object(), False)),
    ],
)
def test_what_can_carry_a_number_into_a_call(value: Any, data: bool) -> None:
    assert provenance.is_data(value) is data


@pytest.mark.parametrize(
    ("text", "deliberate"),
    [
        *(
            ("float('nan')", True),
            ("float(' -Inf ')", True),
            ("Decimal('sNaN')", True),
            ("np.float64('infinity')", True),
            ("complex('nan+nanj')", True),
            ("np.complex128('1.5-infj')", True),
        ),
        *(
            ("float('1.5')", False),
            ("complex('1.5-2j')", False),
            ("float(text)", False),
            ("float('nan', 1)", False),
            ("f(key='nan')", False),
            ("x", False),
        ),
    ],
)
def test_a_literal_in_the_shape_of_a_call_is_meant(text: str, deliberate: bool) -> None:
    assert provenance.is_deliberate(ast.parse(text, mode="eval").body) is deliberate


@pytest.mark.parametrize(
    ("value", "cellwise", "whole", "made"),
    [
        *((NAN, [INF, INF], [], True), (NAN, [INF, NAN], [], False), (INF, [INF], [], False), (NAN, [1.0], [], False)),
        *((NAN, [], [np.array([INF, -INF])], True), (NAN, [], [np.array([INF, NAN])], False)),
        (np.array([NAN, INF]), [np.array([INF, INF]), np.array([INF, 1.0])], [], True),
        (np.array([NAN, NAN]), [np.array([INF, NAN]), np.array([INF, 1.0])], [], True),
        (np.array([NAN, 1.0]), [np.array([NAN, INF])], [], False),
        (np.array([NAN, 1.0]), [np.array([[INF], [1.0], [1.0]])], [], False),
    ],
)
def test_nan_from_infinities(value: Any, cellwise: list, whole: list, made: bool) -> None:
    assert provenance.makes_nan(value, cellwise, whole) is made


@pytest.mark.parametrize(
    ("text", "value"),
    [
        *(("x", 2.0), ("1", 1), ("a[1]", 2.0), ("a[-1]", 3.0), ("row['k']", 5), ("x + 1", 3.0), ("-x", -2.0)),
        *(("a[0:2]", [1.0, 2.0]), ("grid[0, 1]", 1.0), ("np.pi", np.pi), ("a[n - 1]", 3.0), ("a.size", 3)),
    ],
)
def test_what_is_read_without_running_code(text: str, value: Any) -> None:
    node = ast.parse(text, mode="eval").body
    assert np.all(provenance.read(node, scope(x=2.0, a=A, n=3, row={"k": 5}, grid=np.ones((2, 2)))) == value)


@pytest.mark.parametrize(
    "text", ["missing", "f(1)", "own.value", "own[0]", "x ** 2", "a + 1", "a[9]", "x.nothing", "1 / 0", "a < x"]
)
def test_what_would_run_code_is_not_read(text: str) -> None:
    class Own:
        @property
        def value(self) -> float:
            raise AssertionError

        def __getitem__(self, _: int) -> float:
            raise AssertionError

    with pytest.raises(provenance.Unreadable):
        provenance.read(ast.parse(text, mode="eval").body, scope(x=2.0, a=A, f=len, own=Own()))


SIGNS = (
    "+",
    "-",
    "*",
    "/",
    "//",
    "%",
    "**",
    "<<",
    ">>",
    "|",
    "&",
    "^",
    "<",
    "<=",
    ">",
    ">=",
    "==",
    "!=",
    "is",
    "is not",
)


@pytest.mark.parametrize("text", [*(f"n {sign} k" for sign in SIGNS), "n in row", "n not in row", "k not in row"])
def test_operators_are_what_they_are_written_as(text: str) -> None:
    names: dict[str, Any] = {"n": 5, "k": 2, "row": [5, 7]}
    node = ast.parse(text, mode="eval").body
    assert isinstance(node, (ast.BinOp, ast.Compare))
    if isinstance(node, ast.Compare):
        sign: ast.AST = node.ops[0]
        left, right = ast.unparse(node.left), ast.unparse(node.comparators[0])
    else:
        sign, left, right = node.op, ast.unparse(node.left), ast.unparse(node.right)
    assert provenance.OPERATORS[type(sign)](names[left], names[right]) == eval(text, dict(names))


@pytest.mark.parametrize("text", ["+n", "-n", "~n", "x // n", "x % n", "n << 2"])
def test_arithmetic_is_read(text: str) -> None:
    names = {"n": 5, "x": 12.5}
    assert provenance.read(ast.parse(text, mode="eval").body, scope(**names)) == eval(text, dict(names))


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("[queue.get() for _ in range(3)]", "another process"),
        ("[x * 2 for x in [1.0]]", ""),
        ("[len(x) for x in rows]", ""),
        ("[x for x in queues]", "another process"),
        ("[x for x in by_name]", "another process"),
        ("sum(x.recv() for x in queues)", "another process"),
        ("queue", ""),
    ],
)
def test_what_a_comprehension_asks(text: str, said: str) -> None:
    queue = multiprocessing.SimpleQueue()
    held = scope(queue=queue, queues=[queue], by_name={"a": queue}, rows=[[1.0]])
    assert senders.sender_inside(ast.parse(text, mode="eval").body, held) == said


# -- the culprit -------------------------------------------------------------------------------------


def term(node: ast.AST, value: Any, *children: Term, depth: int = 0, **more: Any) -> Term:
    found = Term(node, depth, value, "", list(children), [c.value for c in children], **more)
    for child in children:
        child.depth = depth + 1
    return found


def flat(root: Term) -> list[Term]:
    return [root, *(one for child in root.children for one in flat(child))]


def parsed(text: str) -> tuple[SourceFile, ast.expr]:
    file = SourceFile("script.py", text.encode())
    return file, file.tree.body[0].value  # type: ignore[attr-defined]


def find(text: str, build: Any, raised: ast.AST | None = None) -> culprit.Culprit | None:
    file, node = parsed(text)
    root = build(node)
    return culprit.find(root, flat(root), raised, file)


def test_the_innermost_term_at_fault_is_the_culprit() -> None:
    def build(node: Any) -> Term:  # (a * b) + (c / d)
        inner = term(node.left, INF, term(node.left.left, 1e200), term(node.left.right, 1e200), cellwise=True)
        fine = term(node.right, 1.0, term(node.right.left, 1.0), term(node.right.right, 1.0), cellwise=True)
        return term(node, INF, inner, fine, cellwise=True)

    found = find("(a * b) + (c / d)\n", build)
    assert found is not None and ast.unparse(found.term.node) == "a * b" and found.kind == "created"
    assert found.operands == [("a", 1e200), ("b", 1e200)] and found.reason.text == "float overflow"
    assert found.term.culprit and found.cell is None


@pytest.mark.parametrize(
    ("text", "more", "kind"),
    [
        ("f(x)\n", {}, "created"),
        ("f(x)\n", {"no_data": True}, "arrived"),
        ("f(x)\n", {"judged_inside": True}, None),
        ("np.empty(x)\n", {}, None),
        ("float('nan')\n", {}, None),
    ],
)
def test_a_call_is_the_culprit_unless_it_was_judged_inside_or_is_meant(text: str, more: dict, kind: str | None) -> None:
    found = find(text, lambda node: term(node, NAN, term(node.args[0], 3.0), **more))
    assert (found.kind if found else None) == kind


@pytest.mark.parametrize("text", ["x\n", "a.b\n", "a[0]\n", "a if b else c\n", "a or b\n", "(a, b)\n", "[a]\n"])
def test_what_makes_no_value_is_no_culprit(text: str) -> None:
    assert find(text, lambda node: term(node, [NAN] if text[0] in "([" else NAN)) is None


def test_what_operands_explain_and_what_is_unknown_is_no_culprit() -> None:
    assert find("a + b\n", lambda n: term(n, NAN, term(n.left, NAN), term(n.right, 1.0), cellwise=True)) is None
    assert find("a + b\n", lambda n: Term(n, 0)) is None
    assert find("a + b\n", lambda n: term(n, 1.0, term(n.left, 1.0), cellwise=True)) is None


def test_the_term_that_raised_is_the_culprit() -> None:
    file, node = parsed("a / b\n")
    root = term(node, 1.0, term(node.left, 1.0), term(node.right, 0))
    found = culprit.find(root, flat(root), node, file)
    assert found is not None and found.kind is None and found.operands == [("a", 1.0), ("b", 0)]
    assert culprit.find(root, flat(root), ast.Name("other"), file) is None


def test_the_first_cell_that_no_operand_explains_and_the_operands_there() -> None:
    left, right = np.array([[1.0, NAN], [3.0, 0.0]]), np.array([0.0, 0.0])

    def build(node: Any) -> Term:
        with np.errstate(all="ignore"):
            return term(node, left / right, term(node.left, left), term(node.right, right), cellwise=True)

    found = find("a / b\n", build)
    assert found is not None and found.cell == [0, 0] and found.operands == [("a", 1.0), ("b", 0.0)]
    assert found.reason.text == "a division by zero"
    left[0, 0] = NAN
    found = find("a / b\n", build)
    assert found is not None and found.cell == [1, 0] and found.operands == [("a", 3.0), ("b", 0.0)]


def test_nan_from_infinities_has_its_cell() -> None:
    a, b = np.array([NAN, 1.0, INF]), np.array([1.0, INF, INF])
    found = find("a - b\n", lambda n: term(n, a - b, term(n.left, a), term(n.right, b), cellwise=True))
    assert found is not None and found.cell == [2] and found.reason.text == "inf minus inf"


def test_the_element_of_a_comprehension_is_named() -> None:
    def build(node: Any) -> Term:
        inner = term(node.elt, NAN, term(node.elt.left, 0.0), term(node.elt.right, 0.0), cellwise=True)
        return term(node, [NAN], inner, how="element 17, day = 17")

    found = find("[a / b for day in days]\n", build)
    assert found is not None and found.element == "element 17"


# -- why ---------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("text", "given", "why"),
    [
        *(("a / b", (1.0, 0.0), "a division by zero"), ("a / b", (0.0, 0.0), "zero divided by zero")),
        *(("a // b", (1.0, 0.0), "a division by zero"), ("a % b", (1.0, 0.0), "a division by zero")),
        *(("a / b", (INF, -INF), "infinity divided by infinity"), ("a % b", (INF, 2.0), "the remainder of infinity")),
        *(("a / b", (1e300, 1e-300), "float overflow"), ("a / b", (INF, 2.0), ""), ("a % b", (1.0, INF), "")),
        *(
            ("a ** b", (-1.0, 0.5), "a negative number to a fractional power"),
            ("a ** b", (-10.0, 999.0), "float overflow"),
        ),
        *(("a ** b", (0.0, -1.0), "zero to a negative power"), ("a ** b", (10.0, 400.0), "float overflow")),
        *(("a - b", (INF, INF), "inf minus inf"), ("a + b", (INF, -INF), "inf minus inf")),
        *(
            ("a * b", (0.0, INF), "zero times infinity"),
            ("a * b", (INF, 0.0), "zero times infinity"),
            ("a * b", (INF, 1.0), ""),
        ),
        *(
            ("a * b", (1e200, 1e200), "float overflow"),
            ("a * b", (0.0, 5.0), "float overflow"),
            ("a + b", (INF, 1.0), ""),
        ),
        *(
            ("log(a)", (0.0,), "the logarithm of zero"),
            ("log(a)", (-1.0,), "the logarithm of a negative number"),
            ("log(a)", (2.0,), ""),
        ),
        *(
            ("np.log10(a)", (0.0,), "the logarithm of zero"),
            ("log1p(a)", (-1.0,), "the logarithm of zero or less"),
            ("log1p(a)", (-0.5,), ""),
        ),
        *(
            ("sqrt(a)", (-1.0,), "the square root of a negative number"),
            ("sqrt(a)", (0.0,), ""),
            ("sqrt(a)", (1.0,), ""),
        ),
        *(
            ("exp(a)", (701.0,), "float overflow"),
            ("exp(a)", (-701.0,), "float overflow"),
            ("exp(a)", (700.0,), ""),
        ),
        *(
            ("sin(a)", (INF,), "infinity has no angle"),
            ("sin(a)", (1.0,), ""),
            ("tan(a)", (-INF,), "infinity has no angle"),
        ),
        *(
            ("arcsin(a)", (1.5,), "an argument outside -1 … 1"),
            ("acos(a)", (1.0,), ""),
            ("acos(a)", (-1.1,), "an argument outside -1 … 1"),
        ),
        *(
            ("acosh(a)", (0.5,), "an argument below 1"),
            ("acosh(a)", (1.0,), ""),
            ("atanh(a)", (1.0,), "an argument not within -1 … 1"),
        ),
        *(
            ("atanh(a)", (0.9,), ""),
            ("np.divide(a, b)", (1.0, 0.0), "a division by zero"),
            ("np.divide(a, b)", (1e300, 1e-300), "float overflow"),
            ("np.divide(a, b)", (0.0, 0.0), "zero divided by zero"),
            ("np.multiply(a, b)", (0.0, math.inf), "zero times infinity"),
            ("np.subtract(a, b)", (math.inf, math.inf), "inf minus inf"),
            ("level.rdiv(b)", (0.0, 1.0), "a division by zero"),
            ("np.remainder(a, b)", (0.0, 0.0), "zero divided by zero"),
            ("np.power(a, b)", (0.0, -1.0), "zero to a negative power"),
            ("np.reciprocal(a)", (2.0,), ""),
        ),
        *(
            ("np.reciprocal(a)", (0.0,), "a division by zero"),
            ("np.power(a, b)", (-1.0, 0.5), "a negative number to a fractional power"),
        ),
        *(
            ("np.power(a)", (-1.0,), ""),
            ("f(a)", (0.0,), ""),
            ("f()", (), ""),
            ("log(a)", ("text",), ""),
            ("a / b", ("text", 0.0), ""),
        ),
        *(("a / b", (True, 0.0), ""), ("-a", (1.0,), ""), ("a / b", (1.0,), "")),
    ],
)
def test_reasons(text: str, given: tuple, why: str) -> None:
    assert reasons.reason(ast.parse(text, mode="eval").body, list(given)).text == why


@pytest.mark.parametrize(
    ("error", "given", "why"),
    [
        (KeyError("inflov"), ({"inflow": 1, "outflow": 2},), "the nearest of its 2 keys: inflow"),
        (KeyError("zzz"), ({"inflow": 1, "stage": 2, "a": 1, "b": 2},), "its 4 keys begin with 'inflow', 'stage', 'a'"),
        (KeyError(7), ({1: 0, 6: 0, 9: 0, 100: 0},), "the nearest of its 4 keys: 6, 9, 1"),
        (KeyError(7), ({"a": 0},), "its only key is 'a'"),
        (KeyError("stag"), (FRAME.rename(columns={"head": "stage"}),), "the nearest of its 3 columns: stage"),
        *(
            (KeyError("a"), ({},), ""),
            (KeyError(), ({"a": 1},), "its only key is 'a'"),
            (KeyError("a"), (5,), ""),
        ),
        (IndexError(), ([1, 2, 3], 3), "index 3 of length 3: the last is 2"),
        (IndexError(), ((), 0), "index 0 of length 0"),
        (IndexError(), (np.zeros((4, 2)), np.int64(9)), "index 9 of length 4: the last is 3"),
        *((IndexError(), ([1, 2], True), "its length is 2"), (IndexError(), (5,), "")),
        (
            IndexError("index 7 is out of bounds for axis 1 with size 2"),
            (np.zeros((9, 2)), 7),
            "index 7 of axis 1 of length 2: the last is 1",
        ),
        (
            IndexError("index -4 is out of bounds for axis 0 with size 3"),
            (A, -4),
            "index -4 of length 3: the first is -3",
        ),
        (IndexError("index 0 is out of bounds for axis 0 with size 0"), (np.zeros(0), 0), "index 0 of length 0"),
        (IndexError("too many indices for array: array is 1-dimensional"), (A, 1), "the array's shape is (3,)"),
        (IndexError("boolean index did not match indexed array"), (A, A > 1), ""),
        (IndexError("only integers, slices (`:`) … are valid indices"), (A, 2.0), "the index is a float"),
        (IndexError("only integers, slices (`:`) … are valid indices"), (A, np.float64(2)), "the index is a float"),
        (
            IndexError("arrays used as indices must be of integer (or boolean) type"),
            (A, A),
            "the indices are of float64",
        ),
        (
            IndexError("only integers, slices (`:`) … are valid indices"),
            (A, [slice(0, 2)]),
            "the index is a list of slices, not a tuple of them",
        ),
        (TypeError("list indices must be integers or slices, not float"), ([1], 2.0), "the index is a float"),
        (TypeError("list indices must be integers or slices, not str"), ([1], "a"), "types list and str"),
        (ValueError(), (np.ones((2, 3)), np.ones(4)), "shapes (2, 3) and (4,)"),
        *((ValueError(), (np.ones(4), np.ones(4)), ""), (ValueError(), (np.ones(4), 1.0), "")),
        (TypeError(), (1, "a"), "types int and str"),
        *((TypeError(), (1,), ""), (ZeroDivisionError(), (1, 0), "")),
    ],
)
def test_reasons_of_errors(error: BaseException, given: tuple, why: str) -> None:
    assert error_reasons.of_error(error, list(given)).text == why


# -- who handles an exception ------------------------------------------------------------------------

assert contextlib  # a name that the texts below look up


def fate(body: str, flying: BaseException | None = None) -> Fate:
    """What the statement that raises (`GO`) meets in its function, by the syntax."""
    text = "def work():\n" + "".join(f"    {line}\n" for line in body.splitlines())
    file = SourceFile("script.py", text.encode())
    line = text[: text.index("GO")].count("\n") + 1
    found = file.innermost(line)
    return exception_handlers.in_file(flying or ValueError(), found, sys._getframe())[0]


@pytest.mark.parametrize(
    ("body", "expected"),
    [
        ("GO", Fate.PASSES),
        ("try:\n    GO\nexcept ValueError:\n    pass", Fate.HANDLED),
        ("try:\n    GO\nexcept KeyError:\n    pass", Fate.PASSES),
        ("try:\n    GO\nexcept (KeyError, ValueError):\n    pass", Fate.HANDLED),
        ("try:\n    GO\nexcept Exception:\n    pass", Fate.HANDLED),
        ("try:\n    GO\nexcept:\n    pass", Fate.HANDLED),
        ("try:\n    GO\nexcept ValueError:\n    raise", Fate.PASSES),
        ("try:\n    GO\nexcept ValueError as e:\n    raise e", Fate.PASSES),
        ("try:\n    GO\nfinally:\n    pass", Fate.PASSES),
        ("try:\n    pass\nexcept ValueError:\n    GO", Fate.PASSES),
        ("try:\n    pass\nexcept ValueError:\n    pass\nelse:\n    GO", Fate.PASSES),
        ("try:\n    pass\nfinally:\n    GO", Fate.PASSES),
        ("try:\n    try:\n        GO\n    except KeyError:\n        pass\nexcept ValueError:\n    pass", Fate.HANDLED),
        (
            "try:\n    try:\n        GO\n    except ValueError:\n        raise KeyError\nexcept KeyError:\n    pass",
            Fate.HANDLED,
        ),
        (
            "try:\n    try:\n        GO\n    except ValueError:\n        raise KeyError\nexcept ValueError:\n    pass",
            Fate.PASSES,
        ),
        ("with contextlib.suppress(ValueError):\n    GO", Fate.HANDLED),
        ("with contextlib.suppress(KeyError):\n    GO", Fate.PASSES),
        ("try:\n    GO\nexcept ValueError:\n    raise SystemExit", Fate.HANDLED),
        ("try:\n    GO\nexcept unknown:\n    pass", Fate.PASSES),
    ],
)
def test_who_handles_by_the_syntax(body: str, expected: Fate) -> None:
    assert fate(body) is expected


@pytest.mark.parametrize(
    ("group", "expected"),
    [
        (ExceptionGroup("both", [ValueError(), KeyError()]), Fate.PASSES),
        (ExceptionGroup("one", [ValueError(), ExceptionGroup("deep", [ValueError()])]), Fate.HANDLED),
    ],
)
def test_a_group_is_handled_when_all_its_parts_are(group: BaseException, expected: Fate) -> None:
    assert fate("try:\n    GO\nexcept* ValueError:\n    pass", group) is expected


def library(text: str) -> Fate:
    """What the clauses of code without source do, by its exception table."""
    names: dict[str, Any] = {}
    exec(compile("def work(go):\n" + "".join(f"    {line}\n" for line in text.splitlines()), "library", "exec"), names)
    found: list[Fate] = []

    def go() -> None:
        found.append(exception_handlers.in_code(ValueError(), sys._getframe(1)))

    try:
        names["work"](go)
    except Exception:
        pass
    return found[0]


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("go()", Fate.PASSES),
        ("try:\n    go()\nexcept ValueError:\n    pass", Fate.HANDLED),
        ("try:\n    go()\nexcept KeyError:\n    pass", Fate.PASSES),
        ("try:\n    go()\nexcept (KeyError, ValueError):\n    pass", Fate.HANDLED),
        ("try:\n    go()\nexcept:\n    pass", Fate.HANDLED),
        ("try:\n    go()\nexcept ValueError:\n    raise", Fate.PASSES),
        ("try:\n    go()\nexcept ValueError as e:\n    raise KeyError from e", Fate.UNKNOWN),
        ("try:\n    go()\nfinally:\n    pass", Fate.PASSES),
        ("try:\n    go()\nexcept ValueError:\n    if go:\n        raise\n", Fate.UNKNOWN),
        ("try:\n    go()\nexcept* ValueError:\n    pass", Fate.HANDLED),
        ("try:\n    go()\nexcept* KeyError:\n    pass", Fate.PASSES),
    ],
)
def test_who_handles_by_the_exception_table(text: str, expected: Fate) -> None:
    assert library(text) is expected


# -- what is kept of a loop --------------------------------------------------------------------------


def kept_of(values: list[Any], piece: int = 1000, wide: int = 1) -> Kept:
    kept = Kept(wide)
    for start in range(0, len(values), piece):
        kept.add(values[start : start + piece])
    return kept


def test_first_last_extreme_and_first_bad_passes_are_kept() -> None:
    values = [float(n % 97) for n in range(200_000)]
    values[7_000], values[7_777], values[13_001], values[13_500] = 1e9, -1e9, NAN, INF
    kept = kept_of(values)
    column = kept.columns[0]
    assert (column.low, column.low_at) == (-1e9, 7_778) and (column.high, column.high_at) == (1e9, 7_001)
    assert (column.bad, column.first_bad) == (2, 13_002)
    rows = dict(kept.rows())
    assert rows[7_001] == (1e9,) and rows[7_778] == (-1e9,) and math.isnan(rows[13_002][0])
    assert all(
        rows[n] == (values[n - 1],) for n in (*range(1, FIRST + 1), *range(len(values) - LAST + 1, len(values) + 1))
    )
    between = [n for n in rows if FIRST < n <= len(values) - LAST - 1000 and n not in (7_001, 7_778, 13_002)]
    assert {n % kept.stride for n in between} == {1} and kept.stride == 4
    assert all(rows[n][0] == values[n - 1] for n in between)
    due = range(1 + -(-FIRST // kept.stride) * kept.stride, between[-1] + 1, kept.stride)
    assert between == [n for n in due if n != 7_001]


@pytest.mark.parametrize("piece", [1, 7, 499, 500, 501, 5000])
def test_the_size_of_the_pieces_does_not_count(piece: int) -> None:
    values = [math.sin(n) for n in range(3_000)]
    kept = kept_of(values, piece)
    assert dict(kept.rows()) == {n: (v,) for n, v in enumerate(values, 1)} and kept.passes == 3_000
    assert kept.columns[0].low_at == values.index(min(values)) + 1
    assert kept.columns[0].high_at == values.index(max(values)) + 1


def test_ties_are_told_by_their_first_pass_and_numbers_of_all_kinds_count() -> None:
    kept = kept_of([2, True, 5, 5, -3, -3, 0.5, "text", None, NAN, NAN, 10**400], 3)
    column = kept.columns[0]
    assert (column.high, column.high_at, column.low, column.low_at) == (5.0, 3, -3.0, 5)
    assert column.first_bad == 10 and column.bad >= 2


def test_two_names_are_kept_beside_each_other() -> None:
    cells = [v for n in range(2_000) for v in (float(n), -float(n))]
    kept = kept_of(cells, 1000, wide=2)
    assert kept.passes == 2_000 and dict(kept.rows())[1_234] == (1_233.0, -1_233.0)
    assert kept.columns[0].high_at == 2_000 and kept.columns[1].low_at == 2_000 and kept.columns[1].high_at == 1


def test_what_cannot_be_added_changes_nothing(monkeypatch) -> None:
    kept = kept_of([1.0, 2.0, 3.0])
    before = kept.rows(), kept.passes, kept.columns[0].high

    def full(*_: Any) -> None:
        raise MemoryError

    monkeypatch.setattr(kept, "_keep", full)
    with pytest.raises(MemoryError):
        kept.add([9.0, 4.0])
    assert (kept.rows(), kept.passes, kept.columns[0].high) == before


def test_less_is_kept_after_shrinking() -> None:
    kept = kept_of([float(n) for n in range(100_000)])
    held = kept.held()
    kept.shrink()
    assert kept.held() <= 0.6 * held and kept.first_most == FIRST // 2
    rows = dict(kept.rows())
    assert rows[250] == (249.0,) and rows[100_000] == (99_999.0,) and rows[99_751] == (99_750.0,)
    assert all(row == (n - 1.0,) for n, row in rows.items())
    for _ in range(20):
        kept.shrink()
    assert kept.first_most == 4 and len(kept.rows()) < 40


# -- what collections hold ---------------------------------------------------------------------------


def test_what_collections_hold_is_found_at_any_depth_and_a_tangle_is_left() -> None:
    nan = math.nan
    assert bad_within({"a": [1.0, {2.0, nan}], "b": (math.inf,)}) == [nan, math.inf]
    assert bad_within([1.0, "nan", None, [2]]) == [] and bad_within(nan) == []
    tangle: list[object] = []
    tangle.extend([tangle] * 1000)  # a thousand million million elements to the depth that is looked at
    assert bad_within(tangle) == []


def test_a_collection_that_changes_meanwhile_explains_nothing(monkeypatch: pytest.MonkeyPatch) -> None:
    levels = {1.0, math.nan}

    def any_bad(value: object) -> bool:
        levels.add(len(levels) + 0.5)
        return True

    monkeypatch.setattr(nonfinite, "any_bad", any_bad)
    assert bad_within(levels) == []
