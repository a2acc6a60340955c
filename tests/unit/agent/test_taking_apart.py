"""Statements taken apart in process: which terms there are, what each gave, and why one has no value."""

from __future__ import annotations

import ast
import math
import types
from fractions import Fraction
from typing import Any

import numpy as np
import pytest

from uneven_sum.agent.core.markers import MISSING
from uneven_sum.agent.diagnosis import decompose
from uneven_sum.agent.diagnosis.decompose import CODE_OF_THE_SCRIPT, KNOWN_BEFORE, Decomposed
from uneven_sum.agent.frames.namespace import Scope
from uneven_sum.agent.source.source_file import SourceFile

INF, NAN = math.inf, math.nan
LOOKS_AROUND = "not evaluated: it looks at the call around it"


def node_of(text: str) -> Any:
    statement: Any = ast.parse(text).body[0]
    return statement.value if isinstance(statement, (ast.Expr, ast.Assign)) else statement


def apart(text: str, *, raised: Any = None, also: list[ast.AST] | None = None, **given: Any) -> Decomposed:
    """`raised`: a function that picks the node that raised; `given` in capitals: options of `Decomposed`."""
    options = {name.lower(): given.pop(name) for name in list(given) if name.isupper()}
    scope = Scope.__new__(Scope)
    scope.locals = given
    scope.globals, scope.builtins = {"np": np, "math": math}, vars(__import__("builtins"))
    file, node = SourceFile("script.py", f"{text}\n".encode()), node_of(text)
    return Decomposed(file, node, scope, raised=raised and raised(node), also=also, **options)


def told(found: Decomposed) -> list[tuple[str, Any]]:
    """The terms: text, and value or note."""
    return [(ast.unparse(t.node), t.value if t.known else t.note) for t in found.terms]


class Own:
    """An object of the script: its operators and attributes run code."""

    def __init__(self) -> None:
        self.level = 2.0

    @property
    def head(self) -> float:
        return 3.0

    def __add__(self, other: float) -> float:
        return 5.0

    def __bool__(self) -> bool:
        return True


@pytest.mark.parametrize(
    ("text", "terms"),
    [
        ("x + 1", [("x + 1", 3.0), ("x", 2.0)]),
        ("-x", [("-x", -2.0), ("x", 2.0)]),
        ("a[1]", [("a[1]", 5.0), ("a", [4.0, 5.0])]),
        ("a[x - 2:]", [("a[x - 2:]", "raised TypeError"), ("a", [4.0, 5.0]), ("x - 2", 0.0), ("x", 2.0)]),
        ("math.pi", [("math.pi", math.pi)]),
        ("np.float64.__name__", [("np.float64.__name__", "float64")]),
        ("(x, [x])", [("(x, [x])", (2.0, [2.0])), ("x", 2.0), ("[x]", [2.0]), ("x", 2.0)]),
        ("{'k': x}", [("{'k': x}", {"k": 2.0}), ("x", 2.0)]),
        ("missing + x", [("missing + x", "not evaluated"), ("missing", "not known here"), ("x", 2.0)]),
        ("x and 0.0 and n", [("x and 0.0 and n", 0.0), ("x", 2.0), ("n", KNOWN_BEFORE)]),
        ("0.0 or x or n", [("0.0 or x or n", 2.0), ("x", 2.0), ("n", KNOWN_BEFORE)]),
        ("x or n", [("x or n", 2.0), ("x", 2.0), ("n", KNOWN_BEFORE)]),
        ("x and n", [("x and n", 3), ("x", 2.0), ("n", 3)]),
        ("x < n < 4", [("x < n < 4", True), ("x", 2.0), ("n", 3)]),
        ("n < x < n + 1", [("n < x < n + 1", False), ("n", 3), ("x", 2.0), ("n + 1", KNOWN_BEFORE)]),
        ("n if x else a", [("n if x else a", 3), ("x", 2.0), ("n", 3), ("a", KNOWN_BEFORE)]),
        ("n if not x else 7", [("n if not x else 7", 7), ("not x", False), ("x", 2.0), ("n", KNOWN_BEFORE)]),
        ("(y := x) + y", [("(y := x) + y", 4.0), ("(y := x)", 2.0), ("x", 2.0), ("y", 2.0)]),
    ],
)
def test_terms_and_what_they_give(text: str, terms: list) -> None:
    assert told(apart(text, x=2.0, n=3, a=[4.0, 5.0])) == terms


@pytest.mark.parametrize(
    ("text", "note", "in_a_trial"),
    [
        ("f(x)", "not evaluated: a call", 4.0),
        ("[x for _ in range(2)]", "not evaluated: a comprehension", [2.0, 2.0]),
        ("own + x", CODE_OF_THE_SCRIPT, 5.0),
        ("own.head", "not evaluated: a property runs code of the script", 3.0),
        ("own.level", 2.0, 2.0),
        ("own and x", CODE_OF_THE_SCRIPT, 2.0),
        ("locals()", LOOKS_AROUND, LOOKS_AROUND),
        ("dir(x)[:0]", "not evaluated: a call", []),
        ("f(*a)", "not evaluated: a call", 4.0),
        ("f(**{'value': x})", "not evaluated: a call", 4.0),
        ("f(value=x)", "not evaluated: a call", 4.0),
        ("f(v for v in a)", "not evaluated", 4.0),
        ("own.twice(x)", "not evaluated: a call", 4.0),
        ("missing(x)", "not known here", "not known here"),
        ("super().level", LOOKS_AROUND, LOOKS_AROUND),
        ("(lambda: x)()", "not evaluated: a call", 2.0),
        ("f'{x}'", "2.0", "2.0"),
        ("f'{own}'", CODE_OF_THE_SCRIPT, "own"),
        ("{x}", {2.0}, {2.0}),
        ("{**{}}", "not evaluated", "not evaluated"),
        ("a[own.index(0)]", "not evaluated: a call", 2.0),
    ],
)
def test_what_runs_code_is_evaluated_in_a_trial_alone(text: str, note: Any, in_a_trial: Any) -> None:
    class Another(Own):
        def twice(self, x: float) -> float:
            return 2 * x

        def index(self, n: int) -> int:
            return n

        def __str__(self) -> str:
            return "own"

    def f(value: Any) -> float:
        return 4.0

    for may_call, wanted in ((False, note), (True, in_a_trial)):
        found = apart(text, x=2.0, a=[2.0], f=f, own=Another(), MAY_CALL=may_call)
        assert told(found)[0][1] == wanted


def test_a_second_evaluation_that_differs_is_said() -> None:
    assert apart("x + 1", x=2.0, ACTUAL=3.0).differs == ""
    assert apart("x + 1", x=2.0, ACTUAL=7.0).differs == "a second evaluation gave 3.0"
    found = apart("x + 1", x=2.0, ACTUAL=7.0)
    assert found.root.value == 7.0  # what it gave when it ran
    assert apart("f(x)", x=2.0, f=lambda x: x, ACTUAL=7.0).differs == ""  # nothing to compare
    assert apart("x + 1", x=2.0).root.value == 3.0


def test_what_raised_is_not_tried_again() -> None:
    calls = []

    def f(x: float) -> float:
        calls.append(x)
        return x

    found = apart("f(x) + f(y)", x=1.0, y=2.0, f=f, MAY_CALL=True, raised=lambda n: n.right)
    assert told(found)[:1] == [("f(x) + f(y)", "not evaluated")]
    assert dict(told(found))["f(y)"] == "raised" and calls == [1.0]
    found = apart("x / y", x=1.0, y=0.0, raised=lambda n: n)
    assert told(found) == [("x / y", "raised"), ("x", 1.0), ("y", 0.0)]
    assert [t.value for t in found.terms[0].children] == [1.0, 0.0]
    found = apart("[f(v) for v in [x]]", x=1.0, f=f, MAY_CALL=True, raised=lambda n: n)
    assert told(found)[0][1] == "raised" and calls == [1.0]


def test_the_first_term_that_raises_stops_the_rest() -> None:
    found = apart("x / y + f(x)", x=1.0, y=0.0, f=abs, MAY_CALL=True)
    assert dict(told(found))["x / y"] == "raised ZeroDivisionError"
    assert dict(told(found))["f(x)"] == "not evaluated"
    assert ast.unparse(found.raised) == "x / y"  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("options", "note", "again"),
    [
        ({"ACTUAL": 2.0}, "a second evaluation raised ZeroDivisionError", True),  # it went well
        ({"RAN": True, "FAILED": KeyError("x")}, "a second evaluation raised ZeroDivisionError", True),
        ({"RAN": True, "FAILED": ZeroDivisionError("other")}, "a second evaluation raised ZeroDivisionError", True),
        ({"RAN": True}, "a second evaluation raised ZeroDivisionError", True),
        ({"RAN": True, "FAILED": ZeroDivisionError("float division by zero")}, "raised ZeroDivisionError", False),
        ({}, "raised ZeroDivisionError", False),
    ],
)
def test_an_error_of_the_second_evaluation_alone_is_not_the_error(options: dict, note: str, again: bool) -> None:
    try:
        1.0 / float("0")
    except ZeroDivisionError as e:
        text = str(e)
    if isinstance(options.get("FAILED"), ZeroDivisionError) and str(options["FAILED"]) != "other":
        options = {**options, "FAILED": ZeroDivisionError(text)}
    found = apart("x / y + z", x=1.0, y=0.0, z=3.0, **options)
    assert dict(told(found))["x / y"] == note
    assert found.raised_again == (f"{note}: {text}" if again else "")
    assert ("z", 3.0) in told(found) or not again  # all else is still evaluated


def test_further_expressions_are_taken_apart_and_a_target_need_not_exist() -> None:
    found = apart("x + 1", x=1.0, a=[1.0], also=[node_of("a[7]"), ast.Name("new", ast.Store())], ACTUAL=2.0)
    assert [text for text, _ in told(found)] == ["x + 1", "x", "a[7]", "a", "new"]
    assert found.raised_again == "" and told(found)[-1][1] == "not known here"
    stored = found.terms[-1]
    assert not stored.known and apart("x", x=1.0).terms[0].value == 1.0


def test_an_array_that_was_changed_in_place_has_no_operands_left() -> None:
    a = np.array([1.0, 2.0])
    found = apart("a += a", a=a, ACTUAL=a)
    assert found.root.value is a
    assert [t for t, _ in told(found)] == ["a += a"]
    found = apart("a += b", a=a, b=3.0, ACTUAL=a)
    assert [t for t, _ in told(found)] == ["a += b", "b"]
    found = apart("n += b", n=1.0, b=3.0, ACTUAL=4.0)
    assert told(found) == [("n += b", 4.0), ("n", 1.0), ("b", 3.0)] and found.differs == ""


@pytest.mark.parametrize(
    ("text", "cellwise"),
    [("a + a", True), ("a @ a", False), ("-a", True), ("np.log(a)", True), ("np.sum(a)", False), ("a.sum()", False)],
)
def test_which_operations_go_cell_by_cell(text: str, cellwise: bool) -> None:
    found = apart(text, a=np.array([1.0, 2.0]), MAY_CALL=True)
    assert found.root.cellwise is cellwise


def test_which_calls_are_given_no_data() -> None:
    assert apart("f('gauge')", f=str, MAY_CALL=True).root.no_data
    assert not apart("f(x)", f=str, x=2.0, MAY_CALL=True).root.no_data
    assert not apart("a.sum()", a=np.ones(2), MAY_CALL=True).root.no_data  # its own object is data
    assert [v.tolist() for v in apart("a.sum()", a=np.ones(2), MAY_CALL=True).root.operands] == [[1.0, 1.0]]
    assert apart("math.sqrt(x)", x=4.0, MAY_CALL=True).root.operands == [4.0]


def test_calls_in_which_a_non_finite_value_was_met_were_judged_there() -> None:
    met = [0]

    def f(x: float) -> float:
        met[0] += 1
        return NAN

    found = apart("f(x) + g(x)", f=f, g=lambda x: NAN, x=1.0, MAY_CALL=True, MET=lambda: met[0])
    judged = {ast.unparse(t.node): t.judged_inside for t in found.terms}
    assert judged == {"f(x) + g(x)": False, "f(x)": True, "x": False, "g(x)": False}
    found = apart("[f(v) for v in a]", f=f, a=[1.0], MAY_CALL=True, MET=lambda: met[0])
    assert found.root.judged_inside and [t for t, _ in told(found)] == ["[f(v) for v in a]", "a"]


def test_the_first_bad_element_of_a_comprehension_is_a_term() -> None:
    found = apart("[x / v for v in a if v]", x=INF, a=[0.0, 1.0, INF, 2.0], MAY_CALL=True)
    parts = [(ast.unparse(t.node), t.how) for t in found.terms if t.how]
    assert parts == [("x / v", "element 0, v = 1.0")]
    found = apart("{k: y for k, y in rows}", rows=[(1, 1.0), (2, NAN), (3, INF)], MAY_CALL=True)
    assert [t.how for t in found.terms if t.how] == ["element 1, k = 2, y = nan"]
    assert found.root.value.keys() == {1, 2, 3}
    assert apart("{v for v in a}", a=[1.0, 1.0], MAY_CALL=True).root.value == {1.0}
    assert apart("sum(v for v in a)", a=[1.0, 2.0], MAY_CALL=True).root.value == 3.0
    pairs = apart("[v * w for v in a for w in a if w > v]", a=[1.0, 2.0, 3.0], MAY_CALL=True)
    assert pairs.root.value == [2.0, 3.0, 6.0] and "·item" not in pairs.scope.locals and "v" not in pairs.scope.locals


def test_a_comprehension_that_raises_has_its_element_as_a_term() -> None:
    found = apart("[1 / v for v in a]", a=[1.0, 0.0], MAY_CALL=True)
    assert dict(told(found))["1 / v"] == "raised ZeroDivisionError" and not found.root.known
    assert [t.how for t in found.terms if t.how] == ["element 1, v = 0.0"]


def test_too_many_elements_are_not_gone_through(monkeypatch) -> None:
    monkeypatch.setattr(decompose, "MOST_ELEMENTS", 2)
    assert apart("[v for v in a]", a=[1.0, 2.0], MAY_CALL=True).root.value == [1.0, 2.0]
    assert told(apart("[v for v in a]", a=[1.0] * 3, MAY_CALL=True))[0][1] == "not evaluated: over 2 elements"


def test_frames_whose_library_needs_threads_are_not_touched_in_a_copy() -> None:
    kind = type("DataFrame", (), {"__module__": "polars.dataframe.frame"})
    other = type("Series", (), {"__module__": "polars.series"})
    mine = type("DataFrame", (), {"__module__": "script"})
    said = "not evaluated: the threads of polars do not exist in a copy"
    assert told(apart("f(x)", f=id, x=kind(), MAY_CALL=True))[0][1] == said
    for fine in (other, mine):
        assert isinstance(apart("f(x)", f=id, x=fine(), MAY_CALL=True).root.value, int)


def test_functions_that_read_the_names_around_them_are_not_called() -> None:
    for text in ("globals()", "vars()", "dir()", "eval('x')", "exec('x')"):
        assert told(apart(text, x=1.0, MAY_CALL=True))[0][1] == LOOKS_AROUND
    assert apart("eval('x', {'x': 3})", MAY_CALL=True).root.value == 3
    assert apart("len(vars(own))", own=types.SimpleNamespace(a=1), MAY_CALL=True).root.value == 1


def test_the_object_of_a_method_is_an_operand_but_modules_classes_and_self_are_no_terms() -> None:
    own = Own()
    assert [t for t, _ in told(apart("self.level + 1", self=own))] == ["self.level + 1", "self.level"]
    assert [t for t, _ in told(apart("own.level + 1", own=own))] == ["own.level + 1", "own.level", "own"]
    assert [t for t, _ in told(apart("np.pi + 1"))] == ["np.pi + 1", "np.pi"]
    assert [t for t, _ in told(apart("Fraction.real", Fraction=Fraction))] == ["Fraction.real"]


def test_without_a_value_there_is_still_a_root() -> None:
    found = apart("missing")
    assert found.root is found.terms[0] and found.root.value is MISSING and found.culprit() is None
