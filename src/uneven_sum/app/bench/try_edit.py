"""Another version of a line: typed here, tried at once beside the present one, put in the file when it is right."""

from __future__ import annotations

import asyncio
import textwrap
from typing import TYPE_CHECKING

import msgspec
from rich.text import Text
from textual import work
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Horizontal, Vertical, VerticalScroll
from textual.screen import ModalScreen
from textual.widgets import Static, TextArea

from ...client import BadUse
from ...client.edits import indented_like, replace_lines
from ...client.sources import place_words
from ...protocol import Facts, Term
from ...protocol.messages import Message
from ..shell.theme import Palette
from ..widgets.dialogs import Choice, Choose
from ..widgets.fields import TextField
from ..widgets.sheet import Sheet

if TYPE_CHECKING:
    from .screen import Bench

SOON = 0.2  # seconds after the last key until the text is tried


class TryChange(ModalScreen[None]):
    """The present statement's terms at the left, those of the version typed at the right."""

    DEFAULT_CSS = """
    TryChange { align: center middle; }
    TryChange > Vertical { width: 96%; height: 90%; background: $panel; padding: 1 2; border: solid $rule; }
    TryChange TextArea { height: auto; max-height: 8; border: none; background: $background; }
    TryChange TextArea { padding: 0 1; margin: 1 0; }
    TryChange TextArea:focus { border: none; }
    TryChange .text-area--cursor-line { background: $background; }
    TryChange Horizontal { height: 1fr; }
    TryChange VerticalScroll { width: 1fr; padding: 0 1; background: $panel; scrollbar-size-vertical: 1; }
    TryChange #tried { border-left: solid $rule; }
    TryChange Static { height: auto; background: $panel; }
    """
    BINDINGS = [
        Binding("escape", "dismiss", "close"),
        Binding("ctrl+s", "put", "put it in the file"),
    ]

    def __init__(self, bench: Bench, palette: Palette, frame: int, line: int | None, text: str = "") -> None:
        super().__init__()
        self.text = text  # to begin with, in the place of the present lines
        self.bench, self.palette, self.frame, self.line = bench, palette, frame, line
        self.place: Message = {}
        self.old = ""  # the lines as they are in the file
        self.fine = False
        self.asked = ""

    def compose(self) -> ComposeResult:
        p = self.palette
        with Vertical():
            yield Static(Text("Try an edit, in a copy of the script", f"bold {p.text}"))
            yield TextField(compact=True, language="python", highlight_cursor_line=False)
            with Horizontal():
                yield VerticalScroll(Static("", id="is"), can_focus=False)
                yield VerticalScroll(Static("", id="would"), id="tried", can_focus=False)
            yield Static("", id="said")
            keys = Text("ctrl+s", f"bold {p.text}")
            keys.append(" save edit · ", p.quiet)
            keys.append("escape", f"bold {p.text}")
            keys.append(" cancel", p.quiet)
            yield Static(keys)

    async def on_mount(self) -> None:
        self.query_one(TextArea).theme = "css"
        client = self.bench.client
        assert client is not None
        try:
            self.place = await client.try_change(self.frame, self.line, None)
        except BadUse as e:
            self.bench.notify(str(e), severity="warning")
            self.dismiss()
            return
        lines = self.bench.query_one(Sheet).lines  # the text that the call runs
        self.old = "\n".join(lines[self.place["first"] - 1 : self.place["last"]])
        area = self.query_one(TextArea)
        area.load_text(self.text or textwrap.dedent(self.old))
        area.move_cursor(area.document.end)
        area.focus()
        present = self._written(msgspec.convert(self.place["terms"], list[Term]), "now")
        self.query_one("#is", Static).update(present)
        if self.text:
            self._try(self.text)

    # -- trying ----------------------------------------------------------------------------------------

    def on_text_area_changed(self) -> None:
        if self.place:
            self._try(self.query_one(TextArea).text)

    @work(exclusive=True, group="try")
    async def _try(self, text: str) -> None:
        await asyncio.sleep(SOON)
        client, p = self.bench.client, self.palette
        if client is None:
            return
        self.asked = text
        try:
            tried = (await client.try_change(self.frame, self.line, text))["tried"]
        except BadUse as e:
            self.fine = False
            self._say(Text.assemble(("error  ", f"bold {p.error}"), (str(e), p.text)))
            return
        self.fine = True
        out = Text()
        for one in tried["statements"]:
            title = one["text"] if len(tried["statements"]) > 1 else "edited"
            out.append_text(self._written(msgspec.convert(one["terms"], list[Term]), title, one["value"]))
            out.append("\n")
        self.query_one("#would", Static).update(out)
        if tried["failed"]:
            self._say(Text.assemble(("error  ", f"bold {p.error}"), (tried["failed"], p.text)))
        elif tried["changed"]:
            self._say(Text.assemble(("would change  ", f"bold {p.changed}"), (tried["changed"], p.text)))
        else:
            self._say(Text("would change nothing", p.quiet))

    def _say(self, text: Text) -> None:
        self.query_one("#said", Static).update(text)

    def _written(self, terms: list[Term], title: str, value: str = "") -> Text:
        """Terms as rows: text, value, what became of shapes."""
        p = self.palette
        out = Text()
        out.append(title + "\n", f"bold {p.quiet}")
        room = max(20, self.app.size.width * 96 // 200 - 8)
        wide = min(room * 6 // 10, max((len("  " * t.depth + t.text) for t in terms), default=0))
        for term in terms:
            text = "  " * term.depth + term.text
            out.append(f"{text if len(text) <= wide else text[: wide - 1] + '…':<{wide}}", p.text)
            bad = bool(term.nonfinite) or term.culprit
            out.append(" ! " if bad else "   ", f"bold {p.nonfinite}")
            shown = term.value if len(term.value) <= room - wide - 4 else term.value[: max(3, room - wide - 5)] + "…"
            out.append(shown, p.nonfinite if bad else p.text)
            out.append("  culprit" if term.culprit else "", f"bold {p.nonfinite}")
            out.append("\n")
        if not terms:
            out.append(value or "no terms", p.text if value else p.quiet)
            out.append("\n")
        return out

    # -- into the file ---------------------------------------------------------------------------------

    @work(group="dialog")
    async def action_put(self) -> None:
        """Writes the lines; then the user says how the script continues."""
        text = self.query_one(TextArea).text
        bench, place = self.bench, self.place
        if not place:
            return
        if indented_like(text, self.old) == self.old:
            self._say(Text("This is what the file has now.", self.palette.quiet))
            return
        try:
            replace_lines(place["file"], place["first"], place["last"], self.old, text)
        except BadUse as e:
            self._say(Text.assemble(("error  ", f"bold {self.palette.error}"), (str(e), self.palette.text)))
            return
        facts = bench.facts
        self.dismiss()
        if facts is not None:
            bench.run_worker(after_change(bench, place["file"], facts), group="dialog")


async def after_change(bench: Bench, file: str, facts: Facts) -> None:
    """After the file has its new text: the call begins again with it, or the next one has it, or all is run again."""
    client = bench.client
    for text in bench.book.follow_edits():
        bench.notify(text, severity="warning")
    cell, whole = bench.cells.to_run_again(client, file)
    bench.sources.own_edit(file)
    choices = [Choice("again", "run again", "from the start, with the new text")]
    same = [k for k in facts.loops if k.number]
    where = place_words(facts.file, facts.line) + (f", pass {same[0].number}" if same else "")
    if facts.reason not in ("start", "end"):
        choices.append(Choice("same", f"run again to the same place: {where}", "pauses there, if the run reaches it"))
    name = facts.function.rpartition(".")[2]
    if client is not None and cell:
        choices.insert(0, Choice("now", f"run cell {cell} again", "with the new text, on the present values"))
        if client.point_before_cell(cell) is not None:
            run = f"run from cell {cell} on" if whole else f"run cell {cell} again"
            how = "before-on" if whole else "before"
            choices.insert(0, Choice(how, f"{run}, as it was before", "with the new text, and the values as they were"))
    try:
        if client is None:
            raise BadUse("The script has ended.")
        if cell:
            raise BadUse("")
        await client.take_up(file, check=True)
        choices.insert(0, Choice("next", f"from the next call of {name} on", "this call keeps the old source"))
        if client.point_before_call(facts.chain) is not None and facts.function != "<module>" and not facts.nested:
            about = "go back and enter it with the new source"
            choices.insert(0, Choice("restart", f"begin this call of {name} again", about))
        why = ""
    except BadUse as e:
        why = f"{e} ".lstrip()
    choices.append(Choice("only", "go on without it", "the script runs the old source to its end"))
    question = f"File saved. {why}How to continue?"
    chosen = await bench.app.push_screen_wait(Choose(bench.palette, question, choices))
    if chosen in ("now", "before", "before-on") and client is not None:
        await bench.cells.run_again(client, cell, chosen)
    elif chosen == "again":
        bench.action_again()
    elif chosen == "same":
        bench.recording.rerun_to_same(facts)
    elif chosen == "next" and client is not None:
        await bench.stepping.take_up(client, file)
    elif chosen == "restart" and client is not None:
        await bench.stepping.restart_call(client, facts)
