"""The settings' screen, and keys that the user changes."""

from __future__ import annotations

import pytest
from driving_app import rest, settled, until
from textual._xterm_parser import XTermParser
from textual.binding import Binding, BindingsMap
from textual.events import Key
from textual.widgets import OptionList, Static

from uneven_sum.app.app import KEYED, UnevenSum
from uneven_sum.app.command_palette import Commands
from uneven_sum.app.settings.screen import SettingsScreen
from uneven_sum.app.shell.commands import changeable, listed
from uneven_sum.app.shell.keymap import Keyed, fitting, is_key, named
from uneven_sum.app.shell.keymap import shown as written
from uneven_sum.app.widgets.bars import Keys
from uneven_sum.client import Launch, settings
from uneven_sum.client.settings import Settings

BINDINGS = BindingsMap(
    [Binding("a", "ask"), Binding("p", "next"), Binding("slash", "find"), Binding("escape", "close")]
)


@pytest.mark.parametrize("key", [*map(chr, range(33, 127)), "é", "§", "ß", "space", "enter", "ctrl+t", "f4"])
def test_names_are_textuals(key: str) -> None:
    """What a terminal sends for a key has the name by which it is bound; and back."""
    sent = [e.key for e in XTermParser().feed(key) if isinstance(e, Key)] if len(key) == 1 else [key]
    assert [named(key)] == sent and written(named(key)) == key and is_key(key)


@pytest.mark.parametrize(
    ("changes", "taken", "why"),
    [
        ({"p": "F"}, {"p": "F"}, ""),
        ({"p": "ctrl+t", "/": "f4"}, {"p": "ctrl+t", "slash": "f4"}, ""),
        ({"a": "p", "p": "a"}, {"a": "p", "p": "a"}, ""),  # they change places
        ({"p": "a"}, {}, "a does something else already"),
        ({"p": "x", "a": "x"}, {"a": "x"}, "x does something else already"),
        ({"p": "a", "a": "/"}, {}, "/ does something else already"),
        ({"g": "x"}, {}, "g does nothing there"),
        ({"p": "escape"}, {}, "escape stays what it is"),
        ({"escape": "x"}, {}, "escape stays what it is"),
        ({"p": "hyper+q"}, {}, "'hyper+q' is not a key"),
        ({"p": ""}, {}, "'' is not a key"),
        ({"/": "/"}, {}, ""),
    ],
)
def test_what_can_hold(changes, taken, why) -> None:
    found, told = fitting(BINDINGS, changes, "bench")
    assert found == taken
    assert (not told) if not why else (why in told[0] and "keys.bench" in told[0])


def test_every_key_that_is_shown_does_something_on_its_screen() -> None:
    """What `?` lists is bound, and what can be changed is listed."""
    for kind in KEYED:
        bound = set(BindingsMap(kind.BINDINGS).key_to_bindings)  # type: ignore[attr-defined]
        bound |= {"ctrl+p", "ctrl+z", "ctrl+y", "up", "down", "<", ">", "enter", "tab"}  # a widget's own, or Textual's
        for command in listed(kind.ACTIONS):
            for key in (
                command.single() if (kind.KEYS_OF, command.keys) != ("notes", "ctrl+k") else []
            ):  # acts elsewhere
                assert named(key) in bound or key in bound, (kind.KEYS_OF, key)
            assert len(command.label) <= 18, command.label
        assert all(is_key(key) for key, _, _ in changeable(kind.ACTIONS))


def test_every_action_of_a_command_exists() -> None:
    for kind in KEYED:
        for command in kind.ACTIONS:
            names = command.actions.split() if command.keys else [command.actions]
            for name in [n.partition("(")[0] for n in names if n != "-"]:
                method = f"action_{name}" if command.keys else name.partition(":")[0]
                assert any(hasattr(o, method) for o in (kind, *getattr(kind, "CONTROLLERS", ()))), (kind.KEYS_OF, name)
            assert len(names) in (0, len(command.single()), 1), command


def test_messages_reach_the_controllers() -> None:
    """Messages are sent to a screen only: what a controller handles, its screen hands on."""
    for kind in KEYED:
        for controller in getattr(kind, "CONTROLLERS", ()):
            for name in [n for n in vars(controller) if n.startswith("on_")]:
                assert name in vars(kind), (kind.KEYS_OF, name)


def shown(app) -> str:
    return "\n".join(str(app.screen.query_one(s, Static).render()) for s in ("#about", "#said"))


async def choose(pilot, name: str, screen: str = "") -> SettingsScreen:
    one = pilot.app.screen
    assert isinstance(one, SettingsScreen)
    at = next(n for n, row in enumerate(one.rows) if row.name == name and row.screen == screen)
    one.query_one(OptionList).highlighted = at
    await pilot.pause()
    return one


async def test_settings_are_changed_and_kept(tmp_path) -> None:
    app = UnevenSum(None)
    async with app.run_test(size=(120, 40)) as pilot:
        await pilot.press("7")
        await until(pilot, lambda: isinstance(app.screen, SettingsScreen))
        await choose(pilot, "theme")
        await pilot.press("enter")
        await rest(pilot, 0.2)
        await pilot.press("down", "enter")
        await until(pilot, lambda: app.theme == "chalk")
        assert settings.load()[0].theme == "chalk"
        await choose(pilot, "return_points")
        await pilot.press("enter")
        await until(pilot, lambda: not settings.load()[0].return_points)
        await choose(pilot, "pause_on")
        await pilot.press("enter")
        await rest(pilot, 0.2)
        await pilot.press("down", "enter")
        await until(pilot, lambda: settings.load()[0].pause_on == ["error", "nonfinite"])
        await choose(pilot, "trial_seconds")
        await pilot.press("enter")
        await rest(pilot, 0.2)
        await pilot.press(*["backspace"] * 5, *"900", "enter")
        await until(pilot, lambda: "not between 0.1 and 600" in shown(app))
        await pilot.press("enter")
        await rest(pilot, 0.2)
        await pilot.press(*["backspace"] * 5, *"soon", "enter")
        await until(pilot, lambda: "not a number" in shown(app))
        assert settings.load()[0].trial_seconds == 5.0
        await pilot.press("enter")
        await rest(pilot, 0.2)
        await pilot.press(*["backspace"] * 5, *"12.5", "enter")
        await until(pilot, lambda: settings.load()[0].trial_seconds == 12.5)
        await choose(pilot, "stepped_over")
        await pilot.press("enter")
        await rest(pilot, 0.2)
        await pilot.press(*"gauges.py, rate", "enter")
        await until(pilot, lambda: settings.load()[0].stepped_over == ["gauges.py", "rate"])
        await pilot.press("delete")
        await until(pilot, lambda: settings.load()[0].stepped_over == [])
        await pilot.press("escape")
        await rest(pilot, 0.2)
        assert app.desk is app.screen and app.desk.palette.name == "chalk"
    launch = Launch("x.py")
    settings.load()[0].fit(launch)
    assert (launch.limits.trial, launch.arguments()["trialSeconds"]) == (12.5, 12.5)


async def test_a_key_is_changed_swapped_and_given_back(tmp_path) -> None:
    path = tmp_path / "level.py"
    path.write_text("level = 1.0\nfor day in range(3):\n    level += day\nprint(level)\n")
    app = UnevenSum(Launch(str(path), pause_on={"start"}))
    async with app.run_test(size=(140, 42)) as pilot:
        bench = await settled(pilot, "paused", 1)
        await pilot.press("7")
        await until(pilot, lambda: isinstance(app.screen, SettingsScreen))
        await choose(pilot, "space", "bench")
        await pilot.press("enter")
        await rest(pilot, 0.2)
        await pilot.press("up")  # not to be had
        await rest(pilot, 0.1)
        assert "up cannot be changed" in str(app.screen.query_one("#told", Static).render())
        await pilot.press("i")
        await rest(pilot, 0.1)
        assert "i is used for: into call" in str(app.screen.query_one("#told", Static).render())
        await pilot.press("i")
        await until(pilot, lambda: settings.load()[0].keys == {"bench": {"space": "i", "i": "space"}})
        await choose(pilot, "a", "bench")
        await pilot.press("enter")
        await rest(pilot, 0.2)
        await pilot.press("ctrl+t")
        await until(pilot, lambda: settings.load()[0].keys["bench"]["a"] == "ctrl+t")
        await pilot.press("escape")
        await rest(pilot, 0.2)
        assert bench.key("space") == "i" and bench.key("[ ]") == "[ ]"
        line = str(bench.query_one(Keys).render())
        assert "i run line" in line and "space into call" in line and "ctrl+t ask" in line
        await pilot.press("i")
        await settled(pilot, "paused", 2)
        await pilot.press("a")
        await rest(pilot, 0.2)
        assert not bench.typing
        await pilot.press("ctrl+t")
        await until(pilot, lambda: bench.typing)
        await pilot.press("escape", "escape", "question_mark")
        await rest(pilot, 0.3)
        assert "ctrl+t" in str(app.screen.query_one("#all", Static).render())
        await pilot.press("escape", "7")
        await rest(pilot, 0.3)
        await choose(pilot, "space", "bench")
        await pilot.press("delete")
        await until(pilot, lambda: settings.load()[0].keys == {"bench": {"a": "ctrl+t"}})
        await pilot.press("escape", "space")
        await settled(pilot, "paused", 3)


async def test_a_theme_for_this_time_stays(tmp_path) -> None:
    """What the command line says of the theme is not undone by another setting."""
    app = UnevenSum(None, "chalk")
    async with app.run_test(size=(120, 40)) as pilot:
        await pilot.press("7")
        await until(pilot, lambda: isinstance(app.screen, SettingsScreen))
        await choose(pilot, "thousands")
        await pilot.press("enter")
        await until(pilot, lambda: settings.load()[0].thousands)
        assert app.theme == "chalk" and settings.load()[0].theme == "slate"


async def test_a_conflict_in_the_file_is_told_and_the_key_stays() -> None:
    settings.place().parent.mkdir(parents=True, exist_ok=True)
    settings.place().write_text('[keys.desk]\no = "e"\nm = "M"\n\n[keys.dsk]\no = "x"\n')
    app = UnevenSum(None)
    async with app.run_test(size=(120, 40)) as pilot:
        await rest(pilot, 0.3)
        desk = app.desk
        assert isinstance(desk, Keyed) and (desk.key("o"), desk.key("m")) == ("o", "M")
        said = list(app.messages)
        assert any("keys.desk: o = 'e': e does something else already" in text for text in said)
        assert any("keys.dsk: there is no such screen" in text for text in said)
        await pilot.press("7")
        await rest(pilot, 0.3)
        assert "e does something else already" in shown(app) or "no such screen" in shown(app)


def test_keys_that_are_no_table_are_told() -> None:
    settings.place().parent.mkdir(parents=True, exist_ok=True)
    settings.place().write_text('[keys]\nbench = "x"\n')
    found, (told,) = settings.load()
    assert found == Settings() and "keys.bench is not a table of keys" in told


async def test_the_palette_has_the_commands_of_each_screen() -> None:
    app = UnevenSum(None)
    async with app.run_test(size=(120, 40)) as pilot:
        await until(pilot, lambda: app.desk is not None and app.desk.setup is not None)
        names = {words for words, _, _ in Commands(app.screen)._commands()}
        assert {"open settings (7)", "start guide (g)", "open script (o)"} <= names
        await pilot.press("ctrl+p")
        await rest(pilot, 0.5)
        await pilot.press(*"theme, limits", "enter")
        await until(pilot, lambda: isinstance(app.screen, SettingsScreen))
        await pilot.press("escape", "enter")
        await until(pilot, lambda: getattr(app.screen, "state", "") == "paused", 60)
        names = {words for words, _, _ in Commands(app.screen)._commands()}
        assert {"run line (space)", "open settings (7)", "jump to cursor"} <= names


async def test_help_has_its_columns(script) -> None:
    app = UnevenSum(Launch(script("1 / 0\n"), keep_case=False))
    async with app.run_test(size=(90, 30)) as pilot:
        await settled(pilot, "paused", 1)
        await pilot.press("question_mark")
        await rest(pilot, 0.3)
        lines = str(app.screen.query_one("#all", Static).render()).split("\n")
        assert any(line.startswith("  backspace  go back ") for line in lines)
        assert max(map(len, lines)) <= 80
        column = lines[1].index("step over")
        folded = [line for line in lines if line.startswith(" " * 20)]
        assert folded and {len(line) - len(line.lstrip()) for line in folded} == {column}
