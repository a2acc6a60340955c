"""The settings for all cases, and the keys; each change takes effect at once and is saved."""

from __future__ import annotations

from dataclasses import dataclass, fields
from typing import cast

from rich.text import Text
from textual import events, work
from textual.app import ComposeResult
from textual.containers import Vertical
from textual.screen import ModalScreen, Screen
from textual.widgets import OptionList, Static
from textual.widgets.option_list import Option

from ...client import BadUse, settings
from ...client.settings import Settings, choices, in_words, meta, wrong_with
from ..shell.commands import bindings, changeable, hints
from ..shell.keymap import FIXED, Application, Keyed, is_key, named, shown
from ..shell.paths import short
from ..shell.theme import Palette
from ..widgets.bars import Keys, TopLine
from ..widgets.dialogs import BOX, Choice, Choose, Prompt
from ..widgets.notice import Notice
from ..widgets.options import Options
from . import commands

WIDE = 25  # columns of a value
HINTS = hints(commands.COMMANDS, "enter", "delete", "?", "escape")


@dataclass
class Row:
    """A setting, or (with `screen`) a default key of a screen; a title has neither."""

    name: str = ""
    screen: str = ""
    title: str = ""
    about: str = ""


class SettingsScreen(Keyed, Screen[None]):
    """Rows of name, value and meaning."""

    DEFAULT_CSS = """
    SettingsScreen OptionList { height: 1fr; border: none; background: $background; padding: 0 1; }
    SettingsScreen OptionList:focus { border: none; }
    SettingsScreen OptionList > .option-list--option-highlighted { background: $rule; text-style: none; }
    SettingsScreen OptionList:focus > .option-list--option-highlighted { background: $rule; text-style: none; }
    SettingsScreen #about { height: 2; padding: 0 1; background: $panel; }
    SettingsScreen #said { height: 1; padding: 0 1; }
    """
    KEYS_OF = "settings"
    HEADING, ACTIONS = commands.TITLE, commands.COMMANDS
    BINDINGS = bindings(commands.COMMANDS)

    def __init__(self, palette: Palette) -> None:
        super().__init__()
        self.palette = palette
        self.settings, self.unfit = settings.load()
        self.rows: list[Row] = []

    @property
    def uneven(self) -> Application:
        return cast("Application", self.app)

    def compose(self) -> ComposeResult:
        yield TopLine(self.palette)
        yield Options()
        yield Static("", id="about")
        yield Static("", id="said")
        yield Notice(self.palette)
        yield Keys(self.palette)

    def on_mount(self) -> None:
        self.query_one(TopLine).show("settings", short(str(settings.place())))
        self.query_one(Keys).show(HINTS)
        self.fill(0)
        self.query_one(OptionList).focus()
        told = [*self.unfit, *self.uneven.apply_keys(self.settings.keys)]
        if told:
            self.say(told[0], bad=True)

    def on_resize(self) -> None:
        if self.rows:
            self.fill(self.at)

    def say(self, text: str, bad: bool = False) -> None:
        self.query_one("#said", Static).update(Text(text, self.palette.error if bad else self.palette.quiet))

    # -- the rows ------------------------------------------------------------------------------------

    def fill(self, at: int) -> None:
        self.rows = [Row(f.name, about=meta(f.name).about) for f in fields(Settings) if f.name != "keys"]
        for kind in self.uneven.screens():
            screen, bound = kind.KEYS_OF, self.uneven.keys_of(kind.KEYS_OF)
            mine = [Row(k, screen, label, more) for k, label, more in changeable(kind.ACTIONS) if named(k) in bound]
            self.rows += [Row(title=f"Keys of {kind.HEADING}"), *mine] if mine else []
        options = self.query_one(OptionList)
        options.clear_options()
        texts = [self._text(row) for row in self.rows]
        for text in texts:
            text.truncate(max(30, self.app.size.width - 5), overflow="ellipsis")
        options.add_options([Option(text, disabled=not row.name) for text, row in zip(texts, self.rows)])
        options.highlighted = at

    def _text(self, row: Row) -> Text:
        p = self.palette
        if not row.name:
            return Text(f"\n{row.title}", f"bold {p.at}")
        out = Text(no_wrap=True, overflow="ellipsis")
        if row.screen:
            now = self.settings.keys.get(row.screen, {}).get(row.name, row.name)
            changed = now != row.name
            out.append(f"  {row.title:<22.22}", p.text)
            out.append(f"{now:<{WIDE}} ", f"bold {p.changed if changed else p.text}")
            out.append(f"changed, was {row.name}   " if changed else "", p.changed)
            out.append(row.about, p.quiet)
            return out
        value = getattr(self.settings, row.name)
        changed = value != getattr(Settings(), row.name)
        out.append(f"  {meta(row.name).label:<22}", p.text)
        out.append(f"{in_words(row.name, value):<{WIDE}} ", f"bold {p.changed if changed else p.text}")
        out.append("changed   " if changed else "", p.changed)
        out.append(row.about, p.quiet)
        return out

    def on_option_list_option_highlighted(self, event: OptionList.OptionHighlighted) -> None:
        row, p = self.rows[event.option_index], self.palette
        told = Text(no_wrap=True, overflow="ellipsis")
        told.append(f"{row.title}: {row.about}" if row.title and row.about else row.title or row.about, p.text)
        if row.screen:
            told.append(f"\nkeys.{row.screen}, by default {row.name}", p.quiet)
        elif row.name:
            told.append(f"\n{row.name}: {choices(row.name)}", p.quiet)
        self.query_one("#about", Static).update(told)

    @property
    def at(self) -> int:
        return self.query_one(OptionList).highlighted or 0

    # -- changing ------------------------------------------------------------------------------------

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        event.stop()
        row = self.rows[event.option_index]
        self.change_key(row) if row.screen else self.change(row.name)

    @work(group="dialog")
    async def change(self, name: str) -> None:
        value = getattr(self.settings, name)
        if isinstance(value, bool):
            self._take(name, not value)
            return
        title = f"{meta(name).label}: {meta(name).about}"
        if meta(name).allowed:
            several = isinstance(value, list)
            options = [
                Choice(c, f"{'on ' if c in value else 'off'}  {c}" if several else c) for c in meta(name).allowed
            ]
            chosen = await self.app.push_screen_wait(Choose(self.palette, title, options))
            if chosen is not None:
                new = [c for c in meta(name).allowed if (c in value) != (c == chosen)]
                self._take(name, new if several else chosen)
            return
        text = ", ".join(value) if isinstance(value, list) else f"{value:g}"
        typed = await self.app.push_screen_wait(Prompt(self.palette, title, text, choices(name)))
        if typed is not None:
            self._take(name, self._read(typed, value))

    @staticmethod
    def _read(typed: str, value: list[str] | float | str) -> object:
        """What was typed, as the kind of value that a setting is; the text itself where it is none."""
        if isinstance(value, list):
            return [t.strip() for t in typed.split(",") if t.strip()]
        try:
            return type(value)(typed)
        except ValueError:
            return typed

    def _take(self, name: str, value: object) -> None:
        wrong = wrong_with(name, value)
        if wrong:
            self.say(f"{wrong}. It stays as it was.", bad=True)
            return
        setattr(self.settings, name, value)
        self._keep(f"{meta(name).label}: {in_words(name, value)}.", name == "theme")

    def _keep(self, said: str, theme: bool = False) -> None:
        try:
            settings.save(self.settings)
        except BadUse as e:
            said = f"{said} It is not saved: {e}"
        told = self.uneven.apply_settings(self.settings, theme)
        self.palette = self.uneven.palette
        for widget in self.query("TopLine, Notice, Keys"):
            widget.palette = self.palette  # type: ignore[attr-defined]  # each of these has one
        self.query_one(Keys).show(HINTS)
        self.query_one(TopLine).show("settings", short(str(settings.place())))
        self.fill(self.at)
        self.say(told[0] if told else said, bad=bool(told))

    @work(group="dialog")
    async def change_key(self, row: Row) -> None:
        mine = dict(self.settings.keys.get(row.screen, {}))
        kind = next(k for k in self.uneven.screens() if row.screen == k.KEYS_OF)
        taken = {mine.get(k, k): (k, words) for k, words, _ in changeable(kind.ACTIONS)}
        bound = self.uneven.keys_of(row.screen)
        pressed = await self.app.push_screen_wait(PressKey(self.palette, row, taken, bound))
        if pressed is None:
            return
        now = mine.get(row.name, row.name)
        if pressed in taken and taken[pressed][0] != row.name:
            mine[taken[pressed][0]] = now  # the two change places
        mine[row.name] = pressed
        self._take_keys(row.screen, mine, f"{row.title} is on {pressed} now.")

    def _take_keys(self, screen: str, mine: dict[str, str], said: str) -> None:
        mine = {old: new for old, new in mine.items() if old != new}
        self.settings.keys = {
            **{s: k for s, k in self.settings.keys.items() if s != screen},
            **({screen: mine} if mine else {}),
        }
        self._keep(said)

    def action_default(self) -> None:
        row = self.rows[self.at]
        if row.screen:
            mine = {k: v for k, v in self.settings.keys.get(row.screen, {}).items() if row.name not in (k, v)}
            self._take_keys(row.screen, mine, f"{row.title} is on {row.name}, its default.")
        elif row.name:
            self._take(row.name, getattr(Settings(), row.name))

    def action_back(self) -> None:
        self.dismiss()


class PressKey(ModalScreen[str | None]):
    """Read the next key.  A key in use gives a message, and is taken when it is pressed again."""

    DEFAULT_CSS = BOX.format(name="PressKey", width=84)

    def __init__(self, palette: Palette, row: Row, taken: dict[str, tuple[str, str]], bound: set[str]) -> None:
        super().__init__()
        self.palette, self.row, self.taken, self.bound = palette, row, taken, bound
        self.asked = ""

    def compose(self) -> ComposeResult:
        with Vertical():
            yield Static(Text(f"Press the key for: {self.row.title}", f"bold {self.palette.text}"))
            yield Static(Text(f"Default {self.row.name}. Escape cancels.", self.palette.quiet), id="told")

    def on_key(self, event: events.Key) -> None:
        event.stop()
        event.prevent_default()
        key = shown(event.key)
        if event.key == "escape":
            self.dismiss(None)
        elif event.key in FIXED or not is_key(key):
            self._tell(f"{event.key} cannot be changed. Press another, or escape.")
        elif key in self.taken and key != self.asked and self.taken[key][0] != self.row.name:
            self.asked = key
            self._tell(f"{key} is used for: {self.taken[key][1]}. Press again to swap, escape to cancel.")
        elif key not in self.taken and named(key) in self.bound:
            self._tell(f"{key} moves or closes on this screen and cannot be changed. Press another, or escape.")
        else:
            self.dismiss(key)

    def _tell(self, text: str) -> None:
        self.query_one("#told", Static).update(Text(text, self.palette.warning))
