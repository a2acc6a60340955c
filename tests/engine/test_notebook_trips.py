"""Every way a number can go wrong once more, with each statement in a cell of its own."""

from __future__ import annotations

from pathlib import Path

import pytest
from as_notebook import line_of, split, write
from driving import running
from trips_cases import CASES


@pytest.mark.parametrize("name", CASES)
async def test_trip_in_cells(name: str, tmp_path: Path) -> None:
    source, wanted = CASES[name]
    cells, places = split(source)
    path = write(tmp_path / "cells.ipynb", *cells)
    async with running(path, go_on=True) as run:
        await run.client.write_input(None)
        assert await run.pause() is None
    assert not run.trouble
    got = [
        (f.reason, f.kind, f.line, f.function, f.culprit.text if f.culprit else None, f.loops and f.loops[0].number)
        for f in run.trips
    ]
    assert len(got) == len(wanted), got
    for mine, theirs in zip(got, wanted):
        reason, kind, line, function, culprit, at_pass = theirs
        assert mine[:4] == (reason, kind, line_of(path, *places[line]), function)
        assert culprit is None or mine[4] == culprit
        assert at_pass is None or mine[5] == at_pass
