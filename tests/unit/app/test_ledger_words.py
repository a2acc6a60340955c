"""What a Ledger calls its rows, and the column at which it opens."""

from __future__ import annotations

from types import SimpleNamespace
from typing import Any

import pytest

from uneven_sum.app.ledger.opening import opening_column
from uneven_sum.app.ledger.units import in_units
from uneven_sum.client.ledger import Column
from uneven_sum.protocol.messages import Culprit, LedgerColumn, Operand


@pytest.mark.parametrize(
    ("kind", "said"),
    [
        ("loop", "grows by 2 per pass, in 3 passes. Passes that pass2"),
        ("calls", "grows by 2 per call, in 3 calls. Calls that pass2"),
        ("elements", "grows by 2 per element, in 3 elements. Elements that pass2"),
    ],
)
def test_units(kind: str, said: str) -> None:
    assert in_units("grows by 2 per pass, in 3 passes. Passes that pass2", kind) == said


def columns(*names: str, bad: str = "") -> list[Column]:
    made = [LedgerColumn(name, "", "...", "float64", of=name.partition(".")[0], bad=int(name == bad)) for name in names]
    return [Column(one, [0.0, 1.0, 2.0]) for one in made]


def paused(statement: str, culprit: str = "", *operands: str) -> Any:
    found = Culprit(culprit, "", "", [Operand(name, "") for name in operands]) if culprit else None
    return SimpleNamespace(statement=statement, culprit=found)


def test_where_it_opens() -> None:
    assert opening_column(columns("day", "level", "head"), paused("flow = C * head ** 1.5", "head ** 1.5", "head")) == 2
    assert (
        opening_column(columns("dt", "coming.min", "through.min"), paused("x = 1", "coming - through", "coming")) == 1
    )
    assert opening_column(columns("day", "level", "tank.level"), paused("total += tank.level")) == 2
    assert opening_column(columns("day", "level", "rain", bad="rain"), paused("print(day_of(3)")) == 2
    assert opening_column(columns("day", "level"), None) == 1
    assert opening_column(columns("day"), None) == 0
