"""Small questions to the user: a line to type, a choice from a list, a yes."""

from __future__ import annotations

import textwrap
from collections.abc import Awaitable, Callable, Sequence
from dataclasses import dataclass
from functools import partial

from rich.text import Text
from textual import events
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical
from textual.screen import ModalScreen
from textual.widgets import Input, OptionList, Static
from textual.widgets.option_list import Option

from ..shell.theme import Palette
from .fields import Field
from .options import Options

BOX = """
    {name} {{ align: center middle; }}
    {name} > Vertical {{ width: {width}; max-width: 96%; height: auto; max-height: 80%; background: $panel; }}
    {name} > Vertical {{ padding: 1 2; border: solid $rule; }}
    {name} Input {{ height: 1; border: none; background: $background; padding: 0 1; margin: 1 0; }}
    {name} OptionList {{ height: auto; max-height: 18; background: $panel; border: none; padding: 0; }}
    {name} OptionList:focus {{ border: none; }}
    {name} OptionList > .option-list--option-highlighted {{ background: $rule; color: $foreground; text-style: none; }}
    {name} OptionList:focus > .option-list--option-highlighted {{
        background: $rule; color: $foreground; text-style: none;
    }}
    {name} Static {{ height: auto; background: $panel; }}
"""


class Prompt(ModalScreen[str | None]):
    """One line of text; escape gives None."""

    DEFAULT_CSS = BOX.format(name="Prompt", width=72)
    BINDINGS = [Binding("escape", "dismiss", "close")]
    AUTO_FOCUS = "Input"

    def __init__(self, palette: Palette, question: str, value: str = "", hint: str = "") -> None:
        super().__init__()
        self.palette, self.question, self.value, self.hint = palette, question, value, hint

    def compose(self) -> ComposeResult:
        with Vertical():
            yield Static(Text(self.question, f"bold {self.palette.text}"))
            yield Field(self.value, placeholder=self.hint, compact=True)
            yield Static(Text("enter: choose · escape: cancel", self.palette.quiet))

    def on_input_submitted(self, event: Input.Submitted) -> None:
        event.stop()
        self.dismiss(event.value)


@dataclass
class Choice:
    """One choice: what it is known by, its words, and a sentence of explanation."""

    key: str
    label: str
    about: str = ""


class Choose(ModalScreen[str | None]):
    """A choice from a list, narrowed by typing where `typed`; escape gives None."""

    DEFAULT_CSS = BOX.format(name="Choose", width=96)
    BINDINGS = [
        Binding("escape", "dismiss", "close"),
        Binding("down", "along(1)", show=False, priority=True),
        Binding("up", "along(-1)", show=False, priority=True),
    ]

    def __init__(self, palette: Palette, question: str, choices: list[Choice], typed: bool = False) -> None:
        super().__init__()
        self.palette, self.question, self.choices, self.typed = palette, question, choices, typed
        self.shown: list[Choice] = []

    def compose(self) -> ComposeResult:
        with Vertical():
            yield Static(Text(self.question, f"bold {self.palette.text}"))
            if self.typed:
                yield Field(placeholder="type a part of it", compact=True)
            yield Options(id="choices")
            yield Static(Text("enter: choose · up/down: move · escape: cancel", self.palette.quiet))

    def on_mount(self) -> None:
        self._show("")
        self.query_one(Input if self.typed else OptionList).focus()

    def _show(self, part: str) -> None:
        words = part.lower().split()
        found = [c for c in self.choices if all(w in f"{c.label} {c.about}".lower() for w in words)]
        self.shown = found[:200]
        options = self.query_one(OptionList)
        options.clear_options()
        p = self.palette
        width = min(44, max((len(c.label) for c in self.shown), default=0))
        room = max(20, min(self.app.size.width * 96 // 100, 96) - 10)
        for choice in self.shown:
            label = Text(f"{choice.label:<{width}}" if len(choice.label) <= width else choice.label, p.text)
            beside = len(label) + 3 + len(choice.about) <= room
            if choice.about and beside:
                label.append("   " + choice.about, p.quiet)
            elif choice.about:  # on lines of its own, broken by words
                for line in textwrap.wrap(choice.about, room - 2):
                    label.append(f"\n  {line}", p.quiet)
            options.add_option(Option(label))
        if self.shown:
            options.highlighted = 0

    def on_input_changed(self, event: Input.Changed) -> None:
        self._show(event.value)

    def on_input_submitted(self, event: Input.Submitted) -> None:
        event.stop()
        self._take(self.query_one(OptionList).highlighted)

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        self._take(event.option_index)

    def _take(self, number: int | None) -> None:
        if number is not None and number < len(self.shown):
            self.dismiss(self.shown[number].key)

    def action_along(self, by: int) -> None:
        options = self.query_one(OptionList)
        if options.option_count:
            options.highlighted = max(0, min(options.option_count - 1, (options.highlighted or 0) + by))


def _columns(words: tuple[str, ...]) -> str:
    """In two columns, so that a small terminal holds them."""
    half = (len(words) + 1) // 2
    width = max(len(w) for w in words[:half]) + 3
    return "\n".join(f"{a:<{width}}{b}" for a, b in zip(words[:half], [*words[half:], ""]))


Checked = Callable[[str], Awaitable[tuple[bool, str]]]


FAMILY = "pause where "  # the forms that are many


class EditSentence(ModalScreen[str | None]):
    """A sentence, checked as it is typed; completion of its words, and of names between backticks."""

    DEFAULT_CSS = BOX.format(name="EditSentence", width=120)
    BINDINGS = [Binding("escape", "dismiss", "close")]

    def __init__(
        self,
        palette: Palette,
        title: str,
        sentence: str,
        words: tuple[str, ...],
        check: Checked,
        names: Callable[[str], Awaitable[list[str]]],
    ) -> None:
        super().__init__()
        self.palette, self.title_, self.sentence, self.words = palette, title, sentence, words
        self.check, self.names = check, names
        self.fine = True

    def compose(self) -> ComposeResult:
        p = self.palette
        with Vertical():
            yield Static(Text(self.title_, f"bold {p.text}"))
            yield Field(self.sentence, compact=True)
            yield Static("", id="checked")
            yield Static(Text(_columns(self.offered("")), p.quiet), id="words")
            yield Static(Text("\nenter: save · tab: complete · escape: cancel", p.quiet))

    def on_mount(self) -> None:
        line = self.query_one(Input)
        line.focus()
        line.cursor_position = len(line.value)

    def offered(self, text: str) -> tuple[str, ...]:
        """Forms of a sentence; those of one family in full once its first words are typed."""
        family = tuple(w for w in self.words if w.startswith(FAMILY))
        if text.startswith(FAMILY):
            return tuple(w for w in family if w.startswith(text)) or family
        first = family[0] if family else ""
        return tuple(f"{w}, …" if w == first else w for w in self.words if w not in family[1:])

    async def on_input_changed(self, event: Input.Changed) -> None:
        self.query_one("#words", Static).update(Text(_columns(self.offered(event.value)), self.palette.quiet))
        # mypy: Textual's type is narrower than what it takes
        self.run_worker(partial(self._look, event.value), exclusive=True, group="check")  # type: ignore[arg-type]

    async def _look(self, text: str) -> None:
        self.fine, told = await self.check(text)
        p = self.palette
        sign = ("fine  ", p.fine) if self.fine and not told else ("look  ", p.warning)
        sign = sign if self.fine else ("error  ", p.error)
        self.query_one("#checked", Static).update(Text.assemble(sign, (told, p.text)))

    async def on_input_submitted(self, event: Input.Submitted) -> None:
        event.stop()
        await self._look(event.value)
        if self.fine:
            self.dismiss(event.value)

    async def on_key(self, event: events.Key) -> None:
        if event.key != "tab":
            return
        event.stop()
        event.prevent_default()
        line = self.query_one(Input)
        before = line.value[: line.cursor_position]
        if before.count("`") % 2:
            begun = before.rpartition("`")[2]
            found = await self.names(begun)
            if found:
                common = _common(found)
                start = len(begun)
                while start and (begun[start - 1].isalnum() or begun[start - 1] == "_"):
                    start -= 1
                kept = before[: len(before) - len(begun) + start]
                rest = line.value[line.cursor_position :]
                line.value = kept + common + rest
                line.cursor_position = len(kept + common)
            shown = "  ".join(found[:30]) or "nothing known begins so"
            self.query_one("#words", Static).update(Text(shown, self.palette.quiet))
        elif before.startswith(FAMILY):
            common = _common(self.offered(before))
            if common.startswith(before):
                line.value = common + line.value[line.cursor_position :]
                line.cursor_position = len(common)


def _common(texts: Sequence[str]) -> str:
    """What all begin with."""
    common = texts[0]
    for text in texts:
        while not text.startswith(common):
            common = common[:-1]
    return common


class Sure(ModalScreen[bool]):
    """Asks once before something that cannot be taken back."""

    DEFAULT_CSS = """
    Sure { align: center middle; }
    Sure Static { width: 60; height: auto; background: $panel; padding: 1 2; border: solid $rule; }
    """
    BINDINGS = [
        Binding("enter,q", "answer(True)", "leave"),
        Binding("escape,n", "answer(False)", "stay"),
    ]

    def __init__(self, palette: Palette, question: str, yes: str = "does it", no: str = "leaves it") -> None:
        super().__init__()
        self.palette, self.question, self.yes, self.no = palette, question, yes, no

    def compose(self) -> ComposeResult:
        p = self.palette
        yield Static(
            Text.assemble(
                (self.question + "\n\n", p.text),
                ("enter", f"bold {p.text}"),
                (f" {self.yes} · ", p.quiet),
                ("escape", f"bold {p.text}"),
                (f" {self.no}", p.quiet),
            )
        )

    def action_answer(self, yes: bool) -> None:
        self.dismiss(yes)
