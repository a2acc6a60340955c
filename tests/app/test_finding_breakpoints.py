"""Breakpoints that wait for a finding, set on the Lookouts screen; and the pictures of the evidence."""

from __future__ import annotations

from driving_app import settled, until
from textual.widgets import Input, Static

from uneven_sum.app.app import UnevenSum
from uneven_sum.app.lookouts.screen import Lookouts
from uneven_sum.app.plotting.pictures import picture
from uneven_sum.app.shell.theme import PALETTES
from uneven_sum.app.widgets.dialogs import EditSentence
from uneven_sum.client import Launch
from uneven_sum.demo import find
from uneven_sum.protocol.messages import Picture, PictureLine

P = PALETTES["slate"]


async def test_a_wrapped_integer_is_waited_for_from_the_first_line() -> None:
    app = UnevenSum(Launch(str(find("clock")), keep_case=False, pause_on={"start"}, pause_on_given=True))
    async with app.run_test(size=(120, 40)) as pilot:
        bench = await settled(pilot, "paused", 1)
        await pilot.press("5")
        await until(pilot, lambda: isinstance(app.screen, Lookouts))
        await pilot.press("n")
        await until(pilot, lambda: isinstance(app.screen, EditSentence))
        line, words = app.screen.query_one(Input), app.screen.query_one("#words", Static)
        line.value = "pause w"
        await until(pilot, lambda: "pause where an integer wraps, …" in str(words.content))
        assert "ill-conditioned" not in str(words.content)
        line.value = "pause where an i"
        line.cursor_position = len(line.value)
        await until(pilot, lambda: "an integer wraps" in str(words.content) and "lookout" not in str(words.content))
        await pilot.press("tab")
        assert line.value == "pause where an in"  # an integer, an index
        await pilot.press("t", "tab")
        assert line.value == "pause where an integer wraps"
        await pilot.press("enter")
        await until(pilot, lambda: isinstance(app.screen, Lookouts))
        await until(pilot, lambda: "pause where an integer wraps" in [row.text for row in app.screen.lines])
        await pilot.press("escape", "enter")
        await settled(pilot, "paused", 9)
        assert bench.facts.finding.rule == "wrap" and "wraps around in 3 cells" in bench.facts.headline


def test_a_map_shows_where_the_cells_are() -> None:
    shown = picture(Picture("cells", shares=[[0.0, 0.2, 1.0]], shape=[1, 300]), P).plain.split("\n")
    assert shown[0] == " ░█" and shown[1].startswith("0") and shown[1].endswith("299")
    table = picture(Picture("cells", shares=[[1.0], [0.0]], shape=[20, 30]), P).plain.split("\n")
    assert table == ["█", " ", "20 rows, 30 columns"]


def test_curves_have_their_ends_and_gaps() -> None:
    lines = [PictureLine("exact", [0.0, None, 4.0], [1.0, None, 5.0]), PictureLine("stored", [0.0] * 3, [0.0] * 3)]
    shown = picture(Picture("by cell", lines=lines, size=3), P).plain
    assert shown.split("\n")[0].lstrip().startswith("5") and "exact" in shown and "stored" in shown
    assert shown.split("\n")[-2].split() == ["0", "2"]
    nothing = picture(Picture("by cell", lines=[PictureLine("x", [None], [None])], size=1), P)
    assert nothing.plain == "no finite value"
