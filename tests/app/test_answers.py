"""What the screens say is so: searches, endings, values that are cut."""

from __future__ import annotations

from driving_app import settled, until

from uneven_sum.app.app import UnevenSum
from uneven_sum.app.closeup.inside import TextView
from uneven_sum.app.closeup.screen import CloseUp
from uneven_sum.app.widgets.dialogs import Prompt
from uneven_sum.client import Launch

LONG = """
text = "".join(f"day {n:08d}: calm, and the level is 3.98 m\\n" for n in range(60_000)) + "the needle\\n"
breakpoint()
"""


async def test_a_long_text_is_searched_to_its_end(script) -> None:
    app = UnevenSum(Launch(script(LONG), keep_case=False, pause_on=set()))
    async with app.run_test(size=(140, 42)) as pilot:
        bench = await settled(pilot, "paused", 3)
        bench.values.open_closeup(["text"])
        await until(pilot, lambda: isinstance(app.screen, CloseUp) and app.screen.query(TextView))
        screen, area = app.screen, app.screen.query_one(TextView)

        def said() -> str:
            return str(screen.query_one("#said").render())

        await until(pilot, lambda: "of 60,002" in said() and "searches all" in said())
        for wanted, where in (("needle", "line 60,001 of 60,002"), ("00000007", "line 8 of 60,002")):
            await pilot.press("/")
            await until(pilot, lambda: isinstance(app.screen, Prompt))
            await pilot.press(*["backspace"] * 20, *wanted, "enter")
            await until(pilot, lambda where=where: where in said())
            assert area.selected_text == wanted
        await pilot.press("g")
        await until(pilot, lambda: isinstance(app.screen, Prompt))
        await pilot.press(*"50000", "enter")
        await until(pilot, lambda: "line 50,000" in said())
        assert area.document.lines[area.cursor_location[0]].startswith("day 00049999")
        await pilot.press("/")
        await until(pilot, lambda: isinstance(app.screen, Prompt))
        await pilot.press(*["backspace"] * 20, *"flood", "enter")
        await until(pilot, lambda: "is not in this text" in said())


async def test_a_window_of_a_few_columns_ends_nothing(script) -> None:
    app = UnevenSum(Launch(script("x = 1\nbreakpoint()\n"), keep_case=False, pause_on=set()))
    async with app.run_test(size=(140, 42)) as pilot:
        await settled(pilot, "paused", 2)
        for key in ("a", "escape", "7", "escape", "ctrl+p"):
            await pilot.press(key)
            for width in (5, 3, 1, 140):
                await pilot.resize_terminal(width, 24)
                await pilot.pause()
        assert app.is_running
