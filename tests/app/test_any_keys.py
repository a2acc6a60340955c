"""Any keys, in any order, on every screen: no internal error, and a way out."""

from __future__ import annotations

import random
import shutil
from pathlib import Path

import pytest
from driving_app import rest, until
from textual.binding import BindingsMap
from textual.widgets import Input, TextArea

from uneven_sum.app.app import KEYED, UnevenSum
from uneven_sum.app.bench.screen import Bench
from uneven_sum.app.desk.screen import Desk
from uneven_sum.client import Launch
from uneven_sum.demo import FOLDER

LEAVING = {"q", "ctrl+q", "ctrl+c", "1", "X"}  # these end the case: there would be nothing to press keys on
TYPED = [
    "a",
    "1",
    "left_parenthesis",
    "x",
    "space",
    "enter",
    "escape",
    "escape",
    "tab",
    "down",
    "up",
    "backspace",
    "delete",
]
ALL = sorted({key for kind in KEYED for key in BindingsMap(kind.BINDINGS).key_to_bindings} - LEAVING)  # type: ignore[attr-defined]


def test_every_key_has_its_action() -> None:
    for kind in KEYED:
        for bindings in BindingsMap(kind.BINDINGS).key_to_bindings.values():  # type: ignore[attr-defined]
            for binding in bindings:
                name = binding.action.partition("(")[0]
                owners = (kind, *getattr(kind, "CONTROLLERS", ()))
                known = any(hasattr(o, f"action_{name}") for o in owners) or name == "dismiss"
                assert known, (kind.__name__, binding.key, name)


@pytest.mark.parametrize("case", ["rating_year.py", "join_gauges.py", "fit_curve.py", "running_total.py"])
async def test_any_keys_do_no_harm(case: str, tmp_path, monkeypatch) -> None:
    monkeypatch.chdir(tmp_path)  # where files that the keys happen to export go
    shutil.copytree(FOLDER, tmp_path / "quillmere")
    path = tmp_path / "quillmere" / case
    choice = random.Random(case)
    app = UnevenSum(Launch(str(path), cwd=str(path.parent)))
    async with app.run_test(size=(120, 36)) as pilot:
        await until(pilot, lambda: getattr(app.screen, "state", "") == "paused", 60)
        pressed: list[str] = []
        for _ in range(90):
            key = choice.choice(ALL if choice.random() < 0.75 else TYPED)
            pressed.append(key)
            await pilot.press(key)
            await rest(pilot, choice.choice([0, 0, 0.05, 0.2]))
        told = list(app.messages)
        assert not [t for t in told if "Internal error" in t], (told, pressed)
        assert app.is_running, pressed
        await out(pilot)
    for source in Path(FOLDER).glob("*.csv"):  # whatever was pressed, the data are as they were
        assert (tmp_path / "quillmere" / source.name).read_bytes() == source.read_bytes()


async def out(pilot) -> None:
    """Back to the Bench (or the Desk, whose key may have been changed), by the key that leaves a screen; text that was
    not saved is dropped."""
    for _ in range(24):
        screen = pilot.app.screen
        if isinstance(screen, (Bench, Desk)) and not isinstance(screen.focused, (Input, TextArea)):
            return
        choices = getattr(screen, "choices", [])
        drop = next((n for n, c in enumerate(choices) if c.key == "drop"), None)
        await pilot.press(*(["down"] * drop + ["enter"] if drop is not None else ["escape"]))
        await rest(pilot, 0.3)
    raise AssertionError(f"no way out of {screen}")
