"""Questions in turn, long values, pointing by key, the keys of the bottom line: in-process."""

from __future__ import annotations

from driving_app import settled, until
from textual.widgets import RichLog

from uneven_sum.app.app import UnevenSum
from uneven_sum.app.dialogs import Prompt
from uneven_sum.app.screens.closeup import CloseUp
from uneven_sum.app.widgets.ask import AskDrawer
from uneven_sum.app.widgets.bars import Keys
from uneven_sum.app.widgets.sheet import Sheet
from uneven_sum.client import Launch


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
        bench.open_closeup(["levels"])
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
        bench.open_closeup(["page"])
        await until(pilot, lambda: isinstance(app.screen, CloseUp) and app.screen.query("Tree"))
        tree = app.screen.query_one("Tree")
        assert str(tree.root.label) == "HTML"
        await pilot.press("slash")
        await until(pilot, lambda: isinstance(app.screen, Prompt))
        await pilot.press(*"weir", "enter")
        await until(pilot, lambda: tree.cursor_node is not None and "weir" in str(tree.cursor_node.label))

        await pilot.press("escape")
        bench.open_closeup(["words"])
        await until(pilot, lambda: isinstance(app.screen, CloseUp) and app.screen.query("#text"))
        area = app.screen.query_one("#text")
        await pilot.press("slash")
        await until(pilot, lambda: isinstance(app.screen, Prompt))
        await pilot.press(*"storm", "enter")
        await until(pilot, lambda: area.selected_text == "Storm")
        assert "line 2501 of 3000" in str(app.screen.query_one("#said").render())
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
        assert bench.candidates()[0] == "gauge.level[k]"
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
        line = bench.query_one(Keys)
        shown = lambda: str(line.render())  # noqa: E731
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
