"""The Origin drawer in process: ask, follow, next use, go there, close."""

from __future__ import annotations

from driving_app import settled, until
from textual.widgets import Input, OptionList, Static

from uneven_sum.app.app import UnevenSum
from uneven_sum.app.bench.origin_drawer import OriginDrawer
from uneven_sum.app.closeup.screen import CloseUp
from uneven_sum.app.widgets.dialogs import Prompt
from uneven_sum.client import Launch
from uneven_sum.demo import find


async def ask(pilot, app, text: str | None) -> OriginDrawer:
    await pilot.press("F")
    await until(pilot, lambda: isinstance(app.screen, Prompt))
    if text is not None:
        app.screen.query_one(Input).value = text
    await pilot.press("enter")
    await until(pilot, lambda: not isinstance(app.screen, Prompt))
    return app.screen.query_one(OriginDrawer)


def said(drawer: OriginDrawer) -> str:
    return str(drawer.query_one("#origin-said", Static).content)


async def test_from_a_printed_nan_to_the_step_that_made_it() -> None:
    path = find("rating")
    app = UnevenSum(Launch(str(path), cwd=str(path.parent), keep_case=False, pause_on={"error"}, pause_on_given=True))
    async with app.run_test(size=(140, 42)) as pilot:
        bench = await settled(pilot, "paused", 52)
        drawer = await ask(pilot, app, None)  # what is offered: the last line that shows nan
        await until(pilot, lambda: "is created at line 35, pass 212" in said(drawer), 60)
        lines = [step.line for step in drawer.chain.steps]
        assert lines == [47, 45, 39, 35] and drawer.has_class("open")
        assert bench.sheet.at_line == 35  # the chosen step is shown as a place
        operands = drawer.query_one(OptionList)
        await pilot.press("down", "down")
        assert drawer.rows[operands.highlighted][1].text == "head"
        await pilot.press("enter")
        await until(pilot, lambda: "computes it from level, SILL" in said(drawer), 60)
        assert [step.target for step in drawer.chain.steps][-1] == "head"
        await pilot.press("n")
        await until(pilot, lambda: bool(drawer.uses), 60)
        (use,) = next(iter(drawer.uses.values()))
        assert (use.line, use.number) == (35, 212)
        await pilot.press("up", "up", "up")
        assert drawer.rows[operands.highlighted] == (drawer.chain.steps[-1], None)
        await pilot.press("enter")  # goes there
        await settled(pilot, "paused", 34)
        assert bench.facts.loops[0].number == 212 and drawer.chain.steps
        await pilot.press("escape")
        await until(pilot, lambda: not drawer.has_class("open"))
        assert app.focused is bench.sheet


async def test_what_is_no_place_is_said_and_a_search_ends_with_escape(script) -> None:
    path = script("import time\nx = 1.0\nfor k in range(3):\n    time.sleep(0.01 + 30 * (k == 2))\n    y = x\nz = y\n")
    app = UnevenSum(Launch(path, keep_case=False, pause_on={"start"}, pause_on_given=True))
    async with app.run_test(size=(120, 40)) as pilot:
        bench = await settled(pilot, "paused", 1)
        drawer = await ask(pilot, app, "x + 1")
        await until(pilot, lambda: "worked out anew" in " ".join(app.messages))
        assert not drawer.has_class("open")
        await ask(pilot, app, '"nothing"')
        await until(pilot, lambda: "No line of the output" in " ".join(app.messages))
        await pilot.press("space")
        await settled(pilot, "paused", 2)
        await pilot.press("space")
        await settled(pilot, "paused", 3)
        drawer = await ask(pilot, app, "x")
        await until(pilot, lambda: "uses no other value for x" in said(drawer), 60)
        searches = bench.origins.searches
        assert searches is not None
        await pilot.press("n")
        await until(pilot, lambda: any(use.line == 5 for uses in drawer.uses.values() for use in uses), 60)
        await until(pilot, lambda: not bench.origins.under_way, 60)
        await pilot.press("n")
        await until(pilot, lambda: sum(map(len, drawer.uses.values())) == 2 and not bench.origins.under_way, 60)
        await pilot.press("n")  # the third use comes after a long sleep
        await until(pilot, lambda: bench.origins.under_way, 60)
        for _ in range(100):
            if bench.origins.under_way:  # what it asks may not have been sent yet
                await pilot.press("escape")
            await pilot.pause(0.3)
            if "it was cancelled" in said(drawer):
                break
        assert "it was cancelled" in said(drawer)
        assert drawer.has_class("open")


async def test_the_origin_of_a_cell_is_asked_for_in_the_close_up(script) -> None:
    path = script(
        "import numpy as np\nrain = np.zeros((3, 4))\nrain[1] = 2.0\nrain[:, 2] = np.arange(3.0)\nx = rain[0, 0]\n"
    )
    app = UnevenSum(Launch(path, keep_case=False, pause_on={"error"}, pause_on_given=True))
    async with app.run_test(size=(140, 42)) as pilot:
        bench = await settled(pilot, "paused")
        bench.values.open_closeup(["rain"])
        await until(pilot, lambda: isinstance(app.screen, CloseUp) and app.screen.grid() is not None)
        closeup = app.screen
        await until(pilot, lambda: closeup.grid().page is not None)
        await closeup.grid().go(1, 2)
        await pilot.press("F")
        await until(pilot, lambda: isinstance(app.screen, Prompt))
        assert app.screen.query_one(Input).value == "rain[1, 2]"
        await pilot.press("enter")
        drawer = bench.query_one(OriginDrawer)
        await until(pilot, lambda: bool(drawer.chain.steps) and not bench.origins.under_way, 60)
        step = drawer.chain.steps[0]
        assert (step.line, step.target, step.value.text, step.before.text) == (4, "rain[1, 2]", "1.0", "2.0")


async def test_what_is_offered_can_be_followed(script) -> None:
    """Of an operand that is an expression, the place in it."""
    text = "import numpy as np\nmatrix = np.array([[1.0, 50.0], [2.0, 3.0]])\nx = np.sqrt(matrix[0, 1] - 100.0)\n"
    app = UnevenSum(Launch(script(text), keep_case=False))
    async with app.run_test(size=(140, 42)) as pilot:
        bench = await settled(pilot, "paused", 3)
        await pilot.press("F")
        await until(pilot, lambda: isinstance(app.screen, Prompt))
        assert app.screen.query_one(Input).value == "matrix[0, 1]"
        await pilot.press("enter")
        drawer = bench.query_one(OriginDrawer)
        await until(pilot, lambda: [step.line for step in drawer.chain.steps] == [2], 60)


async def test_what_was_typed_is_given_again(script) -> None:
    path = script("level = float(input('level: '))\ndepth = level - 2.0\nprint('depth', depth)\n")
    app = UnevenSum(Launch(path, keep_case=False, pause_on={"error"}, pause_on_given=True))
    async with app.run_test(size=(140, 42)) as pilot:
        await until(pilot, lambda: app.screen_stack[1].state == "running", 60)
        await pilot.press("d")
        line = app.screen.query_one("#stdin", Input)
        await until(pilot, lambda: app.focused is line)
        line.value = "3.5"
        await pilot.press("enter")
        await settled(pilot, "paused")
        await pilot.press("escape", "escape")
        drawer = await ask(pilot, app, '"depth"')
        await until(pilot, lambda: [step.line for step in drawer.chain.steps] == [3, 2, 1], 60)
        assert [step.value.text for step in drawer.chain.steps[1:]] == ["1.5", "3.5"]
