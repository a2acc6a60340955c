"""Which values are kept after their call."""

from __future__ import annotations

import datetime
import decimal
import fractions
import io
import mmap
import pathlib
import sys
import weakref
from collections import defaultdict

import numpy as np
import pandas as pd
import pytest

from uneven_sum.agent.pause.last_calls import NotKept, _Look


class Slots:
    __slots__ = ("level",)


class Closing:
    def __del__(self) -> None:
        pass


KEPT = [1, 2.5, "text", None, [1.0] * 5000, {"a": [1, (2, 3)]}, np.ones(4), np.ones((4, 4))[::2], np.float64(1.0)]
KEPT += [pd.DataFrame({"stage": [1.0, 2.0]}), pd.Timestamp("2031-01-01"), defaultdict(list, {"a": [1]}), {1, 2}]
KEPT += [np.array([1, "a"], dtype=object), np.ma.masked_array([1.0], [True]), np.random.default_rng(1)]
KEPT += [decimal.Decimal("1.5"), fractions.Fraction(1, 3), datetime.datetime(2031, 1, 1), pathlib.Path("stage.csv")]
HELD = np.ones(3)
WEAK = weakref.ref(HELD)
NOT_KEPT = [io.StringIO(), Closing(), [1, [Closing()]], {"a": io.FileIO(sys.executable)}, HELD, (n for n in ())]
NOT_KEPT += [np.frombuffer(mmap.mmap(-1, 64)), np.array([1, Closing()], dtype=object), sys._getframe()]


@pytest.mark.parametrize("value", KEPT, ids=lambda v: type(v).__name__)
def test_data_are_kept(value: object) -> None:
    assert _Look(1 << 30).why_not(value) == ""


@pytest.mark.parametrize("value", NOT_KEPT, ids=lambda v: type(v).__name__)
def test_what_may_hold_more_is_not_kept(value: object) -> None:
    assert _Look(1 << 30).why_not(value) != ""


def test_sizes() -> None:
    look = _Look(1000)
    assert look.why_not(np.zeros(200)) == "too large" and look.size == 1600
    view = np.zeros(200)[:3]
    assert _Look(1000).why_not(view) == "too large"  # what it is a view of stays, too
    assert repr(NotKept(list, "too large")) == "not kept after its call: list (too large)"
    assert _Look(1 << 30).why_not([[n] for n in range(300_000)]) == "more than 200,000 parts"
