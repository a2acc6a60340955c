"""Cards: the values of a call, most telling first."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from rich.segment import Segment
from rich.style import Style
from rich.text import Text
from textual import events
from textual.geometry import Size
from textual.message import Message
from textual.scroll_view import ScrollView
from textual.strip import Strip

from ...protocol import Card
from ...safe_text import cut
from ..plotting.charts import Drawn
from ..plotting.spark import decode, spark
from ..shell.theme import Palette

ABOUT = {"line": "near the line", "call": "local", "module": "of the module", "watched": "watched"}


class Cards(ScrollView, can_focus=False):
    """The cards of the chosen call; in a narrow window one row each.  Only the rows that are seen are painted."""

    DEFAULT_CSS = "Cards { background: $panel; scrollbar-size-vertical: 1; scrollbar-size-horizontal: 0; }"

    class Opened(Message):
        """A card was clicked."""

        def __init__(self, name: str) -> None:
            super().__init__()
            self.name = name

    class MenuAsked(Message):
        """What can be done with a card's value is asked for."""

        def __init__(self, name: str) -> None:
            super().__init__()
            self.name = name

    def __init__(self, palette: Palette, **kwargs: object) -> None:
        super().__init__(**kwargs)  # type: ignore[arg-type]  # a widget's id and classes
        self.palette = palette
        self.cards: list[Card] = []
        self.starts: list[int] = []  # the text line where each card begins
        self.about = "line"
        self.narrow = False
        self.present = True  # the values are those of now; False while the script runs
        self.rows: list[Text] = []
        self.pictures: list[Strip] = []  # below the cards, where there is room
        self.drawn = 0  # how often it was drawn
        self.remark_of: Callable[[str], str] = lambda name: ""  # what else is known of a value: the digits that hold

    def age(self, present: bool) -> None:
        """Say whether the values are still those of now."""
        if present != self.present:
            self.present = present
            self._draw()

    def show(self, cards: list[Card], about: str) -> None:
        self.cards, self.about, self.pictures = cards, about, []
        self._draw()
        self.scroll_home(animate=False)

    def on_resize(self) -> None:
        self._draw()

    def _draw(self) -> None:
        if not self.is_mounted:
            return
        width = max(20, self.size.width - 3)
        text = Text()
        p = self.palette
        head = f"values {ABOUT[self.about]}" if self.present else "values at the last pause"
        text.append(head, f"bold {p.quiet}")
        text.append("   tab: switch\n" if width > 34 else "\n", p.quiet)
        if not self.cards:
            hint = "+ adds an expression" if self.about == "watched" else "no values here"
            hint = hint if self.present else "running: pause to see values"
            text.append(hint + "\n", p.quiet)
        self.starts = []
        self.rows = list(text.split("\n"))
        self.drawn += 1
        self._draw_cards(self.scroll_offset.y + 2 * self.size.height)
        if len(self.starts) < len(self.cards):  # first what is seen, the rest a little later
            self.set_timer(0.2, partial(self._draw_rest, self.drawn))

    def _draw_rest(self, drawn: int) -> None:
        if drawn == self.drawn:
            self._draw_cards(None)

    def _draw_cards(self, most: int | None) -> None:
        """Draws the cards not drawn yet, until there are so many rows."""
        width = max(20, self.size.width - 3)
        names = min(16, max((len(c.name) for c in self.cards), default=4))
        for card in self.cards[len(self.starts) :]:
            if most is not None and len(self.rows) > most:
                break
            self.starts.append(len(self.rows))
            one = Text()
            if self.narrow:
                self._row(one, card, names, width)
            else:
                self._card(one, card, names, width)
            self.rows += one.split("\n")
        left = len(self.cards) - len(self.starts)
        # While cards are still to be drawn the height stays as it was: a new one costs a layout of the screen.
        height = max(len(self.rows) + left, self.virtual_size.height) if left else len(self.rows)
        if height != self.virtual_size.height or self.virtual_size.width != self.size.width:
            self.virtual_size = Size(self.size.width, height)
        self.refresh()

    def render_line(self, y: int) -> Strip:
        number = y + self.scroll_offset.y
        width = self.scrollable_content_region.width or self.size.width
        base = Style(color=self.palette.text, bgcolor=self.palette.panel)
        if number >= len(self.rows):
            at = number - len(self.rows)
            if at < len(self.pictures) and self.present:
                return self.pictures[at].adjust_cell_length(width, base).crop(0, width)
            return Strip.blank(width, base)
        text = self.rows[number]
        text.end = ""
        segments = [Segment(" ", base)]
        if self.present:
            segments += [Segment(s.text, base + (s.style or Style())) for s in text.render(self.app.console)]
        else:
            segments.append(Segment(text.plain, Style(color=self.palette.quiet, bgcolor=self.palette.panel)))
        return Strip(segments).adjust_cell_length(width, base).crop(0, width)

    @property
    def room(self) -> tuple[int, int]:
        """Columns and rows that are free below the cards."""
        if self.narrow or len(self.starts) < len(self.cards):
            return 0, 0
        return self.size.width, self.size.height - len(self.rows)

    def add_picture(self, name: str, drawn: Drawn, height: int) -> None:
        """A larger picture of a value, below the cards."""
        p = self.palette
        title = Strip([Segment(f" {name}", Style(color=p.text, bgcolor=p.panel, bold=True))])
        self.pictures += [title, *drawn.canvas.strips(p.panel, p.text)[:height]]
        self.refresh()

    def on_click(self, event: events.Click) -> None:
        line = event.y + self.scroll_offset.y
        at = max((n for n, start in enumerate(self.starts) if start <= line), default=None)
        if at is None:
            return
        card = self.cards[at]
        if event.button == 3:
            self.post_message(self.MenuAsked(card.name))
        elif card.assigned:
            self.post_message(self.Opened(card.name))

    def _write_name(self, text: Text, card: Card, width: int) -> None:
        p = self.palette
        name = card.name if len(card.name) <= width else card.name[: width - 1] + "…"
        text.append(f"{name:<{width}}", Style.parse(f"bold {p.changed if card.changed else p.text}"))

    def _row(self, text: Text, card: Card, names: int, width: int) -> None:
        p = self.palette
        self._write_name(text, card, names)
        text.append(" ! " if card.nonfinite else "   ", f"bold {p.nonfinite}")
        room = max(10, width - names - 14)
        value = card.text if len(card.text) <= room else card.text[: room - 1] + "…"
        text.append(value, p.nonfinite if card.nonfinite else p.quiet if not card.assigned else p.text)
        state = "set by you" if card.hand else "new" if card.new else "changed" if card.changed else ""
        text.append(f"  {state}" if state else "", p.changed)
        text.append("\n")

    def _card(self, text: Text, card: Card, names: int, width: int) -> None:
        p = self.palette
        state = "new" if card.new else "changed" if card.changed else ""
        state = "set by you" if card.hand else state
        if state == "changed" and card.old and len(card.old) <= 14 and card.kind == "scalar":
            state = f"was {card.old}"
        value, small = card.text, card.kind in ("scalar", "none", "callable") or len(card.text) + names < width - 14
        self._write_name(text, card, names)
        text.append(" ! " if card.nonfinite else "   ", f"bold {p.nonfinite}")
        colour = p.nonfinite if card.nonfinite else p.quiet if not card.assigned else p.text
        kind = f"{card.type}" if card.kind not in ("none", "array", "frame") else ""
        remark = self.remark_of(card.name)
        kind = f"{kind}  {remark}" if kind and remark else kind or remark
        if small:
            shown = value if len(value) <= width - names - 4 else value[: max(4, width - names - 5)] + "…"
            text.append(shown, colour)
            used = names + 3 + len(shown)
            if kind and used + len(kind) + 2 + len(state) + 2 <= width:
                text.append(f"  {kind}", p.quiet)
                used += len(kind) + 2
            if card.spark and width - used - len(state) > 12:
                line = spark(decode(card.spark), card.spark_marks, min(14, width - used - len(state) - 6))
                text.append("  ")
                for sign in line:
                    text.append(sign, f"bold {p.nonfinite}" if sign == "!" else p.breakpoint)
                used += 2 + len(line)
            if state:
                text.append(f"{state:>{max(len(state) + 2, width - used)}}", p.changed)
            text.append("\n")
        else:
            mark = ": " if card.kind == "frame" and ": " in value.partition(", ")[0] else ", "
            head, _, rest = value.partition(mark) if card.kind in ("array", "frame") else ("", "", value)
            text.append(head if head else kind, colour if head else p.quiet)
            used = names + 3 + len(head or kind)
            if head and remark and used + len(remark) + 2 + len(state) + 2 <= width:
                text.append(f"  {remark}", p.quiet)
                used += len(remark) + 2
            if state:
                text.append(f"{state:>{max(len(state) + 2, width - used)}}", p.changed)
            text.append("\n")
            for piece in _wrapped(rest, width - 2, 2):
                text.append("  " + piece + "\n", colour)
        if card.picture:
            self._picture(text, card, width)

    def _picture(self, text: Text, card: Card, width: int) -> None:
        p = self.palette
        line = spark(decode(card.picture), card.marks, width - 2)
        text.append("  ")
        for sign in line:
            text.append(sign, f"bold {p.nonfinite}" if sign == "!" else p.breakpoint)
        text.append("\n")


def _wrapped(value: str, width: int, most: int) -> list[str]:
    """Text in at most `most` lines, broken at blanks."""
    lines: list[str] = []
    line = ""
    for word in value.split(" "):
        if line and len(line) + 1 + len(word) > width:
            lines.append(line)
            line = word
        else:
            line = f"{line} {word}" if line else word
    lines.append(line)
    if len(lines) > most:
        lines = [*lines[: most - 1], lines[most - 1][: width - 1] + "…"]
    return [cut(part, width) for part in lines]
