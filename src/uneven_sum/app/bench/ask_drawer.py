"""The drawer in which the paused script is asked: the questions and answers so far, and the lines to ask in."""

from __future__ import annotations

import codeop

from rich.text import Text
from textual import events
from textual.app import ComposeResult
from textual.containers import Vertical
from textual.message import Message
from textual.widgets import RichLog, Static

from ..shell.theme import Palette
from ..widgets.fields import TextField
from .output_drawer import KEPT, plain

MOST_LINES = 6  # of the lines to ask in that are seen at once
HELP = "Python, in a copy · !: in the script · tab: complete · ctrl+j: new line"


def is_begun(text: str) -> bool:
    """True for Python that is not complete yet: an open bracket, the head of a block, a block without its end."""
    last = text.rpartition("\n")[2]
    if "\n" in text and last.strip() and last[0] in " \t":
        return True  # within a block: an empty line ends it
    try:
        return codeop.compile_command(text.lstrip("!").strip(" "), "<asked>", "exec") is None
    except (SyntaxError, ValueError, OverflowError):
        return False


class AskLine(TextField):
    """One line, or more: enter asks once the text is complete; up and down beyond its ends walk the history."""

    DEFAULT_CSS = """
    AskLine { height: 1; max-height: 6; border: none; background: $background; padding: 0 1; }
    AskLine:focus { border: none; }
    AskLine .text-area--cursor-line { background: $background; }
    """

    hints = (
        ("enter", "ask"),
        ("!", "first: run in script"),
        ("tab", "complete"),
        ("up", "earlier question"),
        ("ctrl+j", "new line"),
        ("ctrl+g", "run last in script"),
        ("escape", "close"),
    )

    class Complete(Message):
        def __init__(self, text: str) -> None:
            super().__init__()
            self.text = text

    class Submitted(Message):
        def __init__(self, text: str) -> None:
            super().__init__()
            self.text = text

    class ForGood(Message):
        """What was asked last shall be done for good."""

    def __init__(self, asked: list[str]) -> None:
        super().__init__(id="ask", compact=True, placeholder=HELP, highlight_cursor_line=False)
        self.asked = asked  # of this session and earlier ones
        self.at = len(asked)

    @property
    def value(self) -> str:
        return self.text

    @value.setter
    def value(self, text: str) -> None:
        self.load_text(text)
        self.move_cursor(self.document.end)

    @property
    def before_cursor(self) -> str:
        """The text of the cursor's line up to the cursor."""
        row, column = self.cursor_location
        return self.document.get_line(row)[:column]

    def on_text_area_changed(self) -> None:
        self.styles.height = max(1, min(MOST_LINES, self.document.line_count))

    async def _on_key(self, event: events.Key) -> None:
        row, last = self.cursor_location[0], self.document.line_count - 1
        if event.key == "enter":
            text = self.text
            if is_begun(text):
                self.insert("\n" + self._indent(text))
            else:
                self.post_message(self.Submitted(text))
        elif event.key == "ctrl+j":
            self.insert("\n")
        elif event.key == "ctrl+g":
            self.post_message(self.ForGood())
        elif event.key == "tab":
            self.post_message(self.Complete(self.before_cursor))
        elif (event.key == "up" and row == 0) or (event.key == "down" and row == last):
            self._walk(-1 if event.key == "up" else 1)
        else:
            await super()._on_key(event)
            return
        event.stop()
        event.prevent_default()

    @staticmethod
    def _indent(text: str) -> str:
        line = text.rpartition("\n")[2]
        deep = len(line) - len(line.lstrip())
        return " " * (deep + 4 * line.rstrip().endswith(":"))

    def _walk(self, by: int) -> None:
        if self.asked:
            self.at = max(0, min(len(self.asked), self.at + by))
            self.value = self.asked[self.at] if self.at < len(self.asked) else ""

    def remember(self, text: str) -> None:
        if not self.asked or self.asked[-1] != text:
            self.asked.append(text)
        self.at = len(self.asked)


LEAST_ROWS = 6
AROUND = 3  # rows: the rule, the line, what is said above it


class AnswerLog(RichLog):
    """Questions and answers; says when there are more of them."""

    class Grown(Message):
        pass

    def write(self, *args: object, **how: object) -> AnswerLog:
        super().write(*args, **how)  # type: ignore[arg-type]  # as RichLog has them
        self.call_after_refresh(self.post_message, self.Grown())
        return self


class AskDrawer(Vertical):
    """The history of questions and answers, and the lines to ask in."""

    DEFAULT_CSS = """
    AskDrawer { display: none; height: 6; background: $panel; border-top: solid $rule; }
    AskDrawer.open { display: block; }
    AskDrawer RichLog { height: 1fr; padding: 0 1; background: $panel; scrollbar-size-vertical: 1; }
    AskDrawer #choices { height: auto; max-height: 2; background: $panel; color: $quiet; padding: 0 1; }
    """

    class Asked(Message):
        def __init__(self, text: str) -> None:
            super().__init__()
            self.text = text

    def __init__(self, palette: Palette, asked: list[str]) -> None:
        super().__init__()
        self.palette, self.asked = palette, asked
        self.last = ""  # what was asked last
        self.latest: tuple[str, dict[str, object]] | None = None  # the last question that was answered

    def compose(self) -> ComposeResult:
        yield AnswerLog(max_lines=KEPT, wrap=True, markup=False, highlight=False)
        yield Static("", id="choices")
        yield AskLine(self.asked)

    def on_answer_log_grown(self) -> None:
        self.fit()

    def fit(self) -> None:
        """As high as its answers need, up to half of the screen."""
        rows = len(self.query_one(AnswerLog).lines) + AROUND
        self.styles.height = min(max(LEAST_ROWS, rows), max(LEAST_ROWS, self.app.size.height // 2))

    def on_ask_line_submitted(self, message: AskLine.Submitted) -> None:
        message.stop()
        text = message.text.strip("\n ")
        line = self.query_one(AskLine)
        if text:
            line.remember(text)
            line.value = ""
            self.query_one("#choices", Static).update("")
            self.post_message(self.Asked(text))

    def on_ask_line_for_good(self, message: AskLine.ForGood) -> None:
        message.stop()
        if self.last and not self.last.startswith("!"):
            self.post_message(self.Asked("!" + self.last))

    def question(self, text: str) -> None:
        self.last = text
        first, *rest = text.split("\n")
        log = self.query_one(RichLog)
        log.write(Text.assemble(("? ", f"bold {self.palette.at}"), (first, self.palette.text)))
        for line in rest:
            log.write(Text("  " + line, self.palette.text))

    def say(self, text: str) -> None:
        """What became of a command."""
        self.query_one(RichLog).write(Text("  " + text, self.palette.text))

    def answer(self, told: dict[str, object]) -> None:
        """An answer: `text`, `type`, `nonfinite`, `printed`, `forGood`, `seconds`, `changed`, `refused`."""
        p, log = self.palette, self.query_one(RichLog)
        self.latest = (self.last, told)
        self.printed(str(told.get("printed", "")))
        bad, for_good, changed = bool(told.get("nonfinite")), bool(told.get("forGood")), str(told.get("changed", ""))
        line = Text.assemble(("  ! " if bad else "  ", f"bold {p.nonfinite}"))
        line.append(str(told.get("text", "")), p.nonfinite if bad else p.text)
        line.append(f"  {told['type']}" if told.get("type") else "", p.quiet)
        line.append(f"   {_time(float(str(told.get('seconds') or 0)))}", p.quiet)
        how = "in the script" if for_good else "in a copy, script unchanged"
        line.append(f"   ({how})", p.changed if for_good else p.fine)
        log.write(line)
        self.would_change(changed)
        refused = told.get("refused")
        for what in refused if isinstance(refused, list) else []:
            log.write(Text.assemble(("  refused  ", f"bold {p.warning}"), (str(what), p.text)))

    def printed(self, text: str) -> None:
        if text.strip():
            self.query_one(RichLog).write(Text("  printed: " + plain(text).strip()[:2000], self.palette.quiet))

    def would_change(self, changed: str) -> None:
        if changed:
            p = self.palette
            line = Text.assemble(("  would change  ", f"bold {p.changed}"), (changed, p.text))
            line.append("   ctrl+g runs it in the script", p.quiet)
            self.query_one(RichLog).write(line)

    def wait(self, text: str) -> None:
        """Show that an answer is awaited."""
        self.query_one("#choices", Static).update(Text(text, self.palette.at))

    def refuse(self, sentence: str) -> None:
        self.query_one(RichLog).write(
            Text.assemble(("  error  ", f"bold {self.palette.error}"), (sentence, self.palette.text))
        )

    def complete(self, choices: list[str], start: int, typed: str) -> None:
        """Puts in what all choices share, and shows them.  `typed`: the cursor's line up to the cursor."""
        line = self.query_one(AskLine)
        shown = self.query_one("#choices", Static)
        if not choices:
            shown.update("nothing known begins so")
            return
        common = choices[0]
        for choice in choices[1:]:
            while not choice.startswith(common):
                common = common[:-1]
        row, column = line.cursor_location
        line.replace(common, (row, start), (row, column))
        line.move_cursor((row, start + len(common)))
        shown.update("" if len(choices) == 1 else "  ".join(choices[:40]))


def _time(seconds: float) -> str:
    """`0.21 ms`, `34 ms`, `1.2 s`."""
    return f"{seconds:.3g} s" if seconds >= 1 else f"{seconds * 1e3:.3g} ms"
