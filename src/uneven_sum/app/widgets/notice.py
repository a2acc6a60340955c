"""The line in which a screen says what a key did: it covers nothing, and goes with the next key."""

from __future__ import annotations

from rich.text import Text
from textual.timer import Timer
from textual.widgets import Static

from ..shell.theme import Palette

LONGEST = 12.0  # seconds that it stays


class Notice(Static):
    """Empty, it takes no room."""

    DEFAULT_CSS = """
    Notice { display: none; height: auto; max-height: 3; width: 100%; padding: 0 1; background: $panel; }
    Notice.shown { display: block; }
    """

    def __init__(self, palette: Palette, **kwargs: object) -> None:
        super().__init__(**kwargs)  # type: ignore[arg-type]  # a widget's id and classes
        self.palette = palette
        self.timer: Timer | None = None

    def say(self, message: str, severity: str = "information") -> None:
        p = self.palette
        word, colour = {"warning": ("warning  ", p.warning), "error": ("error  ", p.error)}.get(severity, ("", p.text))
        self.update(Text.assemble((word, f"bold {colour}"), (message, p.text)))
        self.add_class("shown")
        if self.timer is not None:
            self.timer.stop()
        self.timer = self.set_timer(LONGEST, self.clear)

    def clear(self) -> None:
        self.remove_class("shown")
