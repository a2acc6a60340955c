"""Keys that come faster than what they set off: queued, in order, and never for another widget."""

from __future__ import annotations

import pytest
from driving_app import settled, until
from textual import events

from uneven_sum.app import key_order
from uneven_sum.app.app import UnevenSum
from uneven_sum.app.editor.screen import Editor
from uneven_sum.app.widgets.dialogs import EditSentence
from uneven_sum.client import Launch

SCRIPT = "".join(f"x{n} = {n} * 1.5\n" for n in range(40))


async def test_eight_quick_spaces_are_eight_steps(script) -> None:
    app = UnevenSum(Launch(script(SCRIPT), capture=True, pause_on={"start"}))
    async with app.run_test(size=(140, 42)) as pilot:
        await settled(pilot, "paused", 1)
        await pilot.press(*["space"] * 8)
        await settled(pilot, "paused", 9)


async def test_a_step_that_pauses_for_another_reason_drops_what_waits(script) -> None:
    app = UnevenSum(
        Launch(script("a = 0\nb = 1\nc = 1 / a\nd = 2\ne = 3\nf = 4\n"), capture=True, pause_on={"start", "error"})
    )
    async with app.run_test(size=(140, 42)) as pilot:
        await settled(pilot, "paused", 1)
        for _ in range(6):  # all at once: one that comes after the pause is a step from there
            app.post_message(events.Key("space", " "))
        bench = await settled(pilot, "paused", 3)
        await until(pilot, lambda: bench.facts is not None and bench.facts.reason == "error")
        assert bench.stepping.waiting == []


async def test_what_opens_a_dialog_takes_what_is_typed_next(script) -> None:
    path = script(SCRIPT)
    app = UnevenSum(Launch(path, capture=True, pause_on={"start"}))
    async with app.run_test(size=(140, 42)) as pilot:
        bench = await settled(pilot, "paused", 1)
        for key in ("M", "end", "space", "1", "6", "q"):
            app.post_message(events.Key(key, key if len(key) == 1 else " " if key == "space" else None))
        await until(pilot, lambda: isinstance(app.screen, EditSentence))
        await until(pilot, lambda: "16q" in app.focused.value)  # type: ignore[union-attr]
        await pilot.press("escape")
        await until(pilot, lambda: app.screen is bench)


@pytest.mark.parametrize("key", ["d", "question_mark"])
async def test_escape_followed_at_once_by_another_key(key: str, script) -> None:
    app = UnevenSum(Launch(script(SCRIPT), capture=True, pause_on={"start"}))
    async with app.run_test(size=(140, 42)) as pilot:
        bench = await settled(pilot, "paused", 1)
        await pilot.press("a")
        await until(pilot, lambda: bench.typing)
        await pilot.press(f"alt+{key}")
        if key == "d":
            await until(pilot, lambda: bench.query_one("OutputDrawer").has_class("open"))
        else:
            await until(pilot, lambda: app.screen is not bench)


def test_quick_and_held_keys_in_a_terminal(script, terminal) -> None:
    t = terminal("run", "--pause-on", "start", script(SCRIPT))
    t.expect("Paused before the script starts")
    t.keys(*["Space"] * 8)
    t.expect("At line 9.")
    t.keys("a", "x", "3", "Enter")
    t.expect("in a copy, script unchanged")
    t.keys("Escape", "Escape")
    t.gone("enter ask")  # a key that comes with an escape is another key to a terminal
    t.keys("d")
    t.expect("input for the script")
    t.keys("Escape", "Escape", "M", "Escape", "q")
    t.expect("script?")
    t.keys("Enter")
    t.expect("left with status 0")


async def test_typing_in_the_editor_waits_for_no_dialog(script, monkeypatch) -> None:
    monkeypatch.setattr(key_order, "LONGEST", 600.0)  # a key that waited in vain would never be followed
    app = UnevenSum(Launch(script("x = 1\nbreakpoint()\n"), keep_case=False, pause_on=set()))
    async with app.run_test(size=(120, 30)) as pilot:
        await settled(pilot, "paused", 2)
        await pilot.press("e")
        await until(pilot, lambda: isinstance(app.screen, Editor) and app.screen.loaded)
        await pilot.press(*"levels")
        await until(pilot, lambda: "levels" in app.screen.area.text)
