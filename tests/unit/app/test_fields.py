"""Fields take keys in the order in which they are pressed, though none is waited for."""

from __future__ import annotations

import pytest
from textual import events
from textual.app import App, ComposeResult
from textual.containers import Vertical
from textual.widget import Widget
from textual.widgets import Input, TextArea

from uneven_sum.app.bench.output_drawer import ScriptInput
from uneven_sum.app.widgets.fields import Field, TextField
from uneven_sum.app.widgets.source_area import SourceArea


class Drawer(Vertical):
    """What has a meaning of its own for a key."""

    def on_key(self, event: events.Key) -> None:
        if event.key == "ctrl+d":
            event.stop()


class One(App[None]):
    """A field, some parents deep."""

    def __init__(self, kind: type[Widget], text: str) -> None:
        super().__init__()
        self.kind, self.text = kind, text

    def compose(self) -> ComposeResult:
        with Drawer(), Vertical():
            yield self.kind(self.text)  # type: ignore[arg-type]


async def typed(kind: type[Input] | type[TextArea], keys: list[str], text: str = "") -> str:
    app = One(kind, text)
    async with app.run_test() as pilot:
        field = app.query_one(kind)
        field.focus()
        await pilot.pause()
        for key in keys:
            app.post_message(events.Key(key, key if len(key) == 1 else None))
        for _ in range(20):
            await pilot.pause(0.02)
        return field.text if isinstance(field, TextArea) else field.value


@pytest.mark.parametrize("kind", [Field, TextField, ScriptInput])
async def test_nothing_overtakes(kind) -> None:
    text = await typed(kind, [*"stage", *["backspace"] * 20, *"head", "home", *"over", "delete", "end", *"s"])
    assert text == "overeads"


async def test_a_text_has_its_lines_in_order() -> None:
    keys = [*"ab", "enter", *"cd", "up", "end", *"x", "down", "end", *"y"]
    assert await typed(TextField, keys) == "abx\ncdy"


async def test_the_inputs_end_is_left_to_the_drawer() -> None:
    assert await typed(ScriptInput, ["home", "ctrl+d"], "abc") == "abc"
    assert await typed(Field, ["home", "ctrl+d"], "abc") == "bc"


async def test_a_new_line_begins_where_the_one_before_does() -> None:
    keys = ["end", "enter", *"head = 1", "enter", *"if head:", "enter", *"x", "enter", *"y"]
    assert await typed(SourceArea, keys, "for day in days:") == (
        "for day in days:\n    head = 1\n    if head:\n        x\n        y"
    )
    assert await typed(SourceArea, ["end", "left", "left", "enter"], "  ab = f(x)") == "  ab = f(\n  x)"
    assert await typed(SourceArea, ["end", "shift+home", "enter"], "abc") == "\n"
