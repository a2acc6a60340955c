"""The Differences: runs two scripts side by side, and shows where their values differ, in both texts."""

from __future__ import annotations

import math
import os
from dataclasses import dataclass, field, replace
from typing import cast

from rich.text import Text
from textual import work
from textual.app import ComposeResult
from textual.containers import Horizontal, Vertical
from textual.screen import Screen
from textual.widgets import OptionList, Static
from textual.widgets.option_list import Option

from ...client import BadUse, Goal, Launch, notes
from ...client.differing.runs import STOPPED, Compared, How, Watch, compare
from ...client.differing.stored import Stored
from ..shell.clipboard import copy
from ..shell.commands import bindings, hints
from ..shell.keymap import Application, Keyed
from ..shell.theme import PALETTES, Palette
from ..widgets.bars import Keys, TopLine
from ..widgets.dialogs import Prompt
from ..widgets.notice import Notice
from ..widgets.options import Options
from ..widgets.sheet import Sheet
from . import commands
from .evidence import Row, entry, growth, headline, origin, rows, side_of, values

DONE = hints(commands.COMMANDS, "tab", "enter", "o", "t", "n", "ctrl+k", "r", "escape", "?")
NONE = hints(commands.COMMANDS, "t", "n", "r", "escape", "?")
RUNS = hints(commands.COMMANDS, "x", "escape", "?")


@dataclass
class Pair:
    """What is compared.  `titles`: how the two are called.  `earlier`: texts of files that the left one runs instead
    of those of today."""

    launches: tuple[Launch | Stored, Launch | Stored]
    titles: tuple[str, str]
    twice: bool = False
    earlier: dict[str, str] = field(default_factory=dict)


class Differences(Keyed, Screen[None]):
    """The list above, both texts beside each other, the values and the curve below."""

    DEFAULT_CSS = """
    Differences #head { height: auto; max-height: 4; padding: 0 1; }
    Differences #list { height: auto; max-height: 30%; background: $panel; border: none; border-bottom: solid $rule; }
    Differences #list > .option-list--option-highlighted { background: $rule; color: $foreground; text-style: none; }
    Differences #list:focus > .option-list--option-highlighted { background: $rule; color: $foreground; }
    Differences #texts { height: 1fr; }
    Differences #texts Vertical { width: 1fr; height: 100%; }
    Differences #texts Vertical Static { height: 1; padding: 0 1; background: $panel; }
    Differences #right { border-left: solid $rule; }
    Differences #below { height: 12; background: $panel; border-top: solid $rule; }
    Differences #values { width: 1fr; padding: 0 1; background: $panel; }
    Differences #growth { width: 46; background: $panel; }
    Differences #said { height: 1; padding: 0 1; }
    Differences.bare #list, Differences.bare #below { display: none; }
    Differences.narrow #growth { display: none; }
    """
    KEYS_OF = "differences"
    HEADING, ACTIONS = commands.TITLE, commands.COMMANDS
    BINDINGS = bindings(commands.COMMANDS)

    def __init__(self, pair: Pair, palette: Palette) -> None:
        super().__init__()
        self.pair, self.palette = pair, palette
        self.state = "running"
        self.under_way: Watch | None = None
        self.found: Compared | None = None
        self.rows: list[Row] = []
        self.side = 1
        self.terms, self.relative, self.absolute = False, 0.0, 0.0

    @property
    def uneven(self) -> Application:
        return cast("Application", self.app)

    def compose(self) -> ComposeResult:
        yield TopLine(self.palette)
        yield Static("", id="head")
        yield Options(id="list")
        with Horizontal(id="texts"):
            with Vertical(id="left"):
                yield Static("", id="left-title")
                yield Sheet(self.palette, id="left-text")
            with Vertical(id="right"):
                yield Static("", id="right-title")
                yield Sheet(self.palette, id="right-text")
        with Horizontal(id="below"):
            yield Static("", id="values")
            yield Static("", id="growth")
        yield Static("", id="said")
        yield Notice(self.palette)
        yield Keys(self.palette)

    def on_mount(self) -> None:
        self.on_resize()
        self.begin()

    def on_resize(self) -> None:
        self.set_class(self.app.size.width < 110, "narrow")
        if self.state == "done":
            self.call_after_refresh(self.fill)

    def say(self, text: str, bad: bool = False) -> None:
        self.query_one("#said", Static).update(Text(text, self.palette.error if bad else self.palette.quiet))

    def tell(self, text: Text) -> None:
        text.stylize(self.palette.text)
        self.query_one("#head", Static).update(text)

    @property
    def sheets(self) -> tuple[Sheet, Sheet]:
        return self.query_one("#left-text", Sheet), self.query_one("#right-text", Sheet)

    # -- the runs ----------------------------------------------------------------------------------------

    def begin(self) -> None:
        self.state, self.found, self.rows = "running", None, []
        self.under_way = Watch(self.compared)
        self.add_class("bare")
        self.query_one(TopLine).show(
            f"Differences   {self.pair.titles[0]} · {self.pair.titles[1]}", "two runs under way"
        )
        self.query_one(Keys).show(list(RUNS))
        self.say("")
        self.titles()
        self.compared(0)
        self._run(self.under_way)

    def action_terms(self) -> None:
        """Compare each term, or what is stored only."""
        if self.state == "done":
            self.terms = not self.terms
            self.begin()
            self.say("Each term is compared." if self.terms else "What is stored is compared.")

    @work(group="dialog")
    async def action_tolerance(self) -> None:
        if self.state != "done":
            return
        now = f"{self.relative:g}, {self.absolute:g}"
        given = await self.app.push_screen_wait(Prompt(self.palette, "Tolerance: relative, absolute", now, "1e-9, 0"))
        if given is None:
            return
        try:
            numbers = [float(part) for part in given.split(",")]
            if not 1 <= len(numbers) <= 2 or not all(0 <= n < math.inf for n in numbers):
                raise ValueError
        except ValueError:
            self.say("A tolerance is one number, or two with a comma, not below 0.", bad=True)
            return
        self.relative, self.absolute = (*numbers, 0.0)[:2]
        self.begin()

    def compared(self, records: int) -> None:
        """How far the runs are."""
        stored = sum(isinstance(one, Stored) for one in self.pair.launches)
        how = "Two runs, each in a copy of its folder" if not stored else "A run beside a stored one"
        self.tell(Text(f"{how}: {records:,} values compared."))

    @work(exclusive=True, group="runs")
    async def _run(self, watch: Watch) -> None:
        problem = ""
        try:
            launches = self.pair.launches
            given = None
            path = next((one.stdin_file for one in launches if isinstance(one, Launch)), None)
            if path is not None:
                with open(path, encoding="utf-8", errors="replace") as f:
                    given = f.read()
            how = How(self.relative, self.absolute, twice=self.pair.twice, terms=self.terms, given=given)
            how.earlier = self.pair.earlier
            self.found = await compare(launches, how, watch=watch)
        except (BadUse, OSError) as e:
            problem = str(e)
        self.state, self.under_way = "done", None
        if self.found is None:
            self.query_one(TopLine).show("Differences", "not compared")
            self.tell(Text("The runs cannot be compared."))
            self.query_one(Keys).show(list(NONE))
            self.say(problem, bad=True)
            return
        self.fill()

    def fill(self) -> None:
        """What was found, with the same difference chosen."""
        found = self.found
        if found is None:
            return
        options, p = self.query_one(Options), self.palette
        at = options.highlighted or 0
        self.rows = rows(found)
        count = len(found.comparer.course)
        told = f"{count:,} of {found.comparer.places:,} places differ" if count else "no value differs"
        told += f" by more than {self.relative:g}, {self.absolute:g}" if self.relative or self.absolute else ""
        self.query_one(TopLine).show(
            f"Differences   {self.pair.titles[0]} · {self.pair.titles[1]}",
            f"{told} · {found.comparer.records:,} values",
        )
        self.tell(headline(found, STOPPED in (found.a.ended, found.b.ended)))
        self.set_class(not self.rows, "bare")
        options.clear_options()
        options.add_options([Option(entry(found, row, p, self.size.width - 4)) for row in self.rows])
        self.query_one(Keys).show(list(DONE if self.rows else NONE))
        if self.rows:
            options.highlighted = min(at, len(self.rows) - 1)
            options.focus()
            self.show(self.rows[options.highlighted or 0])
        else:
            self.show_texts()

    def show_texts(self) -> None:
        """Both scripts from their begin, where nothing differs."""
        assert self.found is not None
        for sheet, run in zip(self.sheets, (self.found.a, self.found.b)):
            texts = self.found.texts[0 if run is self.found.a else 1]
            text = texts.get(run.launch.program)
            sheet.show_file(run.launch.program, "\n".join(text.lines) if text is not None else "")

    def titles(self) -> None:
        """The name of each run above its text; the chosen one is marked."""
        for side, name in enumerate(("#left-title", "#right-title")):
            chosen = side == self.side
            style = f"bold {self.palette.text}" if chosen else self.palette.quiet
            self.query_one(name, Static).update(Text(("› " if chosen else "  ") + self.pair.titles[side], style))

    def on_option_list_option_highlighted(self, event: OptionList.OptionHighlighted) -> None:
        if event.option_index < len(self.rows):
            self.show(self.rows[event.option_index])

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        self.action_go()

    def show(self, row: Row) -> None:
        """The place in both texts, the values, and the curve."""
        found = self.found
        assert found is not None
        for side, (sheet, met) in enumerate(zip(self.sheets, (row.difference.a, row.difference.b))):
            if row.only and side != side_of(found, row):
                sheet.show_place(0, 0, "")
                continue
            text = found.comparer.matching.text(side, met.place.file)
            sheet.show_file(met.place.file, "\n".join(text.lines))
            sheet.show_place(met.place.line, met.place.last, "in", move=True)
        self.query_one("#values", Static).update(values(found, row, self.palette))
        self.query_one("#growth", Static).update(growth(row, self.palette))

    @property
    def chosen(self) -> Row | None:
        at = self.query_one(Options).highlighted
        return self.rows[at] if self.state == "done" and at is not None and at < len(self.rows) else None

    # -- what can be done --------------------------------------------------------------------------------

    def action_side(self) -> None:
        self.side = 1 - self.side
        self.titles()

    def action_go(self) -> None:
        """The Bench, whose script runs to the chosen difference."""
        row, found = self.chosen, self.found
        if row is None or found is None:
            return
        side = side_of(found, row) if row.only else self.side
        launch, run = self.pair.launches[side], (found.a, found.b)[side]
        met = (row.difference.a, row.difference.b)[side]
        if isinstance(launch, Stored):
            self.say("A stored run cannot be run again from here.", bad=True)
            return
        path = run.folder.back(met.place.file)
        if side == 0 and self.pair.earlier:
            self.say("The text before the edit is no longer in the file: tab switches to the present one.", bad=True)
            return
        if run.revision:
            self.say("A revision is not in the working folder: tab switches to the other one.", bad=True)
            return
        self.uneven.go_to_place(replace(launch), Goal(path, met.place.statement, met.times))

    def action_origin(self) -> None:
        """The first difference that the chosen one comes from."""
        row, found = self.chosen, self.found
        if row is None or found is None:
            return
        first = origin(found, self.rows, row)
        if first is None:
            self.say("Nothing that this is made from differs before it: the difference begins here.")
            return
        self.query_one(Options).highlighted = self.rows.index(first)
        line, was = first.difference.a.place.line, row.difference.a.place.line
        self.say(f"Line {line} differs first of all that the value in line {was} is made from.")

    def action_keep(self) -> None:
        found = self.found
        if found is None or self.state != "done":
            return
        launch = self.pair.launches[1]  # the right one is the case from which it was asked
        if isinstance(launch, Stored) or launch.as_module or not launch.keep_case:
            self.say("Notes are kept with a script; there is none here.", bad=True)
            return
        body = "\n".join(["```text", headline(found, False).plain, "", *self._as_lines(found), "```"])
        made = notes.Entry("text", f"differences of {self.pair.titles[0]} and {self.pair.titles[1]}", body + "\n")
        try:
            notes.add(os.path.join(launch.cwd or os.getcwd(), launch.program), made, {})
            self.say(f"Saved to the Notes: {made.title}.")
        except BadUse as e:
            self.say(str(e), bad=True)

    def _as_lines(self, found: Compared) -> list[str]:
        return [
            line
            for row in self.rows[:20]
            for line in (entry(found, row, self.palette, 120).plain.rstrip(), *_both(row))
        ]

    def action_copy(self) -> None:
        row, found = self.chosen, self.found
        if row is not None and found is not None:
            copy(self, "\n".join([entry(found, row, self.palette, 120).plain.rstrip(), *_both(row)]))
            self.say("Copied.")

    def action_again(self) -> None:
        if self.state == "done":
            self.begin()

    def action_end(self) -> None:
        if self.under_way is not None:
            self.under_way.stop()

    def action_back(self) -> None:
        self.action_end()
        self.app.pop_screen()

    def action_theme(self) -> None:
        names = list(PALETTES)
        self.app.theme = names[(names.index(self.palette.name) + 1) % len(names)]
        self.palette = self.uneven.palette
        for widget in self.query("TopLine, Sheet, Notice, Keys"):
            widget.palette = self.palette  # type: ignore[attr-defined]  # each of these has one
        for sheet in self.sheets:
            sheet.path = ""
        self.titles()
        if self.state == "done":
            self.fill()


def _both(row: Row) -> list[str]:
    return [f"    {row.difference.a.text}", f"    {row.difference.b.text}"]
