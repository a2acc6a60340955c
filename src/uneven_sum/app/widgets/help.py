"""All keys and words of a screen, searchable; and a question before what cannot be taken back."""

from __future__ import annotations

import textwrap

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import VerticalScroll
from textual.screen import ModalScreen
from textual.widgets import Input, Static

from ..shell.commands import listed
from ..shell.glossary import ALSO_CALLED, WORDS
from ..shell.keymap import Keyed
from ..shell.theme import Palette
from .fields import Field

KEY, DOES = 10, 17  # columns of a key, and of what it does


class Help(ModalScreen[None]):
    """Searchable; escape leaves."""

    DEFAULT_CSS = """
    Help { align: center middle; }
    Help VerticalScroll { width: 104; max-width: 96%; height: 90%; padding: 1 2; }
    Help VerticalScroll { background: $panel; border: solid $rule; }
    Help Input { border: none; height: 1; background: $background; margin-bottom: 1; padding: 0 1; }
    """
    AUTO_FOCUS = "Input"
    BINDINGS = [Binding("escape", "dismiss", "close")]

    def __init__(self, palette: Palette, of: Keyed) -> None:
        super().__init__()
        self.palette = palette
        self.title_ = f"Keys of {of.HEADING}"
        self.keys_ = [(of.key(c.keys), c.label, c.help) for c in listed(of.ACTIONS)]

    def compose(self) -> ComposeResult:
        with VerticalScroll():
            yield Field(placeholder="search keys and words; escape closes", compact=True)
            yield Static(self._text(""), id="all")

    def on_input_changed(self, event: Input.Changed) -> None:
        self.query_one("#all", Static).update(self._text(event.value.strip().lower()))

    def on_input_submitted(self) -> None:
        self.dismiss()

    def _text(self, wanted: str) -> Text:
        p = self.palette
        out = Text()
        keys = [k for k in self.keys_ if wanted in " ".join([*k, ALSO_CALLED.get(k[1], "")]).lower()]
        words = [w for w in WORDS if wanted in " ".join(w).lower()]
        if keys:
            out.append(f"{self.title_}\n", f"bold {p.at}")
        for key, does, more in keys:
            out.append(f"  {key:<{KEY}} ", f"bold {p.text}")
            out.append(f"{does:<{DOES}} ", p.text)
            out.append(self._folded(more, KEY + DOES + 4), p.quiet)
        if words:
            out.append("\nWords and signs\n", f"bold {p.at}")
        for word, means in words:
            out.append(f"  {word:<{KEY + 2}} ", f"bold {p.text}")
            out.append(self._folded(means, KEY + 5), p.quiet)
        if not keys and not words:
            out.append("Nothing here is called so.", p.quiet)
        return out

    def _folded(self, text: str, column: int) -> str:
        """A text that begins at a column, its further lines there too."""
        room = max(20, min(104, self.app.size.width * 96 // 100) - column - 9)
        return ("\n" + " " * column).join(textwrap.wrap(text, room)) + "\n"
