"""The drawer of an origin: the chain of statements that wrote a value, newest first."""

from __future__ import annotations

import os
from collections.abc import Callable

from rich.text import Text
from textual import events
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical
from textual.widgets import OptionList, Static
from textual.widgets.option_list import Option

from ...client.origin.chain import Chain
from ...client.sources import place_words
from ...protocol.origin import MadeFrom, Step
from ...safe_text import cut
from ..shell.theme import Palette
from ..widgets.options import Options


class Steps(Options):
    """The rows of the drawer."""

    hints = (
        *(("up down", "choose"), ("enter", "go there / follow")),
        *(("n", "show next use"), ("escape", "close")),
    )
    BINDINGS = [Binding("n", "next_use", show=False)]

    def action_next_use(self) -> None:
        drawer = self.parent
        if isinstance(drawer, OriginDrawer):
            drawer.ask_use()


class OriginDrawer(Vertical):
    """Steps, and under each the values that it was made from.  `chosen` hears of a step under the cursor, `opened` of
    a step, or of one of its operands, on which enter was pressed; `used` of a step whose next use is asked for."""

    DEFAULT_CSS = """
    OriginDrawer { display: none; height: 14; max-height: 45%; background: $panel; border-top: solid $rule; }
    OriginDrawer.open { display: block; }
    OriginDrawer Options { height: 1fr; background: $panel; border: none; padding: 0 1; scrollbar-size-vertical: 1; }
    OriginDrawer Options > .option-list--option-highlighted { background: $rule; color: $foreground; text-style: none; }
    OriginDrawer Options:focus { border: none; }
    OriginDrawer Options:focus > .option-list--option-highlighted { background: $rule; color: $foreground; }
    OriginDrawer Options { text-wrap: nowrap; text-overflow: ellipsis; }
    OriginDrawer Static { height: auto; max-height: 3; background: $panel; padding: 0 1; }
    """

    def __init__(self, palette: Palette) -> None:
        super().__init__()
        self.palette = palette
        self.chain = Chain()
        self.rows: list[tuple[Step, MadeFrom | None]] = []
        self.chosen: Callable[[Step], None] = lambda step: None
        self.opened: Callable[[Step, MadeFrom | None], None] = lambda step, operand: None
        self.used: Callable[[Step, Step], None] = lambda step, last: None
        self.uses: dict[int, list[Step]] = {}  # by the identity of a step

    def compose(self) -> ComposeResult:
        yield Static("", id="origin-title")
        yield Steps(id="steps")
        yield Static("", id="origin-said")

    def begin(self, text: str) -> None:
        """A search for this value begins."""
        self.chain, self.rows, self.uses = Chain(), [], {}
        self.query_one(OptionList).clear_options()
        self.query_one("#origin-title", Static).update(Text(f"origin of {text}", f"bold {self.palette.text}"))
        self.wait(0.0)

    def wait(self, seconds: float) -> None:
        """The script is run for the next step."""
        told = f"running the script in a copy of its folder · {seconds:.0f} s · escape ends the search"
        self.query_one("#origin-said", Static).update(Text(told, self.palette.at))

    def show(self, chain: Chain) -> None:
        """The steps so far."""
        self.chain, self.rows = chain, []
        options = self.query_one(OptionList)
        options.clear_options()
        for step in chain.steps:
            self.rows.append((step, None))
            options.add_option(Option(self._step(step)))
            for one in step.operands:
                self.rows.append((step, one))
                options.add_option(Option(self._operand(one)))
            for use in self.uses.get(id(step), []):
                self.rows.append((use, None))
                options.add_option(Option(self._use(use)))
        last = next((n for n, (step, one) in enumerate(self.rows) if step is chain.steps[-1]), 0) if self.rows else None
        options.highlighted = last

    def end(self, said: str) -> None:
        """The search has ended."""
        self.query_one("#origin-said", Static).update(Text(said, self.palette.quiet))

    def _step(self, step: Step) -> Text:
        p = self.palette
        place = f"{os.path.basename(step.file)} {place_words(step.file, step.line)}"
        line = Text(place + (f", pass {step.number:,}" if step.number else "") + ": ", p.at)
        line.append(cut(" ".join(step.statement.split()), 90), p.text)
        if step.kind == "printed":
            return line
        line.append("  → ", p.quiet)
        line.append(
            ("! " if step.value.nonfinite else "") + cut(step.value.text, 40),
            p.nonfinite if step.value.nonfinite else p.text,
        )
        if not step.before.missing:
            line.append(f", was {cut(step.before.text, 30)}", p.quiet)
        if step.through:
            line.append(f"   changed as {step.through}", p.changed)
        elif step.kind == "argument":
            line.append(f"   given as {step.target}", p.quiet)
        if step.later:
            line.append(f"   {step.later:,} later writes kept it so", p.quiet)
        return line

    def _use(self, use: Step) -> Text:
        p = self.palette
        at = place_words(use.file, use.line) + (f", pass {use.number:,}" if use.number else "")
        line = Text(f"     used at {at}: ", p.fine)
        line.append(cut(" ".join(use.statement.split()), 90), p.text)
        return line

    def ask_use(self) -> None:
        """The next use of the step under the cursor, or the one after the use there."""
        at = self.query_one(OptionList).highlighted
        if at is None or at >= len(self.rows):
            return
        row = self.rows[at][0]
        step = next((one for one in self.chain.steps if row is one or row in self.uses.get(id(one), [])), None)
        if step is not None:
            self.used(step, row)

    def show_use(self, step: Step, use: Step) -> None:
        """A use was found: under its step, and chosen."""
        self.uses.setdefault(id(step), []).append(use)
        self.show(self.chain)
        self.query_one(OptionList).highlighted = next(n for n, (row, _) in enumerate(self.rows) if row is use)

    def _operand(self, one: MadeFrom) -> Text:
        p = self.palette
        line = Text("     from ", p.quiet)
        line.append(cut(one.text, 60), p.text)
        value = ("! " if one.nonfinite else "") + (one.value or "what it returned")
        line.append(" = " if one.value else "  ", p.quiet)
        line.append(cut(value, 60), p.nonfinite if one.nonfinite else p.quiet)
        return line

    def on_option_list_option_highlighted(self, event: OptionList.OptionHighlighted) -> None:
        event.stop()
        if event.option_index < len(self.rows):
            self.chosen(self.rows[event.option_index][0])

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        event.stop()
        if event.option_index < len(self.rows):
            self.opened(*self.rows[event.option_index])

    def on_click(self, event: events.Click) -> None:
        self.query_one(OptionList).focus()
