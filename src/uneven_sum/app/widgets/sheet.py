"""The sheet: the source with words in its gutter, notes at line ends, and terms unfolded under a statement."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from dataclasses import dataclass

import msgspec
from rich.segment import Segment
from rich.style import Style
from rich.text import Text
from textual import events
from textual.geometry import Region, Size
from textual.message import Message
from textual.reactive import reactive
from textual.scroll_view import ScrollView
from textual.strip import Strip

from ...protocol import Note, Term
from ..plotting.spark import decode, spark
from ..shell.theme import Palette
from .cell_rows import CellRows
from .source_text import highlight, readable

GUTTER = 15  # columns before the source: word, lookout and its badge, line number
WORDS = {"in": " in ", "next": "next", "ran": " ran"}


@dataclass
class Row:
    """One row of the sheet: a source line, or a term under it."""

    line: int
    term: Term | None = None
    remark: str = ""
    column: int = GUTTER + 2  # where the remark begins
    output: bool = False  # the remark is an output of a cell

    @property
    def is_source(self) -> bool:
        return self.term is None and not self.remark


def _short(term: Term) -> str:
    """Of an array or a frame that does not fit, the most informative part; its shape is never left out."""
    shape = term.shape or []
    cells = " x ".join(map(str, shape))
    if "DataFrame" in term.type or "Series" in term.type or "Table" in term.type:
        size = f"{shape[0]} rows" + (f" x {shape[1]} columns" if len(shape) > 1 else "")
        return f"{size}, {term.nonfinite} missing" if term.nonfinite else size
    if term.nonfinite:
        return f"{term.nonfinite} of {cells} not finite"
    return f"{cells}: {term.value.partition(', ')[2] or term.value}"


class Sheet(ScrollView, can_focus=True, inherit_bindings=False):
    """Shows one file.  The cursor is a source line."""

    DEFAULT_CSS = "Sheet { background: $background; scrollbar-size-vertical: 1; scrollbar-size-horizontal: 0; }"
    cursor: reactive[int] = reactive(1)

    class Hovered(Message):
        """The mouse rests on a name, an attribute or an element."""

        def __init__(self, text: str) -> None:
            super().__init__()
            self.text = text

    class Pointed(Message):
        """A name is pointed at by key; its value is wanted."""

        def __init__(self, text: str) -> None:
            super().__init__()
            self.text = text

    class MenuAsked(Message):
        def __init__(self, line: int) -> None:
            super().__init__()
            self.line = line

    class TermChosen(Message):
        """A term was clicked."""

        def __init__(self, text: str) -> None:
            super().__init__()
            self.text = text

    class BreakpointAsked(Message):
        def __init__(self, line: int) -> None:
            super().__init__()
            self.line = line

    def __init__(self, palette: Palette, **kwargs: object) -> None:
        super().__init__(**kwargs)  # type: ignore[arg-type]  # a widget's id and classes
        self.palette = palette
        self.path = ""
        self.lines: list[str] = []
        self.styled: list[Text] = []
        self.at_line, self.at_end, self.word = 0, 0, ""
        self.marks: dict[int, tuple[str, bool]] = {}  # lookouts: line -> badge, on
        self.hidden: dict[int, set[int]] = {}  # of unfolded terms, those not evaluated yet
        self.notes: dict[int, Note] = {}
        self.terms: dict[int, list[Term]] = {}  # unfolded, under the last line of their statement
        self.remarks: dict[int, str] = {}
        self.rows: list[Row] = []
        self.hovered = ""
        self.pointed: tuple[int, int, str] | None = None  # by key: first and last column, and the text
        self.pointed_value = ""
        self.known_of: Callable[[int, str], str] = lambda line, term: ""  # of a term of the statement that ends there
        self.readable: list[tuple[int, int, int, int, str]] | None = None  # made when first hovered over
        self.cells = CellRows()

    # -- what is shown -------------------------------------------------------------------------------

    def show_file(self, path: str, text: str) -> None:
        if path == self.path and self.lines == text.split("\n"):
            return
        self.path, self.lines = path, text.split("\n")
        self.styled = [Text(line) for line in self.lines]
        self.notes, self.terms, self.remarks = {}, {}, {}
        self.readable = None
        self.cells.take_text(path, self.lines)
        self._rebuild()
        self.run_worker(self._highlight(path, text), exclusive=True, group="highlight")

    async def _highlight(self, path: str, text: str) -> None:
        # Not a thread that calls back: it would wait for ever for an application that has left.
        styled = await asyncio.to_thread(highlight, text, self.palette)
        if path == self.path and len(styled) >= len(self.lines):
            self.styled = styled
            self.refresh()

    def show_place(self, line: int, end: int, word: str, move: bool = True) -> None:
        """The paused (or sampled) line; 0 for none."""
        self.at_line, self.at_end, self.word = line, max(end, line), word
        if move and line:
            self.cursor = line
            self.reveal(line)
        self.refresh()

    def show_notes(self, notes: list[Note]) -> None:
        self.notes = {n.line: n for n in notes}
        self.refresh()

    def _with_known(self, line: int, term: Term) -> Term:
        """The term, with what else is known of it."""
        known = self.known_of(line, term.text)
        return msgspec.structs.replace(term, how=f"{term.how}  {known}".strip()) if known else term

    def unfold(self, line: int, terms: list[Term], remark: str = "") -> None:
        if terms:
            terms = [self._with_known(line, t) for t in terms]
            self.terms[line] = terms
            self.remarks[line] = remark
            self.hidden.pop(line, None)
        self._rebuild()

    def fold(self, line: int | None = None) -> None:
        if line is None:
            self.terms.clear()
            self.hidden.clear()
        else:
            self.terms.pop(line, None)
        self._rebuild()

    def _rebuild(self) -> None:
        self.rows = []
        for number in range(1, len(self.lines) + 1):
            if self.cells.is_folded(number):
                continue
            self.rows.append(Row(number))
            terms = self.terms.get(number, [])
            for term in terms:
                self.rows.append(Row(number, term))
                if term.how and not self._how_fits(number, term):
                    at = min(self._value_column(number) - 1, self.room - len(term.how) - 1)
                    self.rows.append(Row(number, None, term.how, max(GUTTER + 4, at)))
            if terms and self.remarks.get(number):
                self.rows.append(Row(number, None, self.remarks[number]))
            for text in self.cells.outputs_after(number):
                self.rows.append(Row(number, None, text or " ", output=True))
        self.virtual_size = Size(self.size.width, len(self.rows))
        self.refresh()

    def show_cells(self, outputs: dict[int, list[str]], notes: dict[int, str]) -> None:
        """By the number of a cell: the lines of its output, and what is to be said of when it ran."""
        if (outputs, notes) != (self.cells.outputs, self.cells.notes):
            self.cells.outputs, self.cells.notes = outputs, notes
            self._rebuild()

    def fold_cell(self) -> bool:
        """Shows the text and the output of the cursor's cell in full, or no longer; False where there is no cell."""
        known = self.cells.fold(self.cursor)
        self._rebuild()
        return known

    def _indent(self, line: int) -> int:
        source = self.lines[line - 1].expandtabs(4) if line <= len(self.lines) else ""
        return len(source) - len(source.lstrip())

    def _value_column(self, line: int) -> int:
        """Where the values of a line's terms begin."""
        indent = self._indent(line)
        room = max(12, (self.room - GUTTER - indent) * 6 // 11)
        texts = [len("  " * t.depth + t.text) for t in self.terms.get(line, [])]
        return GUTTER + indent + min(room, max(texts, default=0)) + 4

    def _how_fits(self, line: int, term: Term) -> bool:
        """Whether what an operation did to shapes and dtypes has room beside the value."""
        used = self._value_column(line) + len(term.value) + 9 * term.culprit
        used += 0 if term.shape else len(term.type) + 2
        return used + len(term.how) + 4 <= self.room

    def row_of(self, line: int) -> int:
        return next((i for i, r in enumerate(self.rows) if r.line == line), 0)

    def reveal(self, line: int) -> None:
        """Scrolls so that a line and its terms are seen, with some lines around."""
        if self.cells.is_folded(line):
            self.cells.fold(line)
            self._rebuild()
        height = self.size.height or 20
        row = self.row_of(line)
        below = len(self.terms.get(max(line, self.at_end), [])) + 2
        top, bottom = self.scroll_offset.y, self.scroll_offset.y + height
        if row < top + 2 or row + below > bottom:
            target = row - max(3, (height - below) // 2)
            culprit = next((i for i, r in enumerate(self.rows) if r.term is not None and r.term.culprit), row)
            if culprit - target >= height - 1:
                target = culprit - height + 2  # rather the culprit than the lines above
            self.scroll_to(y=max(0, target), animate=False)

    def watch_cursor(self, old: int, new: int) -> None:
        self.pointed, self.pointed_value = None, ""
        self.refresh()

    def point(self, by: int) -> None:
        """Point at the next (or the previous) name, attribute or element of the cursor line."""
        found = sorted({(c, e, t) for r, c, er, e, t in self._expressions() if r == er == self.cursor})
        if not found:
            self.pointed = None
        elif self.pointed in found:
            self.pointed = found[(found.index(self.pointed) + by) % len(found)]
        else:
            self.pointed = found[0 if by > 0 else -1]
        self.pointed_value = ""
        if self.pointed is not None:
            self.post_message(self.Pointed(self.pointed[2]))
        self.refresh()

    def show_pointed(self, text: str, value: str) -> None:
        if self.pointed is not None and self.pointed[2] == text:
            self.pointed_value = f"{text} = {value}"
            self.refresh()

    def _expressions(self) -> list[tuple[int, int, int, int, str]]:
        if self.readable is None:
            self.readable = readable(self.path, "\n".join(self.lines))
        return self.readable

    def validate_cursor(self, value: int) -> int:
        return max(1, min(value, len(self.lines) or 1))

    def move(self, by: int) -> None:
        self.cursor = self.cells.visible(max(1, min(self.cursor + by, len(self.lines) or 1)), by)
        row, height = self.row_of(self.cursor), self.size.height
        if row < self.scroll_offset.y:
            self.scroll_to(y=row, animate=False)
        elif row >= self.scroll_offset.y + height:
            self.scroll_to(y=row - height + 1, animate=False)

    def on_resize(self, event: events.Resize) -> None:
        self._rebuild()
        if self.at_line:
            self.reveal(self.at_line)

    @property
    def room(self) -> int:
        """Columns for text: without the scrollbar."""
        return self.scrollable_content_region.width or self.size.width

    # -- drawing -------------------------------------------------------------------------------------

    def render_line(self, y: int) -> Strip:
        p = self.palette
        number = y + self.scroll_offset.y
        width = self.room
        if number >= len(self.rows):
            return Strip.blank(width, Style(bgcolor=p.ground))
        row = self.rows[number]
        if row.term is not None:
            text = self._term_row(row)
        elif row.output:
            text = Text(" " * (GUTTER - 3) + "→  ", p.quiet)
            text.append(row.remark, p.text)
        elif row.remark:
            own = row.column > GUTTER + 2
            text = Text(" " * (GUTTER - 3) + ("╎" if own else " "), Style.parse(p.quiet))
            text.append(" " * (row.column - GUTTER + 2) + row.remark, p.changed if own else p.quiet)
        else:
            rule = self.cells.rule(row.line)
            text = self._source_row(row.line) if rule is None else self._rule(row.line, *rule)
        here = self.at_line and self.at_line <= row.line <= self.at_end and row.is_source
        back = p.tint if here else p.cursor if row.line == self.cursor and row.is_source else p.ground
        text.truncate(width, overflow="ellipsis")
        base = Style(color=p.text, bgcolor=back)
        segments = [Segment(s.text, base + (s.style or Style())) for s in text.render(self.app.console)]
        return Strip(segments).adjust_cell_length(width, base).crop(0, width)

    def _rule(self, line: int, words: str, note: str) -> Text:
        """The line above a cell."""
        p = self.palette
        out = Text(" " * (GUTTER - 3), end="")
        out.append("›" if line == self.cursor else "─", p.text if line == self.cursor else p.rule)
        out.append("─ ", p.rule)
        out.append(words, p.quiet)
        if note:
            out.append(f"  {note}", p.warning)
        out.append(" " + "─" * max(0, self.room - out.cell_len - 1), p.rule)
        return out

    def _source_row(self, line: int) -> Text:
        p = self.palette
        out = Text(end="")
        word = WORDS.get(self.word, "    ") if line == self.at_line else "    "
        out.append(f" {word} ", f"bold {p.at}")
        badge, on = self.marks.get(line, ("", True))
        sign = "‖" if line in self.marks else " "
        out.append(f"{sign}{badge:<3.3}", f"bold {p.breakpoint}" if on else f"strike {p.quiet}")
        sign = "›" if line == self.cursor else " "
        out.append(f"{self.cells.label(line):>4}{sign} ", p.text if line == self.cursor else p.quiet)
        styled = self.styled[line - 1].copy() if line <= len(self.styled) else Text()
        own = self.cells.text_of(line)
        styled = styled if own is None else Text(own, f"italic {p.quiet}")
        if line == self.cursor and self.pointed is not None:
            data = self.lines[line - 1].encode()
            first, last = (len(data[:n].decode(errors="replace")) for n in self.pointed[:2])
            styled.stylize(f"bold underline {p.at}", first, last)
        styled.expand_tabs(4)
        out.append_text(styled)
        if line == self.cursor and self.pointed_value:
            room = max(8, self.room - out.cell_len - 3)
            value = self.pointed_value
            out.append("   " + (value if len(value) <= room else value[: room - 1] + "…"), p.at)
            return out
        note = self.notes.get(line)
        if note is not None and (
            line != self.at_line or note.text.startswith("pass ")
        ):  # else it is of an earlier pass
            room = self.room - out.cell_len - 3
            if room > 8:
                out.append("   ")
                sign = "! " if note.nonfinite else ""
                count = "" if note.count is None else f"{note.count} time{'s' * (note.count != 1)}  "
                text = f"{count}{sign}{note.text}"
                out.append(
                    text if len(text) <= room else text[: room - 1] + "…", p.nonfinite if note.nonfinite else p.quiet
                )
                if note.spark and room - len(text) > 10:
                    out.append("  ")
                    for mark in spark(decode(note.spark), note.spark_marks, 8):
                        out.append(mark, f"bold {p.nonfinite}" if mark == "!" else p.breakpoint)
        return out

    def _term_row(self, row: Row) -> Text:
        p, term = self.palette, row.term
        assert term is not None
        terms = self.terms.get(row.line, [])
        indent = self._indent(row.line)
        width = self._value_column(row.line) - GUTTER - indent - 4
        text = "  " * term.depth + term.text
        out = Text(" " * (GUTTER - 3) + "╎  ", p.quiet, end="")
        out.append(" " * indent)
        out.append(f"{text if len(text) <= width else text[: width - 1] + '…':<{width}}", p.text)
        if any(t is term for n, t in enumerate(terms) if n in self.hidden.get(row.line, ())):
            out.append("    ·", p.quiet)
            return out
        bad = bool(term.nonfinite) or term.culprit
        out.append("  ! " if bad else "    ", f"bold {p.nonfinite}")
        kind = f"  {term.type}" if term.type and not term.shape else ""
        end = "  culprit" if term.culprit else ""
        how = f"  {term.how}" if term.how and self._how_fits(row.line, term) else ""
        room = self.room - out.cell_len - len(end) - len(how) - 1
        kind = kind if len(term.value) + len(kind) <= room else ""
        value = term.value
        if term.shape and len(value) > room:
            value = _short(term)
        value = value if len(value) <= room else value[: max(3, room - 1)] + "…"
        out.append(value, p.nonfinite if bad else p.text)
        out.append(kind, p.quiet)
        out.append(end, f"bold {p.nonfinite}")
        out.append(how, p.changed)
        return out

    # -- mouse ---------------------------------------------------------------------------------------

    def on_click(self, event: events.Click) -> None:
        number = event.y + self.scroll_offset.y
        if number < len(self.rows):
            line, term = self.rows[number].line, self.rows[number].term
            self.cursor = line
            if term is not None:
                self.post_message(self.TermChosen(term.text))
            elif event.button == 3:
                self.post_message(self.MenuAsked(line))
            elif event.x < GUTTER - 2 and self.rows[number].term is None:
                self.post_message(self.BreakpointAsked(line))

    def on_mouse_move(self, event: events.MouseMove) -> None:
        text = self.expression_at(event.x, event.y)
        if text != self.hovered:
            self.hovered = text
            self.tooltip = None
            if text:
                self.post_message(self.Hovered(text))

    def expression_at(self, x: int, y: int) -> str:
        """The name, attribute or element at a place of the screen, as written."""
        number = y + self.scroll_offset.y
        if number >= len(self.rows) or not self.rows[number].is_source or x < GUTTER:
            return ""
        line = self.rows[number].line
        before = self.lines[line - 1].expandtabs(4)[: x - GUTTER]
        place = (line, len(before.encode()))
        here = [r for r in self._expressions() if r[:2] <= place < r[2:4]]
        return min(here, key=lambda r: (r[2] - r[0], len(r[4])))[4] if here else ""

    def word_at_cursor(self) -> str:
        """The name that the cursor line defines or begins with."""
        text = self.lines[self.cursor - 1].strip() if self.lines else ""
        words = [w for w in text.replace("(", " ").split() if w.isidentifier()]
        return words[1] if len(words) > 1 and words[0] in ("def", "class") else ""

    def region_of(self, line: int) -> Region:
        return Region(0, self.row_of(line) - self.scroll_offset.y, self.size.width, 1)
