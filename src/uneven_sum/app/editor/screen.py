"""The editor: a source file, with what is wrong with it while one types."""

from __future__ import annotations

import asyncio
import os
import shlex
import subprocess
from collections.abc import Callable
from typing import Any

from rich.text import Text
from textual import work
from textual.app import ComposeResult
from textual.screen import Screen
from textual.widgets import Static
from textual.widgets.text_area import TextAreaTheme

from ...client import BadUse
from ...client.before import Finding, looked_at
from ...client.book import Book
from ...client.opened import ChangedOutside, Opened, open_file, save
from ...client.placing import follow
from ...client.sources import as_python
from ..shell.commands import bindings, hints
from ..shell.keymap import Keyed
from ..shell.paths import short
from ..shell.theme import Palette
from ..widgets.bars import Keys, TopLine
from ..widgets.dialogs import Choice, Choose, Prompt
from ..widgets.notice import Notice
from ..widgets.source_area import SourceArea
from . import commands

COLOURED = 600_000  # characters up to which the text is coloured: a longer one would be slow
SOON = 0.4  # seconds without typing, until the text is looked at
KEYS = hints(
    commands.COMMANDS,
    *(
        "ctrl+s",
        "ctrl+f",
        "ctrl+r",
        "ctrl+l",
        "ctrl+b",
        "ctrl+n",
        "ctrl+z ctrl+y",
        "ctrl+e",
        "ctrl+o",
        "escape",
    ),
)


class Editor(Keyed, Screen[bool]):
    """Gives True when the file was saved.  `path` is read when it opens; `line` is where the cursor begins."""

    DEFAULT_CSS = """
    Editor TextArea { height: 1fr; border: none; background: $background; padding: 0; }
    Editor TextArea:focus { border: none; }
    Editor #wrong { height: auto; max-height: 6; padding: 0 1; border-top: solid $rule; }
    Editor #said { height: 1; padding: 0 1; }
    """
    KEYS_OF = "editor"
    HEADING, ACTIONS = commands.TITLE, commands.COMMANDS
    BINDINGS = bindings(commands.COMMANDS)

    def __init__(
        self,
        palette: Palette,
        opened: Opened,
        line: int = 1,
        off: frozenset[str] = frozenset(),
        book: Book | None = None,
    ) -> None:
        super().__init__()
        self.book = book
        self.stops: dict[int, int] = {}  # by line of the text as it is now: the number of a lookout; 0: a new one
        self.stops_in: list[str] = []  # the lines of the text that `stops` counts in
        self.palette, self.opened, self.line, self.off = palette, opened, line, off
        self.found: list[Finding] = []
        self.at_finding = -1
        self.sought = ""
        self.saved = False
        self.loaded = False  # the text is in the field

    def compose(self) -> ComposeResult:
        yield TopLine(self.palette)
        language = "python" if len(self.opened.text) < COLOURED else None
        area = SourceArea.code_editor("", language=language, theme="css", soft_wrap=False)
        area.indent_type = "tabs" if self.opened.tabs else "spaces"
        area.indent_width = self.opened.width
        area.read_only = True
        yield area
        yield Static("", id="wrong")
        yield Static("", id="said")
        yield Notice(self.palette)
        yield Keys(self.palette)

    def on_mount(self) -> None:
        self.query_one(Keys).show(list(KEYS))
        self.say(f"{os.path.basename(self.opened.path)} is being opened …")
        self.area.focus()
        self.call_after_refresh(self._begin)  # once its width is known a long text is broken into lines just once

    def _begin(self) -> None:
        area = self.area
        area.load_text(self.opened.text)
        area.read_only, self.loaded = False, True
        self.stops_in = self.opened.text.split("\n")
        kept = self.book.kept.values() if self.book is not None else []
        here = os.path.realpath(self.opened.path)
        self.stops = {
            k.lookout.line: k.lookout.id for k in kept if k.lookout.line and os.path.realpath(k.lookout.file) == here
        }
        self.say("")
        area.register_theme(_theme(self.palette))
        area.theme = "uneven"
        area.move_cursor((max(0, min(self.line, area.document.line_count) - 1), 0), center=True)
        self._title()
        # mypy: Textual's type is narrower than what it takes
        self.run_worker(self._look, exclusive=True, group="look")  # type: ignore[arg-type]

    @property
    def area(self) -> SourceArea:
        return self.query_one(SourceArea)

    @property
    def modified(self) -> bool:
        return self.loaded and self.area.text != self.opened.text

    def say(self, text: str, bad: bool = False) -> None:
        self.query_one("#said", Static).update(Text(text, self.palette.error if bad else self.palette.quiet))

    def _title(self) -> None:
        row, column = self.area.cursor_location
        state = "changed" if self.modified else "saved" if self.saved else "as it is in the file"
        place = f"line {row + 1}, column {column + 1}"
        self.query_one(TopLine).show(f"edit {short(self.opened.path)}", f"{state} · {place}")

    # -- what is wrong -------------------------------------------------------------------------------

    def on_text_area_changed(self) -> None:
        if not self.loaded:
            return
        self._title()
        # mypy: Textual's type is narrower than what it takes
        self.run_worker(self._look_soon, exclusive=True, group="look")  # type: ignore[arg-type]

    def on_text_area_selection_changed(self) -> None:
        self._title()
        here = self.area.cursor_location[0] + 1
        one = next((f for f in self.found if f.line == here), None)
        self.say(f"{'error' if one.error else 'hint'}: {one.text}" if one else "", bad=bool(one and one.error))

    async def _look_soon(self) -> None:
        await asyncio.sleep(SOON)
        await self._look()

    async def _look(self) -> None:
        """What is wrong with the text as it is now; looked for in a thread, so that one can type on."""
        p, out = self.palette, Text(no_wrap=True, overflow="ellipsis")
        try:
            data = as_python(self.opened.path, self.area.text).encode(self.opened.encoding)
        except UnicodeEncodeError as e:
            self.say(f"{self.opened.encoding} has no {e.object[e.start]!r}: it cannot be saved so", bad=True)
            return
        found = await looked_at(data, self.opened.path, self.off)
        if not self.query("#wrong"):
            return  # left meanwhile
        self.found = found
        self._draw_marks()
        for n, one in enumerate(self.found[:4]):
            out.append("\n" if n else "")
            word, colour = ("error", p.error) if one.error else ("hint ", p.warning)
            out.append(f"{word} ", f"bold {colour}")
            out.append(f"line {one.line}: {one.text}", p.text)
        if len(self.found) > 4:
            out.append(f"   and {len(self.found) - 4} more", p.quiet)
        self.query_one("#wrong", Static).update(out or Text("no findings", p.fine))

    def _draw_marks(self) -> None:
        """Breakpoints, and beside them or instead of them what is wrong."""
        p = self.palette
        self._follow()
        marks: dict[int, tuple[str, str]] = {}
        for one in self.found:  # errors come first
            marks.setdefault(one.line, ("error", p.error) if one.error else ("hint", p.warning))
        for line in self.stops:
            word, colour = marks.get(line, ("", p.breakpoint))
            marks[line] = (f"‖{word[:4]}", colour)
        self.area.mark(marks)

    def _follow(self) -> None:
        """Breakpoints move with their lines."""
        if not self.stops:
            return
        now = self.area.text.split("\n")
        if now != self.stops_in:
            moved = {follow(self.stops_in, now, line): number for line, number in self.stops.items()}
            self.stops = {line: number for line, number in moved.items() if line is not None}
        self.stops_in = now

    def action_breakpoint(self) -> None:
        """A breakpoint on or off at the cursor line; a new one is set when the text is saved."""
        if self.book is None or not self.loaded:
            self.say("Breakpoints are set here when the editor was opened from the Bench.")
            return
        self._follow()
        self.stops_in = self.area.text.split("\n")
        line = self.area.cursor_location[0] + 1
        number = self.stops.pop(line, None)
        if number is None:
            self.stops[line] = 0
        elif number:
            self.book.remove([number])
        self.say(f"Breakpoint at line {line} {'set' if number is None else 'removed'}.")
        self._draw_marks()

    def _keep_breakpoints(self) -> None:
        """The new ones: at once where the text is the file's, else with the lines that are saved."""
        if self.book is None:
            return
        self._follow()
        new = [line for line, number in self.stops.items() if not number]
        if new and not self.saved and not self.modified:
            for line in new:
                self.book.toggle(self.opened.path, line)
        elif self.saved:
            self.book.add_later(self.opened.path, new)

    def action_next_finding(self) -> None:
        if self.found:
            self.at_finding = (self.at_finding + 1) % len(self.found)
            one = self.found[self.at_finding]
            self.area.move_cursor((one.line - 1, max(0, one.column - 1)), center=True)

    # -- find, replace, go to ------------------------------------------------------------------------

    async def _prompt(self, question: str, value: str, hint: str) -> str | None:
        return await self.app.push_screen_wait(Prompt(self.palette, question, value, hint))

    @work(group="dialog")
    async def action_find(self) -> None:
        text = await self._prompt("Find what?", self.area.selected_text or self.sought, "f3 finds the next")
        if text:
            self.sought = text
            self.action_find_next()

    def action_find_next(self) -> None:
        area = self.area
        if not self.sought:
            return
        text, start = area.text, self._offset(area.cursor_location) + 1
        at = text.find(self.sought, start)
        at = at if at >= 0 else text.find(self.sought)
        if at < 0:
            self.say(f"{self.sought} is not in the text.")
            return
        area.move_cursor(self._location(at), center=True)
        area.move_cursor(self._location(at + len(self.sought)), select=True)

    @work(group="dialog")
    async def action_replace(self) -> None:
        old = await self._prompt("Replace which text, everywhere?", self.area.selected_text or self.sought, "")
        if not old:
            return
        new = await self._prompt(f"Replace {old!r} by what?", "", "nothing removes it")
        if new is None:
            return
        area, count = self.area, self.area.text.count(old)
        if count:
            place = area.cursor_location
            area.replace(area.text.replace(old, new), (0, 0), area.document.end)
            area.move_cursor(place)
        self.say(f"{count} times replaced; ctrl+z undoes it." if count else f"{old} is not in the text.")

    @work(group="dialog")
    async def action_go_to(self) -> None:
        text = await self._prompt("Go to which line?", "", "its number")
        if text and text.strip().isdigit():
            self.area.move_cursor((max(0, min(int(text), self.area.document.line_count) - 1), 0), center=True)

    def _offset(self, place: tuple[int, int]) -> int:
        return sum(len(line) + 1 for line in self.area.text.split("\n")[: place[0]]) + place[1]

    def _location(self, offset: int) -> tuple[int, int]:
        before = self.area.text[:offset]
        return before.count("\n"), offset - (before.rfind("\n") + 1)

    # -- the file ------------------------------------------------------------------------------------

    async def action_save(self) -> None:
        self.run_worker(self._save(), group="dialog")

    async def _save(self) -> bool:
        """Save the file; False, with a message, when that failed."""
        if not self.loaded:
            return False
        name = os.path.basename(self.opened.path)
        try:
            try:
                save(self.opened, self.area.text)
            except ChangedOutside as e:
                choices = [
                    Choice("no", "leave the file", "nothing is written"),
                    Choice("mine", "write this text over it", "what the other program wrote is lost"),
                    Choice("theirs", "read the file again", "what was typed here is lost"),
                ]
                chosen = await self.app.push_screen_wait(Choose(self.palette, str(e), choices))
                if chosen == "theirs":
                    self.opened = open_file(self.opened.path)
                    self.area.load_text(self.opened.text)
                    self._title()
                    return False
                if chosen != "mine":
                    return False
                save(self.opened, self.area.text, force=True)
        except BadUse as e:
            self.say(str(e), bad=True)
            return False
        self.saved = True
        self._keep_breakpoints()
        self._title()
        errors = sum(f.error for f in self.found)
        self.say(f"{name} is saved." + (f" It has {errors} error{'s' * (errors != 1)}." if errors else ""))
        return True

    async def action_leave(self) -> None:
        """After the keys that were pressed before: a priority binding overtakes those that the text has yet to take."""
        self.area.call_later(self._soon_leave)

    def _soon_leave(self) -> None:
        self.run_worker(self._leave(), group="dialog")

    async def _leave(self) -> None:
        if isinstance(self.app.screen, (Prompt, Choose)):
            self.app.screen.dismiss(None)
            return
        if self.modified:
            choices = [
                Choice("save", "save it and leave"),
                Choice("stay", "go on editing"),
                Choice("drop", "leave without saving", "what was typed is lost"),
            ]
            chosen = await self.app.push_screen_wait(Choose(self.palette, "The text was changed.", choices))
            if chosen == "save":
                if not await self._save():
                    return
            elif chosen != "drop":
                return
        if not self.saved:
            self._keep_breakpoints()
        self.dismiss(self.saved)

    @work(group="dialog")
    async def action_own_editor(self) -> None:
        """The user's own editor, on the file as it is saved."""
        command = os.environ.get("VISUAL") or os.environ.get("EDITOR")
        if not command:
            self.say("No editor is set: give one in the environment, as EDITOR.", bad=True)
            return
        if self.modified and not await self._save():
            return
        try:
            with self.app.suspend():
                done = subprocess.run([*shlex.split(command), self.opened.path])
        except (OSError, ValueError) as e:
            self.say(f"{command} cannot be started: {getattr(e, 'strerror', None) or e}.", bad=True)
            return
        except Exception as e:  # where the terminal cannot be lent
            self.say(f"The terminal cannot be lent to {command}: {e}", bad=True)
            return
        try:
            again = open_file(self.opened.path)
        except BadUse as e:
            self.say(str(e), bad=True)
            return
        if again.print != self.opened.print:
            self.opened, self.saved = again, True
            self.area.load_text(again.text)
        self.say(f"{command} ended with status {done.returncode}.")


def _theme(p: Palette) -> TextAreaTheme:
    from rich.style import Style

    def style(colour: str, italic: bool = False, bold: bool = False) -> Style:
        return Style(color=colour, italic=italic, bold=bold)

    return TextAreaTheme(
        "uneven",
        base_style=Style(color=p.text, bgcolor=p.ground),
        gutter_style=Style(color=p.quiet, bgcolor=p.ground),
        cursor_style=Style(color=p.ground, bgcolor=p.at),
        cursor_line_style=Style(bgcolor=p.cursor),
        cursor_line_gutter_style=Style(color=p.text, bgcolor=p.cursor, bold=True),
        bracket_matching_style=Style(bgcolor=p.rule, bold=True),
        selection_style=Style(bgcolor=p.rule),
        syntax_styles={
            "string": style(p.string),
            "string.documentation": style(p.string, italic=True),
            "comment": style(p.quiet, italic=True),
            "keyword": style(p.keyword, bold=True),
            "keyword.operator": style(p.keyword, bold=True),
            "conditional": style(p.keyword, bold=True),
            "repeat": style(p.keyword, bold=True),
            "include": style(p.keyword, bold=True),
            "exception": style(p.keyword, bold=True),
            "keyword.function": style(p.keyword, bold=True),
            "keyword.return": style(p.keyword, bold=True),
        },
    )


async def edit(
    screen: Screen[Any],
    palette: Palette,
    path: str,
    line: int,
    tell: Callable[[str], None],
    off: frozenset[str],
    book: Book | None = None,
) -> bool:
    """Open the editor on a file; True when it was saved.  A file that cannot be opened gives a message."""
    try:
        opened = open_file(path)
    except BadUse as e:
        tell(str(e))
        return False
    app: Any = screen.app
    return bool(await app.push_screen_wait(Editor(palette, opened, line, off, book)))
