"""The output drawer: whatever was printed while it was closed is there, at its end."""

from __future__ import annotations

import pytest
from driving_app import settled, until
from textual.widgets import Input

from uneven_sum.app.app import UnevenSum
from uneven_sum.app.bench.output_drawer import OutputDrawer
from uneven_sum.app.bench.output_log import OutputLog
from uneven_sum.app.widgets.dialogs import Prompt
from uneven_sum.client import Launch


def text_of(log: OutputLog) -> list[str]:
    height = log.scrollable_content_region.height
    return [log.render_line(y).text.strip() for y in range(height)]


@pytest.mark.parametrize("count", [3_000, 4_900, 12_000])
async def test_what_was_printed_while_it_was_closed(count: int, script) -> None:
    path = script(f"for k in range({count}):\n    print('line', k)\nx = 1 / 0\n")
    app = UnevenSum(Launch(path, capture=True))
    async with app.run_test(size=(140, 42)) as pilot:
        bench = await settled(pilot, "paused", 3)
        await until(pilot, lambda: bench.query_one(OutputDrawer).last_line == f"line {count - 1}")
        await pilot.press("d")
        log = bench.query_one(OutputLog)
        await until(pilot, lambda: f"line {count - 1}" in text_of(log))
        assert text_of(log)[-1] == f"line {count - 1}" or text_of(log)[-2] == f"line {count - 1}"
        log.scroll_home(animate=False)
        kept = min(count, 5_000)
        await until(pilot, lambda: text_of(log)[0] == f"line {count - kept}")
        await pilot.press("d", "d")
        await until(pilot, lambda: f"line {count - 1}" in text_of(log))


async def test_long_lines_wrap_and_what_is_gone_back_from_goes(script) -> None:
    path = script("print('a' * 300)\nx = 1\nprint('second')\ny = 2\n")
    app = UnevenSum(Launch(path, capture=True, pause_on={"start"}))
    async with app.run_test(size=(120, 42)) as pilot:
        bench = await settled(pilot, "paused", 1)
        await pilot.press("space")
        await settled(pilot, "paused", 2)
        log = bench.query_one(OutputLog)
        await until(pilot, lambda: log.count == 1)
        await pilot.press("d")
        await until(pilot, lambda: bool(text_of(log)) and text_of(log)[0].startswith("aaa"))
        assert "".join(text_of(log)).startswith("a" * 300)
        assert sum(1 for row in text_of(log) if row) == 3
        await pilot.press("escape", "escape", "space", "space")
        await settled(pilot, "paused", 4)
        await until(pilot, lambda: log.count == 2)
        await pilot.press("backspace")
        await settled(pilot, "paused", 3)
        await until(pilot, lambda: log.count == 1 and "second" not in text_of(log))


LOOP = """print('begin')
total = 0.0
for k in range(6):
    total += k
    print('pass', k)
print('end')
"""


async def test_what_a_record_from_the_start_prints_again_stands_once(script) -> None:
    path = script(LOOP)
    app = UnevenSum(Launch(path, capture=True, pause_on=set()))
    async with app.run_test(size=(140, 42)) as pilot:
        bench = await settled(pilot, "paused", 6)  # the end
        log = bench.query_one(OutputLog)
        await until(pilot, lambda: log.count == 8)
        point = bench.client.start_point()
        await bench.stepping.run(lambda: bench.client.back_to(point))
        await settled(pilot, "paused", 1)
        await until(pilot, lambda: log.count == 0)
        await pilot.press("enter")
        await settled(pilot, "paused", 6)
        await until(pilot, lambda: log.count == 8)
        assert [text for _, text in log.kept].count("begin") == 1


async def test_typed_input_stands_after_its_prompt(script) -> None:
    path = script("depth = input('depth? ')\nprint('is', depth)\nx = 1\n")
    app = UnevenSum(Launch(path, capture=True, pause_on=set()))
    async with app.run_test(size=(140, 42)) as pilot:
        bench = await settled(pilot, "running")
        drawer = bench.query_one(OutputDrawer)
        await until(pilot, lambda: drawer.partial["stdout"] == "depth? ")
        await pilot.press("d")
        await until(pilot, lambda: drawer.query_one("#stdin").has_focus)
        await pilot.press(*"3.5", "enter")
        await settled(pilot, "paused", 3)
        log = bench.query_one(OutputLog)
        await until(pilot, lambda: any("is 3.5" in text for _, text in log.kept))
        assert [text for _, text in log.kept] == ["depth? ", "‹ 3.5", "is 3.5"]
        assert drawer.number_of("is 3.5") == 1


async def test_the_drawer_is_scrolled_searched_and_saved(script, tmp_path) -> None:
    path = script("for k in range(400):\n    print('line', k)\nx = 1\n")
    app = UnevenSum(Launch(path, capture=True, pause_on=set()))
    async with app.run_test(size=(140, 42)) as pilot:
        bench = await settled(pilot, "paused", 3)
        drawer, log = bench.query_one(OutputDrawer), bench.query_one(OutputLog)
        await until(pilot, lambda: log.count == 400)
        await pilot.press("d")
        await until(
            pilot, lambda: drawer.size.height == 20 and "line 399" in text_of(log), 8
        )  # with its border half of 42
        assert not drawer.query_one("#stdin").display, "the script has ended: it reads nothing"
        await pilot.press("pageup")
        await until(pilot, lambda: "line 399" not in text_of(log))
        await pilot.press("pagedown")
        await until(pilot, lambda: "line 399" in text_of(log))
        bench.notes.search_output()
        await until(pilot, lambda: isinstance(app.screen, Prompt))
        await pilot.press(*"line 77", "enter")
        await until(pilot, lambda: text_of(log)[0] == "line 77")
        bench.notes.save_output()
        await until(pilot, lambda: isinstance(app.screen, Prompt))
        saved = tmp_path / "out.txt"
        app.screen.query_one(Input).value = str(saved)
        await pilot.press("enter")
        await until(pilot, saved.exists)
        await until(pilot, lambda: saved.read_text() == "".join(f"line {k}\n" for k in range(400)))
        await pilot.press("escape")
        await until(pilot, lambda: drawer.size.height == 1)


async def test_an_open_drawer_that_grows_shows_what_came_last(script) -> None:
    path = script("depth = input('depth? ')\nfor k in range(60):\n    print('line', k)\nx = 1\n")
    app = UnevenSum(Launch(path, capture=True, pause_on=set()))
    async with app.run_test(size=(140, 42)) as pilot:
        bench = await settled(pilot, "running")
        drawer, log = bench.query_one(OutputDrawer), bench.query_one(OutputLog)
        await until(pilot, lambda: drawer.partial["stdout"] == "depth? ")
        await pilot.press("d")
        await until(pilot, lambda: drawer.query_one("#stdin").has_focus)
        await pilot.press(*"3.5", "enter")
        await settled(pilot, "paused", 4)
        await until(pilot, lambda: drawer.size.height == 20 and "line 59" in text_of(log), 10)
