"""The rules of an audit: each finds its faults at their line, and is silent on clean twins."""

from __future__ import annotations

import asyncio
import json
import subprocess
import sys
from pathlib import Path

import pytest
from auditing import audit_here, cases

from uneven_sum.agent.audit.rules import NAMES
from uneven_sum.check import check
from uneven_sum.client import Launch
from uneven_sum.demo import find
from uneven_sum.protocol import Finding
from uneven_sum.protocol.trips import AUDIT_RULES


def audit(path: str, rules: list[str] | None = None, python: str | None = None) -> list[Finding]:
    launch = Launch(path, python=python, audit=rules or [], pause_on=set(), checks=False)
    launch.capture = True
    outcome = asyncio.run(check(launch))
    assert outcome.findings is not None and outcome.outcome == "finished", outcome
    return outcome.findings


@pytest.mark.parametrize("rule", sorted(set(AUDIT_RULES) - {"integer-division", "degrees", "rounding"}))
def test_a_fault_of_each_rule_comes_to_the_client(rule: str, script) -> None:
    """All faults and clean scripts: `unit/agent/test_rules.py`."""
    text, line = next(c for c in cases(rule) if c.line)
    found = audit(script(text))
    assert (rule, line) in [(f.rule, f.line) for f in found], (text, found)
    one = next(f for f in found if f.rule == rule)
    assert one.headline.endswith((".", "?")) and one.evidence and 0 < one.weight <= 1 and one.term and one.statement


def test_a_singular_matrix_has_a_finding_without_a_number(script) -> None:
    (found,) = audit(script("import jax.numpy as jnp\nx = jnp.linalg.inv(jnp.zeros((2, 2)))\n"), ["ill-conditioned"])
    assert "is singular, no digit of the result is sure" in found.headline and found.evidence["condition"] == "inf"


def test_large_arrays_are_looked_at_in_part_and_calls_with_them_are_named(script) -> None:
    text = "import numpy as np\nx = np.full(21_000_000, 2_000_000_000, dtype=np.int32)\ny = x + x\nz = np.sum(x)\n"
    launch = Launch(script(text), audit=[], pause_on=set(), checks=False, capture=True)
    outcome = asyncio.run(check(launch))
    (found,) = outcome.findings
    assert (found.rule, found.line, found.cell) == ("wrap", 3, None)
    assert found.headline.endswith("One of every 11 slices of the array was looked at.")
    assert outcome.notes == ["Not looked at: np.sum(x) in line 4, with 21,000,000 cells."]


def test_the_rules_are_known_on_both_sides() -> None:
    assert set(NAMES) == set(AUDIT_RULES)


def test_one_finding_a_place_with_how_often_and_the_first_pass(script) -> None:
    text = "import numpy as np\nlevels = np.zeros(9, dtype=int)\nfor k in range(9):\n    levels[k] = k * 0.5\nprint(levels)\n"
    (found,) = audit(script(text))
    assert (found.times, found.at_pass, found.function) == (4, 2, "<module>")
    assert found.headline.startswith("levels[k] stores integers (int64): 0.5 becomes 0.") and found.right == "0.5"
    assert found.statement == "levels[k] = k * 0.5"


def test_only_the_named_rules_run_and_weak_ones_when_named(script) -> None:
    path = script(
        "import math\nfor k in range(9):\n    n = k // 20\nprint(math.sin(90), int(0.29 * 100), n, round(0.5))\n"
    )
    assert [f.rule for f in audit(path)] == ["truncation"]
    weak = ["degrees", "integer-division", "rounding"]
    assert {f.rule for f in audit(path, weak)} == set(weak)


HOSTILE = """
class Odd:
    def __add__(self, other):
        raise ZeroDivisionError("no")
    def __eq__(self, other):
        raise ValueError("none of that")
    __hash__ = None
    def __len__(self):
        raise OSError
    def __iter__(self):
        raise OSError
    dtype = property(lambda self: 1 / 0)
    shape = property(lambda self: 1 / 0)

odd, met = Odd(), []
for step in (lambda: odd + 1, lambda: odd == 2, lambda: list(odd), lambda: max(odd), lambda: sum(odd)):
    try:
        step()
    except (ZeroDivisionError, ValueError, OSError, TypeError) as e:
        met.append(type(e).__name__)
print(met)
import sys
from pathlib import Path
print(sys._getframe().f_code.co_name)
"""


def test_operators_that_raise_do_so_for_the_script(script) -> None:
    path = script(HOSTILE)
    plain = subprocess.run([sys.executable, path], capture_output=True, text=True).stdout
    command = [sys.executable, "-m", "uneven_sum", "check", "--audit", path]
    done = subprocess.run(command, capture_output=True, text=True)
    assert done.stdout == plain and done.returncode == 0 and "No findings." in done.stderr


def test_a_script_that_ends_in_an_error_shows_what_was_found(script) -> None:
    path = script("print(int(0.29 * 100))\nraise SystemExit(3)\n")
    command = [sys.executable, "-m", "uneven_sum", "check", "--audit", "--json", path]
    done = subprocess.run(command, capture_output=True, text=True)
    told = json.loads(done.stdout)
    assert done.returncode == 1 and told["exit_status"] == 3
    (finding,) = told["findings"]
    assert finding["rule"] == "truncation" and finding["pass"] is None and finding["right"] == "29"


@pytest.mark.parametrize(
    ("options", "said"),
    [
        (["--audit", "--rules", "nothing"], "--rules does not know nothing"),
        (["--rules", "wrap"], "--rules is for --audit"),
    ],
)
def test_bad_options(options: list[str], said: str, script) -> None:
    command = [sys.executable, "-m", "uneven_sum", "check", *options, script("x = 1\n")]
    done = subprocess.run(command, capture_output=True, text=True)
    assert done.returncode == 2 and said in done.stderr


def test_an_audit_on_each_interpreter(script, interpreter: str) -> None:
    text = "total = 1e17\nfor k in range(100):\n    total += 1.0\nprint(total, int(0.29 * 100))\nx = 'a' + 'b'\n"
    assert [(f.rule, f.line) for f in audit(script(text), python=interpreter)] == [("absorption", 3), ("truncation", 4)]


WARNS = """
import numpy as np, warnings
largest = np.int32(2**31 - 1)
def more(x):
    return (x
            + np.int32(1))
for k in range(3):
    a = largest + np.int32(k)
    b = more(largest)
c = np.array([1.0, 0.0]) / np.array([0.0, 0.0])
warnings.warn("low", stacklevel=1)
with warnings.catch_warnings(record=True) as met:
    warnings.simplefilter("always")
    for k in range(2):
        largest + np.int32(9)
print(len(met), met[0].lineno, met[0].filename)
warnings.simplefilter("error")
try:
    largest + np.int32(9)
except RuntimeWarning as e:
    print(e)
"""


def test_warnings_of_audited_calculations_stand_at_the_scripts_lines(script) -> None:
    path = script(WARNS)
    plain = subprocess.run([sys.executable, path], capture_output=True, text=True)
    command = [sys.executable, "-m", "uneven_sum", "check", "--audit", path]
    done = subprocess.run(command, capture_output=True, text=True)
    assert plain.stderr.count("Warning") >= 4
    assert done.stdout == plain.stdout and done.stderr.startswith(plain.stderr)


@pytest.mark.parametrize(
    ("name", "rule", "line"),
    [("clock", "wrap", 9), ("rain", "lost-rows", 18), ("twins", "ill-conditioned", 11), ("total", "absorption", 29)],
)
def test_demo_cases_whose_fault_is_finite(name: str, rule: str, line: int) -> None:
    (found,) = [f for f in audit(str(find(name))) if not f.question]
    assert (found.rule, found.line, found.word) == (rule, line, "wrong")


def test_a_report_of_the_findings(script, tmp_path) -> None:
    path = script("print(int(0.29 * 100))\n", "gauge.py")
    out = tmp_path / "findings.md"
    command = [sys.executable, "-m", "uneven_sum", "check", "--audit", "--report", str(out), path]
    done = subprocess.run(command, capture_output=True, text=True)
    text = out.read_text()
    assert done.returncode == 1 and "wrong at line 1 of gauge.py: truncation" in text and "Right would be: 29" in text
    assert "1 finding." in text and done.stderr.startswith("wrong: int(0.29 * 100) cuts")
    assert "to try: print(round(0.29 * 100))" in done.stderr


MANY = """
import numpy as np
class Odd:
    def __add__(self, other):
        self.n = getattr(self, "n", 0) + 1
        return self
    def __getattr__(self, name):
        if name == "n":
            raise AttributeError(name)
        raise OSError(name)
odd = Odd()
for k in range(5):
    odd = odd + k
a = np.array([1, "x", None], dtype=object)
a[0] = 2.5
counts = np.zeros(4, dtype=int)
for k in range(10_000):
    counts[k % 4] = k + 0.5
import pandas as pd
twice = pd.DataFrame([[1.0, 2.0], [3.0, 4.0]], columns=["x", "x"])
print((twice + twice).sum().sum(), twice.merge(twice.iloc[:, :1], left_index=True, right_index=True).shape, odd.n)
large = np.ones(30_000_000, dtype=np.int8)
print((large + large).max())
"""


def test_odd_objects_large_arrays_and_ten_thousand_times(script) -> None:
    path = script(MANY)
    plain = subprocess.run([sys.executable, path], capture_output=True, text=True).stdout
    command = [sys.executable, "-m", "uneven_sum", "check", "--audit", "--json", path]
    done = subprocess.run(command, capture_output=True, text=True)
    (finding,) = json.loads(done.stdout)["findings"]
    assert (finding["rule"], finding["times"]) == ("truncation", 10_000) and plain in done.stderr


# -- what follows from a finding -----------------------------------------------------------------------------

THROUGH_NAMES = """
import numpy as np
ticks = np.array([2_000_000_000], dtype=np.int32)
late = ticks + np.int32(500_000_000)
shown = late
twice = shown * np.int32(3)
"""
THROUGH_A_CALL = """
import numpy as np
def later(ticks):
    moved = ticks + np.int32(500_000_000)
    return moved
twice = later(np.array([2_000_000_000], dtype=np.int32)) * np.int32(3)
"""
SET_ANEW = """
import numpy as np
ticks = np.array([2_000_000_000], dtype=np.int32)
late = ticks + np.int32(500_000_000)
late = np.array([1_900_000_000], dtype=np.int32)
twice = late * np.int32(3)
"""
ANOTHER_FAULT = """
import numpy as np
ticks = np.array([2_000_000_000], dtype=np.int32)
late = ticks + np.int32(500_000_000)
counts = np.zeros(1, dtype=int)
counts[0] = 17.5 + late[0]
"""


@pytest.mark.parametrize(
    ("text", "lines"),
    [
        (THROUGH_NAMES, {4: [6]}),
        (THROUGH_A_CALL, {4: [6]}),
        (SET_ANEW, {4: [], 6: []}),
        (ANOTHER_FAULT, {4: [], 6: []}),
    ],
    ids=["names", "call", "set anew", "another fault"],
)
def test_what_comes_from_a_finding_is_listed_under_it(text: str, lines: dict[int, list[int]], tmp_path: Path):
    found = audit_here(text, tmp_path / "clock.py")
    assert {f.place.line: [u.place.line for u in f.follows] for f in found} == lines
