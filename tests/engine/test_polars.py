"""polars keeps what is missing (null) apart from nan and infinities; so do the pauses."""

from __future__ import annotations

import pytest
from driving import running

pytest.importorskip("polars")

HEAD = (
    "import polars as pl\n"
    "days = pl.DataFrame({'day': [1, 2, 3, 4], 'level': [1.0, None, 3.0, 4.0], 'rain': [float('nan'), 1.0, 2.0, 3.0]})\n"
    "full = pl.DataFrame({'day': [1, 2, 3, 4], 'level': [1.0, 2.0, 3.0, 4.0]})\n"
    "some = pl.DataFrame({'day': [1, 2], 'gauge': [3.0, 4.0]})\n"
)


async def pauses(script, text: str) -> list:
    async with running(script(HEAD + text + "\n"), go_on=True) as run:
        assert await run.pause() is None
    assert not run.trouble and not run.err, run.err
    return run.trips


CREATED = {  # what a headline says of the cells
    "x = full['level'] / (full['day'] - 3)": "Infinite cells created at line 5: x would hold 1 infinite cell, first at row 2",
    "x = full.with_columns(r=pl.col('level') / (pl.col('day') - 3))": "1 infinite cell in r, first at row 2",
    "x = full.select((pl.col('level') / (pl.col('day') - 3)).alias('r'))['r']": "x would hold 1 infinite cell",
    "x = full.with_columns((pl.col('level') - 1).log())": "1 infinite cell in level, first at row 0",
    "x = full.lazy().with_columns(q=pl.col('level') / 0).collect()": "4 infinite cells in q",
    "x = days['level'] / (days['day'] - 3)": "2 missing or infinite cells",
    "x = days.with_columns(r=pl.col('day') / (pl.col('day') - 3))": "(1 in level, 1 in rain, 1 in r)",
    "x = (days['rain'] - 2).log()": "3 nan or infinite cells",
    "x = (full['level'] - 2).sqrt()": "nan cells created at line 5: x would hold 1 nan cell, first at row 0",
    "x = full['day'] // (full['day'] - 3)": "Missing cells created at line 5: x would hold 1 missing cell",
    "x = full.group_by('day').agg(pl.col('level').std())": "4 missing cells in level",
}


@pytest.mark.parametrize("text", CREATED)
async def test_arithmetic_that_makes_bad_cells(text: str, script) -> None:
    (found,) = await pauses(script, text)
    assert (found.reason, found.kind) == ("nonfinite", "created") and CREATED[text] in found.headline


async def test_the_operands_are_shown_in_the_row_that_is_new(script) -> None:
    (found,) = await pauses(script, "x = days['level'] / (days['day'] - 3)")
    assert "at [2] with days['level'] = 3.0, days['day'] - 3 = 0, a division by zero" in found.headline


MEANT = [
    "x = days.with_columns(pl.when(pl.col('level') > 2).then(pl.col('level')))",
    "x = full.with_columns(pl.when(pl.col('level') < 2).then(None).otherwise(pl.col('level')).alias('kept'))",
    "x = full.with_columns(note=pl.lit(None))",
    "x = full.with_columns(d=pl.col('level').diff(), s=pl.col('level').shift(1), p=pl.col('level').pct_change())",
    "x = full['level'].shift(1)\ny = full['level'].rolling_mean(2)\nz = full.select(pl.col('level').rolling_std(2))",
    "x = days['level'] * 2\ny = days['rain'] * 2\nz = days['level'].mean(), days['level'].sum()",
    "x = days.with_columns(pl.col('level').log(), pl.col('rain').sqrt())",
    "x = full.pivot('day', index='level', values='level')",
    "x = full.join(some, on='day', how='left')\ny = x['gauge'].fill_null(0.0) * 2\nz = x['gauge'].mean()",
    "x = full.join(some, on='day', how='left')['gauge']",
]


@pytest.mark.parametrize("text", MEANT)
async def test_what_is_missing_by_design_does_not_pause(text: str, script) -> None:
    assert not await pauses(script, text)


async def test_the_gaps_of_a_join_pause_where_they_enter_arithmetic(script) -> None:
    text = "def depth(column):\n    return column + 1.0\nx = full.join(some, on='day', how='left')\n"
    (found,) = await pauses(script, text + "y = x['gauge'] * 2.0")
    assert (found.kind, found.line) == ("gaps", 8) and "2 empty cells left by full.join" in found.headline
    (found,) = await pauses(script, text + "y = depth(x['gauge'])")
    assert (found.kind, found.line) == ("gaps", 6) and "enter the arithmetic by column" in found.headline
