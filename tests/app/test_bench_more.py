"""Questions in turn, long values, pointing by key, the keys of the bottom line: in-process."""

from __future__ import annotations

import base64
import struct

import pytest
from driving_app import rest, settled, until
from textual.widgets import RichLog

from uneven_sum.app.app import UnevenSum
from uneven_sum.app.bench.ask_drawer import AskDrawer
from uneven_sum.app.bench.cards import Cards
from uneven_sum.app.closeup.screen import CloseUp
from uneven_sum.app.plotting.charts import line
from uneven_sum.app.plotting.number_format import Format
from uneven_sum.app.shell.theme import PALETTES
from uneven_sum.app.widgets.bars import Keys, Trail
from uneven_sum.app.widgets.dialogs import Choose, Prompt
from uneven_sum.app.widgets.grid import Grid
from uneven_sum.app.widgets.notice import Notice
from uneven_sum.app.widgets.options import Options
from uneven_sum.app.widgets.plot import Plot
from uneven_sum.app.widgets.sheet import Sheet
from uneven_sum.client import Launch
from uneven_sum.demo import find


async def test_answers_stand_under_their_own_questions(script) -> None:
    path = script("import time\ndef slow(n):\n    time.sleep(0.6)\n    return n\nx = 1\nbreakpoint()\n")
    app = UnevenSum(Launch(path, keep_case=False, pause_on=set()))
    async with app.run_test(size=(140, 42)) as pilot:
        bench = await settled(pilot, "paused", 6)
        await pilot.press("a")
        for text in ("slow(11)", "slow(12)", "x + 12"):
            bench.query_one(AskDrawer).post_message(AskDrawer.Asked(text))
        log = bench.query_one(AskDrawer).query_one(RichLog)
        await until(pilot, lambda: any("13" in line.text for line in log.lines))
        lines = [line.text.split()[:2] for line in log.lines]
        assert lines == [["?", "slow(11)"], ["11", "int"], ["?", "slow(12)"], ["12", "int"], ["?", "x"], ["13", "int"]]


PARTS = """
import numpy as np
levels = [{"n": n} for n in range(1_000_000)]
page = "<!doctype html><html><body><p>sill<br>weir<ul><li>gauge 1<li>gauge 2</ul></body></html>"
words = "\\n".join(f"day {n}: calm" for n in range(3000)).replace("day 2500: calm", "day 2500: Storm")
breakpoint()
"""


async def test_long_lists_texts_and_pages_are_gone_into(script) -> None:
    app = UnevenSum(Launch(script(PARTS), keep_case=False, pause_on=set()))
    async with app.run_test(size=(140, 42)) as pilot:
        bench = await settled(pilot, "paused", 6)
        bench.values.open_closeup(["levels"])
        await until(pilot, lambda: isinstance(app.screen, CloseUp) and app.screen.query("Tree"))
        tree = app.screen.query_one("Tree")
        await until(pilot, lambda: len(tree.root.children) == 301)
        assert "999700 more" in str(tree.root.children[-1].label)
        tree.root.children[-1].expand()
        await until(pilot, lambda: len(tree.root.children) == 601)
        assert str(tree.root.children[300].label).startswith("[300]")
        await pilot.press("g")
        await until(pilot, lambda: isinstance(app.screen, Prompt))
        await pilot.press(*"777777", "enter")
        await until(pilot, lambda: str(tree.root.children[0].label).startswith("[777777]"))
        tree.root.children[0].expand()
        await until(pilot, lambda: tree.root.children[0].children)
        assert "777777" in str(tree.root.children[0].children[0].label)

        await pilot.press("escape")
        bench.values.open_closeup(["page"])
        await until(pilot, lambda: isinstance(app.screen, CloseUp) and app.screen.query("Tree"))
        tree = app.screen.query_one("Tree")
        assert str(tree.root.label) == "HTML"
        await pilot.press("slash")
        await until(pilot, lambda: isinstance(app.screen, Prompt))
        await pilot.press(*"weir", "enter")
        await until(pilot, lambda: tree.cursor_node is not None and "weir" in str(tree.cursor_node.label))

        await pilot.press("escape")
        bench.values.open_closeup(["words"])
        await until(pilot, lambda: isinstance(app.screen, CloseUp) and app.screen.query("#text"))
        area = app.screen.query_one("#text")
        await pilot.press("slash")
        await until(pilot, lambda: isinstance(app.screen, Prompt))
        await pilot.press(*"storm", "enter")
        await until(pilot, lambda: area.selected_text == "Storm")
        assert "line 2,501 of 3,000" in str(app.screen.query_one("#said").render())
        await pilot.press("x", "y")
        assert area.text.count("day") == 3000, "nothing is edited"


async def test_a_name_is_pointed_at_by_key_and_calls_walked_to_their_ends(script) -> None:
    text = "class Gauge:\n    level = [1.5, 2.5]\ngauge = Gauge()\ndef f(n):\n    if n:\n        return f(n - 1)\n    k = 1\n    return gauge.level[k] / n\nf(3)\n"
    app = UnevenSum(Launch(script(text), keep_case=False))
    async with app.run_test(size=(140, 42)) as pilot:
        bench = await settled(pilot, "paused", 8)
        sheet = bench.query_one(Sheet)
        await pilot.press("right", "right", "right")
        await until(pilot, lambda: sheet.pointed_value)
        assert sheet.pointed_value.startswith("gauge.level[k] = 2.5")
        assert bench.values.candidates()[0] == "gauge.level[k]"
        await pilot.press("left")
        await until(pilot, lambda: sheet.pointed_value.startswith("gauge.level = "))
        await pilot.press("up")
        assert sheet.pointed is None
        await pilot.press("left_curly_bracket")
        await until(pilot, lambda: sheet.at_line == 9)
        assert bench.chosen == 0
        await pilot.press("right_curly_bracket")
        await until(pilot, lambda: sheet.at_line == 8)


async def test_the_bottom_line_names_the_keys_of_the_field_in_focus(script) -> None:
    app = UnevenSum(Launch(script("x = 1\nbreakpoint()\n"), keep_case=False, pause_on=set()))
    async with app.run_test(size=(140, 42)) as pilot:
        bench = await settled(pilot, "paused", 2)
        bottom = bench.query_one(Keys)
        shown = lambda: str(bottom.render())  # noqa: E731
        assert "space run line" in shown() and "? help" in shown()
        await pilot.press("a")
        await until(pilot, lambda: "tab complete" in shown())
        assert "run line" not in shown() and "escape close" in shown()
        await pilot.press("escape", "d")
        await until(pilot, lambda: "space run line" in shown())
        await pilot.press("d", "P")
        await until(pilot, lambda: isinstance(app.screen, Prompt))
        assert shown().strip() == ""
        await pilot.press("escape")
        await until(pilot, lambda: "space run line" in shown())


async def test_what_became_of_a_key_covers_nothing_and_goes_with_the_next(script) -> None:
    app = UnevenSum(Launch(script("x = 1\nbreakpoint()\n"), keep_case=False, pause_on=set()))
    async with app.run_test(size=(80, 24), notifications=True) as pilot:
        bench = await settled(pilot, "paused", 2)
        notice = bench.query_one(Notice)
        assert not notice.display
        await pilot.press("K")
        await until(pilot, lambda: notice.display)
        assert "replaced at a pause for nan or inf" in str(notice.render())
        assert notice.region.bottom == bench.query_one(Keys).region.y and not bench.query("Toast")
        await pilot.press("up")
        await until(pilot, lambda: not notice.display)
        await pilot.press("K", "P")  # a dialog opens: the message of the key before does not cover it
        await until(pilot, lambda: isinstance(app.screen, Prompt))
        await rest(pilot, 0.3)
        assert "replaced at a pause for nan or inf" in app.messages[-1] and not app.screen.query("Toast")


@pytest.mark.parametrize("screen", ["settings", "editor"])
async def test_a_message_on_another_screen_covers_nothing_either(script, screen) -> None:
    app = UnevenSum(Launch(script("x = 1\nbreakpoint()\n"), keep_case=False, pause_on=set()))
    async with app.run_test(size=(80, 24), notifications=True) as pilot:
        bench = await settled(pilot, "paused", 2)
        if screen == "settings":
            app.open_settings()
        else:
            await pilot.press("e")
        await until(pilot, lambda: app.screen is not bench and app.screen.query(Notice))
        notice = app.screen.query_one(Notice)
        app.notify("The weir [north] is closed.")
        await until(pilot, lambda: notice.region.height == 1)
        assert "[north]" in str(notice.render()) and not app.screen.query("Toast")
        assert notice.region.bottom == app.screen.query_one(Keys).region.y == 23
        await pilot.press("down")
        await until(pilot, lambda: not notice.display)


async def test_chosen_entries_have_a_sign_and_long_ones_are_broken_by_words(script) -> None:
    app = UnevenSum(Launch(script("x = 1\nbreakpoint()\n"), keep_case=False, pause_on=set()))
    async with app.run_test(size=(80, 24)) as pilot:
        await settled(pilot, "paused", 2)
        await pilot.press("u")
        await until(pilot, lambda: isinstance(app.screen, Choose))
        options = app.screen.query_one(Options)
        lines = [options.render_line(y).text.rstrip() for y in range(options.size.height)]
        assert lines[0].startswith("› breakpoint") or lines[0].startswith("›breakpoint")
        assert sum(line.startswith("›") for line in lines) == 1 and not any("…" in line for line in lines)
        await pilot.press("down")
        assert [options.render_line(y).text[0] for y in range(2)] == [" ", "›"]


WIDE = """
import numpy as np
import pandas as pd
days = pd.date_range("2031-01-01", periods=400, freq="D")
flow = pd.DataFrame({"gauge": ["sill", "weir"] * 200, "depth": np.linspace(0.0, 3.0, 400), "visits": range(400)}, index=days)
flow.loc[flow.index[:40], "depth"] = np.nan
levels = np.sin(np.arange(5000.0))
table = np.eye(20)
breakpoint()
"""


async def test_room_on_a_wide_screen_is_used(script) -> None:
    app = UnevenSum(Launch(script(WIDE), keep_case=False, pause_on=set()))
    async with app.run_test(size=(200, 60)) as pilot:
        bench = await settled(pilot, "paused", 9)
        cards = bench.query_one(Cards)
        await until(pilot, lambda: len(cards.pictures) >= 33)
        shown = [strip.text.strip() for strip in cards.pictures]
        assert "flow: depth" in shown and "levels" in shown and "table" in shown and "days" not in shown
        assert len(cards.rows) + len(cards.pictures) <= cards.size.height
        bench.values.open_closeup(["flow"])
        await until(pilot, lambda: isinstance(app.screen, CloseUp) and app.screen.query(Plot))
        plot, grid = app.screen.query_one(Plot), app.screen.query_one(Grid)
        await until(pilot, lambda: plot.drawn is not None)
        assert plot.region.x >= grid.region.right and plot.region.right == 200, "beside the grid, to the end"
        drawn = "\n".join(strip.text for strip in plot._strips)
        assert "— depth" in drawn and "— visits" in drawn and "2031-01-01" in drawn
        names, pictures, first = (grid.render_line(y).text for y in range(3))
        assert names.index("gauge") == first.index("sill"), "texts stand at the left"
        assert "10%" in pictures and "█" in pictures and pictures.index("10%") > names.index("gauge")


def test_lines_with_axes_of_their_own() -> None:
    def packed(values: list[float]) -> str:
        return base64.b64encode(struct.pack(f"<{len(values)}d", *values)).decode()

    low, high = [float(n % 7) for n in range(80)], [float(n % 7) + 2 for n in range(80)]
    mean = [(a + b) / 2 for a, b in zip(low, high)]
    temperature = {
        "name": "temperature",
        "lows": packed(low),
        "highs": packed(high),
        "means": packed(mean),
        "marks": "." * 80,
    }
    visits = {
        "name": "visits",
        "lows": packed([v * 1e5 for v in low]),
        "highs": packed([v * 1e5 for v in low]),
        "marks": "n" + "." * 79,
    }
    data = {"series": [temperature, visits], "first": 0, "last": 800, "dates": [[0, "2031-01-01"], [799, "2033-03-10"]]}
    p = PALETTES["slate"]
    drawn = line(data, 70, 34, p, Format())
    rows = [strip.text for strip in drawn.canvas.strips(p.ground, p.text)]
    upper, lower = rows[:16], rows[16:32]
    assert "— temperature" in upper[0] and "— visits" in lower[0]
    assert any(row.strip().startswith("8 ") for row in upper) and any("600000" in row for row in lower)
    assert "!" in lower[-1] and not any("!" in row for row in upper)
    assert all(row[10] in "│┤" for row in rows[:32]) and rows[32][10] == "└", "the axes meet"
    assert "2031-01-01" in rows[33] and "2033-03-10" in rows[33]
    assert sum("┤" in row for row in upper) >= 4
    colours = {c for row in drawn.canvas.colours[:16] for c in row if c}
    assert len(colours) == 2, "the range behind the mean"
    assert drawn.read(40, 3).startswith("temperature at ")


async def test_no_large_array_is_drawn_unasked(script) -> None:
    """Its picture would hold up the next key: a script of 500 MB had to be waited for a second at each step."""
    text = "import numpy as np\nlevels = np.ones(50_000)\nheld = np.ones(3_000_000)\nbreakpoint()\n"
    app = UnevenSum(Launch(script(text), keep_case=False, pause_on=set()))
    async with app.run_test(size=(200, 60)) as pilot:
        bench = await settled(pilot, "paused", 4)
        cards = bench.query_one(Cards)
        await until(pilot, lambda: bool(cards.pictures))
        titles = [strip.text.strip() for strip in cards.pictures]
        assert any(t.startswith("levels") for t in titles) and not any(t.startswith("held") for t in titles)
        await pilot.press("tab")
        await until(pilot, lambda: bench.about == "call" and bool(cards.pictures))  # other values, their pictures too


async def test_at_the_end_the_values_of_main_are_shown(script) -> None:
    text = "def fill(inflow):\n    rise = inflow / 4.0\n    return rise\n\ndef main():\n    level = fill(6.0)\n    print(level)\n\nmain()\n"
    app = UnevenSum(Launch(script(text), keep_case=False))
    async with app.run_test(size=(120, 35)) as pilot:
        bench = await settled(pilot, "paused", 7)
        assert bench.facts.reason == "end" and bench.facts.function == "main"
        cards = bench.query_one(Cards)
        await until(pilot, lambda: [c.name for c in cards.cards][:1] == ["level"])
        shown = str(bench.query_one(Trail).content)
        assert shown == "script.py · main() · fill(inflow=6.0)"
        await pilot.press("right_square_bracket")
        await until(pilot, lambda: "rise" in [c.name for c in cards.cards])
        sheet = bench.query_one(Sheet)
        assert sheet.at_line == 3 and sheet.word == "ran"
        await pilot.press("left_square_bracket", "left_square_bracket")
        await until(pilot, lambda: sheet.at_line == 9)
        assert ("[ ]", "walk calls") in bench.key_line.present_keys()


async def test_the_keys_that_solve_a_pause_come_first(script) -> None:
    app = UnevenSum(Launch(str(find("rating")), keep_case=False))
    async with app.run_test(size=(80, 24)) as pilot:
        bench = await settled(pilot, "paused", 35)
        shown = str(bench.query_one(Keys).render())
        want = ["r list repairs", "a ask", "c inspect value", "l record loop", "? help", "q quit"]
        assert shown.strip().split(" · ") == want
        keys = [key for key, _ in bench.key_line.present_keys()]
        assert keys.index("F") < keys.index("K") and keys.index("F") < keys.index("enter")
        await pilot.press("space")
        await settled(pilot, "paused", 36)
        await until(
            pilot, lambda: str(bench.query_one(Keys).render()).strip().startswith("space run line · enter go on")
        )
