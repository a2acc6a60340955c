"""The list of repairs in process: tried, chosen, opened as an edit."""

from __future__ import annotations

from driving_app import settled, until
from textual.widgets import OptionList, TextArea

from uneven_sum.app.app import UnevenSum
from uneven_sum.app.bench.repairs import Repairs
from uneven_sum.app.bench.try_edit import TryChange
from uneven_sum.app.widgets.bars import Keys
from uneven_sum.client import Launch
from uneven_sum.demo import find


async def test_a_repair_is_tried_and_opened_as_an_edit() -> None:
    path = find("rating")
    app = UnevenSum(Launch(str(path), cwd=str(path.parent), keep_case=False))
    async with app.run_test(size=(160, 48)) as pilot:
        bench = await settled(pilot, "paused", 35)
        assert ("r", "list repairs") in bench.query_one(Keys).pairs
        await pilot.press("r")
        await until(pilot, lambda: isinstance(app.screen, Repairs))
        listed = app.screen
        await until(pilot, lambda: len(listed.results) == len(listed.found) == 4, 60)
        assert listed.results[0] == ("0.0", False) and listed.results[2] == (
            "does not run: the pass is left out",
            False,
        )
        bad = listed.results[1]
        assert bad[1] and "nan" in bad[0]
        await pilot.press("down", "down", "down")
        assert listed.query_one(OptionList).highlighted == 3
        await pilot.press("enter")
        await until(pilot, lambda: isinstance(app.screen, TryChange))
        await until(pilot, lambda: app.screen.query_one(TextArea).text == listed.found[3].text)
        await until(pilot, lambda: app.screen.fine, 60)
        await pilot.press("escape")
        await until(pilot, lambda: app.screen is bench)


async def test_where_no_repair_is_known_it_is_said(script) -> None:
    app = UnevenSum(Launch(script("x = 1.0\nraise ValueError('no')\n"), keep_case=False))
    async with app.run_test(size=(120, 40)) as pilot:
        bench = await settled(pilot, "paused", 2)
        assert all(key != "r" for key, _ in bench.query_one(Keys).pairs)
        await pilot.press("r")
        await until(pilot, lambda: "No repair is known for this pause" in " ".join(app.messages))
