"""Accepted findings in the case file: by rule, place and text; nothing else in the file changes."""

from __future__ import annotations

from pathlib import Path

import pytest

from uneven_sum.client import BadUse, accepted, case
from uneven_sum.protocol import Finding


def finding(file: Path, rule: str = "wrap", statement: str = "a = b + c") -> Finding:
    return Finding(rule, 0.9, False, "b + c wraps.", str(file), 3, "<module>", "b + c", statement, 1)


def test_accepted_and_taken_back(tmp_path: Path) -> None:
    script = tmp_path / "gauge.py"
    script.write_text("x = 1\n")
    kept = tmp_path / "gauge.case.toml"
    kept.write_text('schema = 1\n# mine\nwatches = ["head"]\n')
    one, other = finding(script), finding(script, "narrowing")
    accepted.accept(str(script), one, True)
    accepted.accept(str(script), other, True)
    text = kept.read_text()
    assert "# mine" in text and 'watches = ["head"]' in text and str(tmp_path) not in text
    again = [finding(script), finding(script, "narrowing"), finding(script, statement="a = b - c")]
    accepted.mark(str(script), again)
    assert [f.accepted for f in again] == [True, True, False]
    accepted.accept(str(script), one, False)
    accepted.mark(str(script), again)
    assert [f.accepted for f in again] == [False, True, False]
    accepted.accept(str(script), other, False)
    assert "accepted_findings" not in kept.read_text()


def test_a_damaged_case_accepts_nothing_and_stays_as_it_is(tmp_path: Path) -> None:
    script = tmp_path / "gauge.py"
    kept = case.place(str(script))
    kept.write_text("schema = [1\n")
    one = finding(script)
    with pytest.raises(BadUse, match="cannot be parsed"):
        accepted.accept(str(script), one, True)
    accepted.mark(str(script), [one])
    assert not one.accepted and kept.read_text() == "schema = [1\n"


def test_a_case_with_something_else_under_the_name(tmp_path: Path) -> None:
    script = tmp_path / "gauge.py"
    case.place(str(script)).write_text('schema = 1\naccepted_findings = "all"\n')
    one = finding(script)
    accepted.mark(str(script), [one])
    assert not one.accepted
