"""How the numbers of a Close-up are shown, and copied."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ...safe_text import cut
from ..plotting.number_format import Format
from ..shell.controller import Controller

if TYPE_CHECKING:
    from .screen import CloseUp


class Formatting(Controller["CloseUp"]):
    """A controller of the Close-up."""

    screen: CloseUp

    def set_format(self, how: Format) -> None:
        screen = self.screen
        screen.bench.formats[screen.expression] = how
        grid = screen.grid()
        if grid is not None:
            grid.how = how
            grid.format()
            screen.on_grid_moved()
        if screen.plot_data is not None:
            screen.plotting.draw()

    def action_style(self) -> None:
        screen = self.screen
        self.set_format(screen.how.next_style())

    def action_general(self) -> None:
        """This format for all values that have none of their own."""
        screen = self.screen
        screen.bench.formats[""] = screen.how
        screen.say(f"All values: {screen.how.name}")

    def action_digits(self, by: int) -> None:
        screen = self.screen
        self.set_format(screen.how.more(by))

    def action_thousands(self) -> None:
        screen = self.screen
        self.set_format(Format(screen.how.style, screen.how.digits, not screen.how.thousands))

    def action_copy(self, what: str) -> None:
        screen = self.screen
        grid = screen.grid()
        if what == "facts":
            told = screen.told.get("summary", {}).get("text", "")
            text = "\n".join([f"{screen.expression}: {told}", *(f"{a}: {b}" for a, b in screen.told.get("facts", []))])
        elif grid is not None:
            text = "\t".join(grid.row_texts()) if what == "row" else grid.cell()[1]
        else:
            text = str(screen.told.get("summary", {}).get("text", ""))
        screen.bench.copy_text(text)
        screen.say(f"Copied: {cut(text.splitlines()[0], 80) if text else 'nothing'}")
