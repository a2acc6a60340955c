"""How the numbers of a Close-up are shown, and copied."""

from __future__ import annotations

from typing import TYPE_CHECKING, cast

from ..plotting.number_format import Format

if TYPE_CHECKING:
    from .screen import CloseUp


class Formatting:
    """A part of the Close-up."""

    @property
    def _c(self) -> CloseUp:
        return cast("CloseUp", self)

    def _set_format(self, how: Format) -> None:
        screen = self._c
        screen.bench.formats[screen.expression] = how
        grid = screen._grid()
        if grid is not None:
            grid.how = how
            grid.format()
            screen.on_grid_moved()
        if screen.plot_data is not None:
            screen._draw()

    def action_style(self) -> None:
        screen = self._c
        screen._set_format(screen.how.next_style())

    def action_general(self) -> None:
        """This format for all values that have none of their own."""
        screen = self._c
        screen.bench.formats[""] = screen.how
        screen.say(f"All values: {screen.how.name}")

    def action_digits(self, by: int) -> None:
        screen = self._c
        screen._set_format(screen.how.more(by))

    def action_thousands(self) -> None:
        screen = self._c
        screen._set_format(Format(screen.how.style, screen.how.digits, not screen.how.thousands))

    def action_copy(self, what: str) -> None:
        screen = self._c
        grid = screen._grid()
        if what == "facts":
            told = screen.told.get("summary", {}).get("text", "")
            text = "\n".join([f"{screen.expression}: {told}", *(f"{a}: {b}" for a, b in screen.told.get("facts", []))])
        elif grid is not None:
            text = "\t".join(grid.row_texts()) if what == "row" else grid.cell()[1]
        else:
            text = str(screen.told.get("summary", {}).get("text", ""))
        screen.bench.copy_text(text)
        screen.say(f"Copied: {text.splitlines()[0][:80] if text else 'nothing'}")
