"""The inputs of a sweep, and what tells the runs that go wrong from the others."""

from __future__ import annotations

from pathlib import Path

import pytest

from uneven_sum.host.launch import BadUse
from uneven_sum.sweep import faults
from uneven_sum.sweep.faults import summary
from uneven_sum.sweep.one import Ran
from uneven_sum.sweep.rows import Inputs, filled


def args_of(inputs: Inputs, *template: str) -> list[tuple[str, ...]]:
    return [row.args for row in inputs.rows(template)]


def test_products_and_placeholders() -> None:
    inputs = Inputs(vary=["a=1,2", "b=x"])
    assert args_of(inputs) == [("--a", "1", "--b", "x"), ("--a", "2", "--b", "x")]
    assert args_of(Inputs(vary=["a=1,2"]), "--start={a}", "-v") == [("--start=1", "-v"), ("--start=2", "-v")]
    assert filled(["{a}{b}", "{c}"], {"a": "1", "b": "2", "c": "3"}, ["a", "b", "c"]) == ("12", "3")


def test_tables_and_files(tmp_path: Path) -> None:
    table = tmp_path / "runs.csv"
    table.write_text("start, gauge\n1, north\n2\n3,sill\n\n", encoding="utf-8-sig")
    rows = list(Inputs(table=str(table)).rows(["{gauge}"]))
    assert [(row.number, row.args, row.bad) for row in rows] == [
        (1, ("north",), ""),
        (2, (), "line 3 has 1 fields instead of 2"),
        (3, ("sill",), ""),
    ]
    lines = tmp_path / "runs.jsonl"
    lines.write_text('{"start": 1.5, "gauge": "a b"}\n{"start": \n[1]\n')
    rows = list(Inputs(table=str(lines)).rows([]))
    assert rows[0].args == ("--start", "1.5", "--gauge", "a b")
    assert [row.bad.partition(":")[0] for row in rows[1:]] == ["line 2 is no JSON", "line 3 is no object"]
    for name in ("b.csv", "a.csv"):
        (tmp_path / name).write_text("")
    found = args_of(Inputs(each=str(tmp_path / "?.csv"), vary=["n=1,2"]))
    assert found[0] == (str(tmp_path / "a.csv"), "--n", "1") and len(found) == 4


BAD = [
    (Inputs(), "needs inputs"),
    (Inputs(vary=["a"]), "takes NAME=A,B,C"),
    (Inputs(each="nowhere/*.q"), "No file fits"),
    (Inputs(table="nowhere.csv"), "cannot be read"),
]


@pytest.mark.parametrize("inputs, said", BAD)
def test_inputs_that_cannot_be(inputs: Inputs, said: str) -> None:
    with pytest.raises(BadUse, match=said):
        list(inputs.rows([]))


def test_columns_that_do_not_match() -> None:
    with pytest.raises(BadUse, match="There is no column width: the inputs have a"):
        list(Inputs(vary=["a=1"]).rows(["{width}"]))


APART = [
    ([{"a": "0.5"}, {"a": "0.6"}], [{"a": "0.1"}, {"a": "0.4"}], ["all 2 have a over 0.4"]),
    ([{"a": "-5"}], [{"a": "0.1"}, {"a": "0.4"}], ["it has a under 0.1"]),
    ([{"a": "2"}, {"a": "3"}], [{"a": "1"}, {"a": "4"}], ["all 2 have a between 2 and 3"]),
    ([{"a": "1"}, {"a": "4"}], [{"a": "2"}, {"a": "3"}], []),
    ([{"g": "sill"}, {"g": "sill"}], [{"g": "north"}], ["all 2 have g = sill"]),
    ([{"a": "2"}] * 3, [{"a": "1"}, {"a": "4"}], ["all 3 have a 2"]),
    ([{"g": "a"}, {"g": "b"}], [{"g": "c"}], []),  # names that all differ tell nothing
    ([{"g": "a"}], [{"g": "b"}], []),
    ([{"a": "nan"}, {"a": "nan"}], [{"a": "1"}], ["all 2 have a nan"]),
    ([{"a": "1", "g": "x"}] * 2, [{"a": "0", "g": "x"}], ["all 2 have a 1 (over 0)"]),
    ([{"a": "1"}], [], []),
]


@pytest.mark.parametrize("these, others, said", APART)
def test_what_tells_them_apart(these, others, said) -> None:
    well = faults.Inputs()
    for one in others:
        well.add(one)
    assert well.apart_from(these) == said


def test_faults_are_grouped() -> None:
    fault = ["error", "m.py", "9", "f", "1 / x"]
    rows = [Ran(n, [], {"a": str(n)}, *(("tripped", fault, "E") if n > 4 else ())) for n in (1, 7, 3, 5, 6)]
    rows.append(Ran(8, [], {"a": "2"}, "died", ["died", "SIGABRT", "x"], "It crashed."))
    found = summary(rows)
    assert (found.ran, found.fine, found.counts) == (6, 2, {"finished": 2, "tripped": 3, "died": 1})
    assert [(one.outcome, len(one.rows), one.smallest.row, one.apart) for one in found.faults] == [
        ("tripped", 3, 5, ["all 3 have a over 3"]),
        ("died", 1, 8, []),
    ]
