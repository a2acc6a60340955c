"""Stored outputs beside those of a run."""

from __future__ import annotations

import pytest

from uneven_sum.notebooks.hidden import Output, difference, out_of_order, same
from uneven_sum.notebooks.sheet import Place

SAME = [
    ("3.5", "np.float64(3.5)"),
    ("(1.0, 2.0)", "(np.float64(1.0), np.float64(2.0))"),
    ("0.30000000000000004", "0.3"),
    ("array([1., 2.])", "array([1.,  2.])"),
    ("[1,\n 2,\n 3]", "[1, 2, 3]"),
    ("<a.B at 0x7f01>", "<a.B at 0x7f99>"),
    ("(<a.B at 0x7f01>, 2)", "(<a.B object at 0x7f99>, 2)"),
    ("Time:  18:09:59  BIC 1949.102", "Time: 18:10:06  BIC 1949.102"),
    ("EDM = 2e-05 │ time = 0.3 sec │", "EDM = 2e-05 │ time = 12.8 sec │"),
    ("Date: Sat, 28 Nov 2026", "Date: Sun, 29 Nov 2026"),
    ("numpy.ndarray", "<class 'numpy.ndarray'>"),
    ("nan", "nan"),
    ("a\nCPU times: user 3 ms\nWall time: 2 s", "a\nWall time: 5 ms"),
    ("{'a', 'b'}", "{'b', 'a'}"),
    ("{3, 1, 2}", "{1, 2, 3}"),
    ("\x1b[31mred\x1b[0m", "red"),
]
OTHER = [
    ("3.5", "3.6"),
    ("nan", "3.5"),
    ("1", "1 2"),
    ("station_a", "station_b"),
    ("[365 rows x 4 columns]", "[364 rows x 4 columns]"),
    ("[1, 2]", "[2, 1]"),
    ("-1.0", "1.0"),
    ("1e-3", "1e-4"),
    ("ab", "ba"),
    ("time = 3.0 d", "time = 4.0 d"),
    ("2031-01-01 09:00:00", "2031-01-01 09:00:01"),
]


@pytest.mark.parametrize("a, b", SAME)
def test_what_is_the_same(a: str, b: str) -> None:
    assert same(a, b) and same(b, a)


@pytest.mark.parametrize("a, b", OTHER)
def test_what_is_not(a: str, b: str) -> None:
    assert not same(a, b) and not same(b, a)


def test_the_first_line_that_differs_is_told() -> None:
    was = [Output("text", "days 365\ntotal 12.5\n"), Output("figure", "<Figure>")]
    now = [Output("text", "days 365\ntotal 13.5\n"), Output("figure", "<Figure>")]
    found = difference(4, was, now)
    assert found is not None and (found.number, found.kind) == (4, "output")
    assert found.text == "stored: total 12.5; now: total 13.5"
    assert difference(4, was, was) is None
    assert difference(4, was, was[:1]).text == "1 figure stored, the run draws 0"
    assert difference(4, was[:1], was) is None, "interactive drawings are stored as scripts"
    error = [Output("error", "NameError: name 'x' is not defined")]
    assert "is an error (NameError: name 'x' is not defined)" in difference(4, error, now).text
    assert difference(4, [Output("value", "<Axes: >")], [Output("value", "<AxesSubplot>")]) is None


def test_cells_that_ran_before_the_ones_above() -> None:
    counts = [1, 4, 0, 3, 5]
    found = out_of_order([Place(n, "code", 2 * n, 2 * n, count=c) for n, c in enumerate(counts, 1)])
    assert [(one.number, one.kind) for one in found] == [(4, "order")]
    assert found[0].text == "it ran before cell 2, which stands above it (In [3] and In [4])"
