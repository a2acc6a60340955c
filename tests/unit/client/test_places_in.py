"""What an origin can be asked of in an expression."""

from __future__ import annotations

import pytest

from uneven_sum.client.origin.places_in import places_in


@pytest.mark.parametrize(
    ("text", "places"),
    [
        ("np.sqrt(matrix[0, 1] - 100.0)", ["matrix[0, 1]"]),
        ("level[0, k] - 3 * tank.sill", ["level[0, k]", "tank.sill"]),
        ("(inflow - outflow).sum() / len(days)", ["inflow", "outflow", "days"]),
        ("rows[draw()].level", ["rows"]),
        ("abs(x) + x", ["x"]),
        ("[q * 2 for q in flows]", ["q", "flows"]),
        ("1.0 / 0.0", []),
        ("level =", []),
    ],
)
def test_places(text: str, places: list[str]) -> None:
    assert places_in(text) == places
