"""The rules of an audit: each finds its faults at their line, and is silent on clean scripts that look alike."""

from __future__ import annotations

from pathlib import Path

import pytest
from auditing import FOLDER, audit_here, cases

from uneven_sum.agent.audit.rules import NAMES, RULES

FAULTY = sorted(p.stem for p in FOLDER.glob("*.txt") if p.stem != "clean")
WEAK = {kind.NAME for kind in RULES if kind.WEAK}
NEAR = {"float-equality": {"lost-rows"}, "duplicated-rows": {"lost-rows"}}  # which may name the same fault


@pytest.mark.parametrize("rule", FAULTY)
def test_faults_are_found_at_their_line(rule: str, tmp_path: Path) -> None:
    missed = []
    for number, (text, line) in enumerate(c for c in cases(rule) if c.line):
        found = audit_here(text, tmp_path / f"faulty_{number}.py")
        here = [f for f in found if f.place.line == line and f.rule in {rule, *NEAR.get(rule, ())}]
        if not here:
            missed.append((text, [(f.rule, f.place.line) for f in found]))
        for one in here:
            assert one.headline.endswith((".", "?")) and one.evidence and 0 < one.weight <= 1 and one.place.text
            assert one.headline.endswith("?") <= one.question, one.headline
    assert not missed


@pytest.mark.parametrize("name", [*FAULTY, "clean"])
def test_clean_scripts_have_no_finding(name: str, tmp_path: Path) -> None:
    for number, (text, _) in enumerate(c for c in cases(name) if not c.line):
        found = [f for f in audit_here(text, tmp_path / f"clean_{number}.py") if not f.question]
        assert not found, (text, [(f.rule, f.place.line, f.headline) for f in found])


def test_each_rule_has_faulty_and_clean_scripts() -> None:
    assert set(FAULTY) == set(NAMES) - WEAK
    for rule in FAULTY:
        known = cases(rule)
        few = 1 if rule in ("dates", "out-of-range", "swallowed") else 3
        assert sum(c.line > 0 for c in known) >= 3, rule
        assert sum(c.line == 0 for c in known) >= few, rule


def test_what_is_said_of_a_cancellation(tmp_path: Path) -> None:
    text = "import math\nb = 1e8\nr = math.sqrt(b * b - 4.0)\nx = (-b + r) / 2.0\n"
    (found,) = audit_here(text, tmp_path / "root.py")
    assert (found.rule, found.place.line, found.evidence["digits"]) == ("cancellation", 4, 0)
    assert found.right is not None and abs(float(found.right) + 1e-8) < 1e-20
    assert "(-b + r) / 2.0" in found.headline and "1e-08" in found.headline


def test_higher_precision_does_not_call_the_script(tmp_path: Path) -> None:
    text = (
        "calls = 0\ndef f(x):\n    return x * x * x - 3.0 * x\ndef g(x):\n    global calls\n    calls += 1\n    return f(x)\n"
        "h = 1e-12\nd = (f(2.0 + h) - f(2.0 - h)) / (2.0 * h)\ne = (g(2.0 + h) - g(2.0 - h)) / (2.0 * h)\n"
        "assert calls == 2\n"
    )
    found = audit_here(text, tmp_path / "slope.py")
    assert [(f.rule, f.place.line) for f in found] == [("cancellation", 9)]  # g is more than arithmetic
    assert abs(float(found[0].right or 0) - 9.0) < 1e-6


def test_a_private_attribute_and_odd_places_are_changed_as_before(tmp_path: Path) -> None:
    text = (
        "class Gauge:\n    def __init__(self):\n        self.__n, self.m = 1, [0.0]\n    def go(self):\n"
        "        self.__n += 1; self.m[0] -= 0.5; self.m += [2.0]\n        return self.__n, self.m\n"
        "order = []\ndef say(x, y):\n    order.append(x)\n    return y\nrow = [1, 2]\n"
        "say('owner', row)[say('index', 0)] += say('value', 5)\nassert order == ['owner', 'index', 'value'] and row == [6, 2]\n"
        "assert Gauge().go() == (2, [-0.5, 2.0])\nassert 3 in [3] and 4 not in [3] and -row[0] == -6\n"
    )
    assert not audit_here(text, tmp_path / "odd.py")


@pytest.mark.parametrize(
    ("text", "fix"),
    [
        ("n = int(0.29 * 100)\n", "n = round(0.29 * 100)"),
        ("import pandas as pd\ndf = pd.DataFrame({'x': [2, 1]})\ndf.sort_values('x')\n", "df = df.sort_values('x')"),
        ("x = 0.1 + 0.2\nfull = x == 0.3\n", "full = math.isclose(x, 0.3)"),
        ("import numpy as np\nq = np.array([1.0, np.nan])\nday = np.argmax(q)\n", "day = np.nanargmax(q)"),
        ("import numpy as np\nq = np.zeros(2, dtype=int)\nq[0] = 2.5\n", None),
    ],
)
def test_a_changed_line_where_one_is_safe_to_propose(text: str, fix: str | None, tmp_path: Path) -> None:
    (found,) = audit_here(text, tmp_path / "fixed.py")
    assert found.fix == fix
