"""The drawer at the foot of the Bench with the script's output and its input."""

from __future__ import annotations

import re

from rich.text import Text
from textual import events
from textual.app import ComposeResult
from textual.containers import Vertical
from textual.message import Message
from textual.widgets import Input, Static

from ..shell.theme import PALETTES, Palette
from ..widgets.fields import Field
from .output_log import OutputLog

CONTROL = re.compile(r"\x1b\[[0-9;?]*[ -/]*[@-~]|\x1b\][^\x07]*(?:\x07|\x1b\\)|[\x00-\x08\x0b-\x1f\x7f\x9b]")
NOT_FINITE = re.compile(r"\b(nan|inf)\b", re.IGNORECASE)
INPUT_HELP = "input for the script: enter sends a line, ctrl+d ends the input, escape closes"
KEPT = 5000  # lines of output
LEAST_ROWS = 12  # of the open drawer
WENT_BACK = "‖ went back: some of the lines above were undone, and are printed again"


def plain(text: str) -> str:
    """Output without terminal control sequences: never sent raw to the terminal."""
    return CONTROL.sub("", text.replace("\r\n", "\n"))


class ScriptInput(Field):
    left_alone = ("ctrl+d",)  # the end of the input
    hints = (("enter", "send line"), ("ctrl+d", "end input"), ("escape", "close"))


class OutputDrawer(Vertical):
    """One line that opens into a drawer; its input line feeds the script's standard input."""

    DEFAULT_CSS = """
    OutputDrawer { height: 1; background: $panel; }
    OutputDrawer.open { height: 12; border-top: solid $rule; }
    OutputDrawer #last { height: 1; width: 100%; background: $panel; }
    OutputDrawer OutputLog { display: none; height: 1fr; }
    OutputDrawer Input { display: none; height: 1; border: none; background: $background; padding: 0 1; }
    OutputDrawer.open OutputLog { display: block; }
    OutputDrawer.open Input { display: block; }
    OutputDrawer.over Input { display: none; }
    OutputDrawer.open #last { display: none; }
    """

    class Typed(Message):
        """A line for the script's standard input; None ends the input."""

        def __init__(self, text: str | None) -> None:
            super().__init__()
            self.text = text

    def __init__(self, palette: Palette, most: int = KEPT, **kwargs: object) -> None:
        super().__init__(**kwargs)  # type: ignore[arg-type]  # a widget's id and classes
        self.palette, self.most = palette, most
        self.partial = {"stdout": "", "stderr": "", "console": ""}
        self.last_line = ""
        self.errors = 0  # lines of error output
        self.typed = ""  # what was typed for the script
        self.newest = 0  # return point
        self.marks: dict[int, tuple[int, dict[str, str], str, int]] = {}  # by return point

    def compose(self) -> ComposeResult:
        yield Static("", id="last")
        yield OutputLog(self.palette, self.most)
        yield ScriptInput(placeholder=INPUT_HELP, id="stdin", compact=True)

    def write(self, category: str, text: str) -> None:
        text = self.partial[category] + plain(text)
        *whole, rest = text.split("\n")
        colour = {"stderr": self.palette.warning, "console": self.palette.breakpoint}.get(category, self.palette.text)
        sign = "‖ " if category == "console" else ""
        self.query_one(OutputLog).write([(colour, sign + line) for line in whole])
        self.partial[category] = rest[-2000:]
        shown = [line for line in (*whole, rest) if line.strip()]
        if category == "stderr":
            self.errors += len(whole)
        elif shown:
            self.last_line = shown[-1]
        if category == "stdout":
            prompt = rest.strip()[-60:]
            self.query_one("#stdin", Input).placeholder = f"{prompt}   {INPUT_HELP}" if prompt else INPUT_HELP
        self.draw()

    def fit(self) -> None:
        """As high as what was printed needs, up to half of the screen; `over`: the script reads nothing any more."""
        log = self.query_one(OutputLog)
        rows = max(len(log.rows), len(log.kept)) + 2  # they are wrapped once they are seen
        self.styles.height = (
            min(max(LEAST_ROWS, rows), max(LEAST_ROWS, self.app.size.height // 2)) if self.is_open else 1
        )

    @property
    def is_open(self) -> bool:
        return self.has_class("open")

    def scroll(self, pages: int) -> None:
        """Page through what was printed."""
        self.query_one(OutputLog).page(pages)

    def text(self) -> str:
        """What is kept of the output, with what was typed."""
        lines = [text for _, text in self.query_one(OutputLog).kept]
        return "".join(f"{line}\n" for line in lines) + self.partial["stdout"]

    def find(self, wanted: str) -> str:
        """Scroll to the next line, from the one at the top on, that holds a text; what to say of it."""
        log, low = self.query_one(OutputLog), wanted.lower()
        at = round(log.scroll_offset.y) + 1
        rows = list(log.rows)
        order = [*range(at, len(rows)), *range(min(at, len(rows)))]
        found = next((n for n in order if low in rows[n][1].lower()), None)
        if found is None:
            gone = log.count - len(log.kept)
            return f"{wanted} is not in the output" + (f"; the first {gone:,} lines are not kept." if gone else ".")
        log.follows = False
        log.scroll_to(y=found, animate=False)
        return f"{wanted}: row {found + 1:,} of {len(rows):,} of the output."

    def draw(self) -> None:
        line = Text(" output  ", self.palette.quiet, end="", no_wrap=True, overflow="ellipsis")
        line.append(self.last_line or "nothing yet", self.palette.text if self.last_line else self.palette.quiet)
        line.truncate(max(20, self.size.width - (40 if self.errors else 1)), overflow="ellipsis")
        if self.errors:
            count = "1 line" if self.errors == 1 else f"{self.errors} lines"
            line.append(f"   {count} of error output, d shows", self.palette.warning)
        self.query_one("#last", Static).update(line)
        if self.is_open:
            self.fit()

    def number_of(self, part: str) -> int:
        """The number, from 1, of the last line of standard output that holds a text; 0 where none is kept."""
        log, texts = self.query_one(OutputLog), {palette.text for palette in PALETTES.values()}
        if log.count > len(log.kept):
            return 0  # earlier lines are gone, so that they cannot be counted
        lines = [text for colour, text in log.kept if colour in texts]
        if self.partial["stdout"]:
            lines.append(self.partial["stdout"])
        return next((n for n in range(len(lines), 0, -1) if part in lines[n - 1]), 0)

    def bad_line(self) -> str:
        """The last line of standard output that shows nan or inf; empty where none does."""
        lines = [text for _, text in self.query_one(OutputLog).kept if NOT_FINITE.search(text)]
        return next((text.strip() for text in reversed(lines) if self.number_of(text)), "")

    def leave(self, point: int) -> None:
        """The script sets off from a return point: what it has printed so far has come by now."""
        if point:
            self.marks[point] = (self.query_one(OutputLog).count, dict(self.partial), self.last_line, self.errors)

    def back_at(self, point: int, at_start: bool = False) -> None:
        """At a pause with a return point.  If that is an earlier one, what was printed since goes; where it is not
        known what that is (a snapshot within a loop), a line says so."""
        log, went_back = self.query_one(OutputLog), 0 < point < self.newest
        self.newest = max(point, self.newest)
        printed = {self.palette.text, self.palette.warning}
        if at_start and any(colour in printed for colour, _ in log.kept):  # else: notes on what runs unwatched
            self.marks[point] = (0, dict.fromkeys(self.partial, ""), "", 0)
        if point not in self.marks:
            if went_back:
                log.write([(self.palette.breakpoint, WENT_BACK)])
            return
        lines, partial, self.last_line, self.errors = self.marks[point]
        log.cut_to(lines)
        self.partial = dict(partial)
        self.marks = {n: m for n, m in self.marks.items() if n < point}
        self.draw()

    def clear(self) -> None:
        self.marks.clear()
        self.newest = 0
        self.query_one(OutputLog).clear()
        self.partial = {"stdout": "", "stderr": "", "console": ""}
        self.last_line, self.errors, self.typed = "", 0, ""
        self.draw()

    def on_mount(self) -> None:
        self.draw()

    def on_input_submitted(self, event: Input.Submitted) -> None:
        event.stop()
        self.typed += event.value + "\n"
        self.post_message(self.Typed(event.value + "\n"))
        prompt = self.partial["stdout"]  # with what follows it is one line of the output, which counts once
        self.partial["stdout"] = ""
        shown = [(self.palette.quiet, prompt)] if prompt else []
        self.query_one(OutputLog).write([*shown, (self.palette.changed, "‹ " + event.value)])
        event.input.value = ""

    def on_key(self, event: events.Key) -> None:
        if event.key == "ctrl+d":
            event.stop()
            event.prevent_default()
            self.post_message(self.Typed(None))
            self.query_one(OutputLog).write([(self.palette.quiet, "‹ end of the input")])
